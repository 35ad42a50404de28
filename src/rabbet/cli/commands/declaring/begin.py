"""Start a project in this folder.

Writes pyproject.toml in the current folder, or completes the one that is there. On a terminal it asks for
what was not given, tries the source, and shows the file before it writes it. With --named it begins a project
that lies in no folder of yours, for work that belongs to none: every command finds it by --in NAME.
"""

from argparse import ArgumentParser, Namespace
from contextlib import closing
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_now, add_offline, add_several
from rabbet.core.shell import joined_words, quoted
from rabbet.disk.named import path_named
from rabbet.errors import ExitCode, RabbetError, WrongUsage
from rabbet.workspace.project import Project

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rabbet.core.declaration.model import Declaration
    from rabbet.tasks.declaring.begin import Answers, Draft


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "libraries", metavar="library", nargs="*", help="first libraries, such as 'nectarplot>=2'"
    )
    parser.add_argument("--name", help="the project's name (default: the folder's)")
    parser.add_argument(
        "--named", metavar="NAME", help="not here: a project that has a name and no folder, for `--in NAME`"
    )
    add_several(
        parser, "--from", "PATH", "with --named: take over a lock, a list or a declaration", dest="places"
    )
    parser.add_argument("--runtime", metavar="CONSTRAINT", help="such as 'python>=3.11'")
    parser.add_argument("--source", metavar="ADDRESS", help="the address of an index, or a folder of wheels")
    parser.add_argument("--yes", action="store_true", help="ask nothing, use the defaults")
    add_now(parser, "also resolve and recreate: all or nothing")
    add_offline(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Begin in this folder, or a project that has a name."""
    try:
        return _begun(arguments, context)
    except RabbetError as error:
        if context.at_once(arguments) and not isinstance(error, WrongUsage):
            error.undone = frozenset(["pyproject.toml"])
        raise


def _begun(arguments: Namespace, context: Context) -> int:
    if arguments.named is not None:
        return _begin_named(arguments, context)
    if arguments.places:
        raise WrongUsage(
            "--from goes with --named; in a folder, another command takes over what is there",
            remedy=f"rabbet adopt {' '.join(f'--from {quoted(place)}' for place in arguments.places)}",
        )
    return _begin(arguments, context)


def _begin_named(arguments: Namespace, context: Context) -> int:
    """Begin a project that has a name, in the user's folder for data; if that fails there is none."""
    from rabbet.workspace.places import Place, folder_for

    machine, given = context.machine, tuple(arguments.places)
    for number, place in enumerate(arguments.places):
        arguments.places[number] = str(path_named(place, machine.folder))
    if arguments.source is not None and "://" not in arguments.source:
        arguments.source = str(path_named(arguments.source, machine.folder))
    arguments.name = arguments.name or arguments.named
    with machine.store.claimed(f"named {arguments.named}"), folder_for(arguments.named, machine) as folder:
        place = Place(arguments.named, Project(folder), named=True)
        with closing(machine.at(folder)) as there:
            inside = context._replace(machine=there, place=place)
            if not arguments.places:
                return _begin(arguments, inside)
            if place.project.declaration_file.exists():
                raise WrongUsage(
                    f"there is a project called '{arguments.named}' already, and --from begins a new one",
                    remedy=joined_words(["rabbet", "adopt", "--in", arguments.named, "--from", *given]),
                )
            return _begin_from(arguments, inside)


def _begin_from(arguments: Namespace, context: Context) -> int:
    """Take over what is at some places, then what was given beside them: all or nothing."""
    from rabbet.cli.views.declaring.adopt import outcome, show_adopting
    from rabbet.tasks.declaring.adopt import adopting, save
    from rabbet.tasks.recreating.now import files_put_back

    drawn_up = adopting(context.machine, context.observer, arguments.places)
    show_adopting(drawn_up, context)
    with files_put_back(context.session()):
        save(drawn_up)
        if arguments.libraries or arguments.source or arguments.runtime:
            return _begin(arguments, context)
        if not context.at_once(arguments):
            context.show(outcome(drawn_up, arguments.places, written=True))
            return ExitCode.DONE
        return _bring_up(f"Wrote {drawn_up.project.declaration_file.name}.", context)


def _begin(arguments: Namespace, context: Context) -> int:
    """Collect the answers and write the file."""
    from rabbet.cli.terminal.interview import asked, given
    from rabbet.tasks.declaring.begin import draft, existing
    from rabbet.workspace.evidence.signs import signs_of_work

    signs = [] if arguments.libraries else signs_of_work(context.machine.folder)
    asking = context.interactive and not arguments.yes
    present = existing(context.machine.folder)
    if asking and present is None and signs and _adopted(signs, context):
        return ExitCode.DONE
    answers = (asked if asking else given)(arguments, context, present)
    written = draft(context.machine.folder, answers)
    following = _following(answers, present, context)
    if not written.changed:
        return _begun_before(arguments, context, following)
    if asking and not _agreed(written, context):
        return ExitCode.NO
    _write(written, answers, context, now=context.at_once(arguments), following=following)
    if signs and not answers.needs:
        context.show(f"To take over what is here already ({', '.join(signs)}): rabbet adopt")
    return ExitCode.DONE


def _begun_before(arguments: Namespace, context: Context, following: str) -> int:
    """Tell that the file has all of it, and go on where that is asked for."""
    if not context.at_once(arguments):
        context.show(f"pyproject.toml has that already. {following}")
        return ExitCode.DONE
    return _bring_up("pyproject.toml has that already.", context)


def _bring_up(told: str, context: Context) -> int:
    """Resolve and recreate, and tell both."""
    from rabbet.cli.views.recreating.now import BroughtUpView
    from rabbet.tasks.recreating.now import bring_up_to_date

    brought = bring_up_to_date(context.session())
    context.show(told)
    context.present(BroughtUpView(brought), as_json=False)
    return ExitCode.DONE


def _agreed(written: "Draft", context: Context) -> bool:
    """Show the file as it would be, and ask."""
    from rabbet.cli.terminal.interview import show_draft
    from rabbet.cli.terminal.prompt import confirm

    show_draft(written, context)
    agreed = confirm(context, "Write this file?")
    if not agreed:
        context.show("Nothing was written.")
    return agreed


def _write(written: "Draft", answers: "Answers", context: Context, *, now: bool, following: str) -> None:
    """Write the file; `now` resolve and recreate, too: all of it or nothing."""
    from rabbet.tasks.declaring.begin import save, save_now, unfit_runtime

    unfit = unfit_runtime(answers.python, context.machine)
    if unfit:
        context.show(unfit)
    verb = "Wrote" if written.before is None else "Completed"
    if not now:
        save(written)
        context.show(f"{verb} {written.path.name}. {following}")
        return
    brought = save_now(written, context.machine, context.observer)
    from rabbet.cli.views.recreating.now import BroughtUpView

    context.show(f"{verb} {written.path.name}.")
    context.present(BroughtUpView(brought), as_json=False)


def _adopted(signs: "Sequence[str]", context: Context) -> bool:
    """Offer to draw the declaration up from what is here; whether that was done."""
    from rabbet.cli.commands.declaring.adopt import run as adopt
    from rabbet.cli.terminal.prompt import confirm

    if not confirm(context, f"Draw the declaration up from what is here ({', '.join(signs)})?"):
        return False
    adopt(Namespace(places=[], plan=False, yes=False, json=False), context)
    return True


def _following(answers: "Answers", present: "Declaration | None", context: Context) -> str:
    """The next command: one that supplies what resolving still lacks, else the one that resolves."""
    from rabbet.workspace.known_sources import FOR_PROJECT, users_source

    known = answers.source or (present and present.sources) or users_source(context.machine)
    if not known:
        return f"No source of libraries is known yet. Next: {FOR_PROJECT}"
    declared = answers.needs or (present and (present.by_build or any(True for _ in present.declared())))
    return "Next: rabbet resolve --now" if declared else "Next: rabbet declare LIBRARY --now"
