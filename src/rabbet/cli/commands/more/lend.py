"""Make a library's commands available in every folder.

Installs the library into an environment of its own, locked, and puts launchers of its commands into your
folder for programs (~/.local/bin, or --to). With --in, they come from a place that exists. Alone: what is
lent. A launcher starts the command itself, and never replaces a program that Rabbet did not put there.
With --runtime, the programs of a runtime are lent; inside environments these are left out.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline
from rabbet.core.shell import quoted
from rabbet.core.shown_text import some_of
from rabbet.errors import ExitCode, WrongUsage


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("library", nargs="?", help="a library, such as mitewatch or 'mitewatch>=2'")
    parser.add_argument("--runtime", metavar="RUNTIME", help="lend a runtime's programs, such as 'node 20'")
    parser.add_argument("--to", metavar="FOLDER", help="put the launchers here")
    parser.add_argument(
        "--raise",
        dest="raise_all",
        action="store_true",
        help="update what is lent, or the library that is named; one that does not start is put back",
    )
    parser.add_argument("--back", action="store_true", help="take launchers back")
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Lend, list, raise or take back."""
    from rabbet.cli.views.more.lend import LentView, RaisedView
    from rabbet.core.needs.names import library_name
    from rabbet.core.needs.need import Need
    from rabbet.formats.text.requirement import parse_requirement
    from rabbet.tasks.more.lend import lend, lend_from, lent, raise_lent

    machine = context.machine
    _refuse_both(arguments)
    if arguments.raise_all:
        names = [library_name(arguments.library)] if arguments.library else []
        found = tuple(raise_lent(names, machine, context.observer))
        context.present(RaisedView(found), as_json=arguments.json)
        return ExitCode.NO if any(raised.kept for raised in found) else ExitCode.DONE
    if arguments.back:
        return _take_back(arguments, context)
    if arguments.runtime:
        return _lend_runtime(arguments, context)
    if arguments.library is None:
        context.present(LentView(tuple(lent(machine))), as_json=arguments.json)
        return ExitCode.DONE
    need: Need = parse_requirement(arguments.library)
    if context.place is None:
        made = lend(need, arguments.to, machine, context.observer)
    else:
        made = lend_from(context.session(), context.place.everywhere, need.name, arguments.to)
    context.present(LentView((made,), new=True), as_json=arguments.json)
    return ExitCode.DONE


def _refuse_both(arguments: Namespace) -> None:
    """Raise `WrongUsage` for a library and a runtime at once, and for a runtime to raise."""
    if arguments.runtime and arguments.library:
        raise WrongUsage(
            "a library and a runtime are lent one after the other",
            remedy=f"rabbet lend --runtime {quoted(arguments.runtime)}",
        )
    if arguments.runtime and arguments.raise_all:
        raise WrongUsage(
            "--raise is for libraries: a runtime that is lent again gives the newest on this machine",
            remedy=f"rabbet lend --runtime {quoted(arguments.runtime)}",
        )


def _lend_runtime(arguments: Namespace, context: Context) -> int:
    from rabbet.cli.views.more.lend import LentView
    from rabbet.tasks.more.lend import lend_runtime

    made = lend_runtime(arguments.runtime, arguments.to, context.project_if_any(), context.machine)
    context.present(LentView((made,), new=True), as_json=arguments.json)
    return ExitCode.DONE


def _take_back(arguments: Namespace, context: Context) -> int:
    from rabbet.core.needs.names import library_name
    from rabbet.formats.text.requirement import parse_runtime
    from rabbet.tasks.more.lend import take_back
    from rabbet.workspace.lent import runtime_key

    if arguments.runtime:
        key = runtime_key(parse_runtime(arguments.runtime).name)
    elif arguments.library is None:
        raise WrongUsage("no library was named", remedy="rabbet lend")
    else:
        key = library_name(arguments.library)
    note = take_back(key, context.machine)
    context.show(f"Took back {some_of(note.commands, 5)} from {note.folder}.")
    return ExitCode.DONE
