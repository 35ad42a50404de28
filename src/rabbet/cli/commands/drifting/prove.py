"""Try how new it can be, and whether bounds are true.

Runs a command, such as the project's tests, in throw-away environments; the project's own stays as it is.
--newest raises the lock as far as the command passes, and keeps back what breaks it. --bounds finds the
oldest and newest release of each declared library with which it passes. --everywhere tries all combinations
that are promised. Nothing is written before you agree. What was tried is remembered until libraries, code or
command change.

Exit code 0: all of it passes, or nothing is to be changed. 1: something was kept back, is false, or fails.
"""

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline, add_several, add_trying, add_variant, tried_command
from rabbet.core.shell import joined_words
from rabbet.errors import ExitCode, WrongUsage

if TYPE_CHECKING:
    from rabbet.tasks.drifting.prove import ProveOptions

_MODES = ("newest", "bounds", "everywhere")
_ONLY = {  # the options that count for some kinds of proofs alone
    "picture": ("everywhere",),
    "page": ("everywhere",),
    "only": ("bounds",),
    "raising": ("newest",),
    "one_by_one": ("newest",),
    "plan": ("newest", "bounds"),
    "yes": ("newest", "bounds"),
}
_EXAMPLE = "rabbet prove --newest -- python -m unittest"


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    mode = parser.add_mutually_exclusive_group()
    mode.add_argument("--newest", action="store_true", help="raise the lock as far as the command passes")
    mode.add_argument("--bounds", action="store_true", help="find which declared bounds are true")
    mode.add_argument(
        "--everywhere", action="store_true", help="try every variant, Python, lowest, locked and newest"
    )
    parser.add_argument("--picture", metavar="FILE", help="--everywhere: draw the matrix, as PNG")
    parser.add_argument("--page", metavar="FILE", help="--everywhere: write it as a page")
    add_several(parser, "--only", "LIBRARY", "--bounds: look at these alone")
    add_several(parser, "--raise", "LIBRARY", "--newest: raise these alone", dest="raising")
    parser.add_argument("--one-by-one", action="store_true", help="--newest: commit lock by lock, with git")
    parser.add_argument("--plan", action="store_true", help="show what was found, and write nothing")
    parser.add_argument("--yes", action="store_true", help="ask nothing, write")
    parser.add_argument("--fresh", action="store_true", help="try all, also what is remembered")
    add_variant(parser)
    add_offline(parser)
    add_json(parser)
    add_trying(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Prove what was asked for."""
    words = _words(arguments)
    kinds = {"newest": _newest, "bounds": _bounds, "everywhere": _everywhere}
    return next(kind for name, kind in kinds.items() if getattr(arguments, name))(arguments, words, context)


def _everywhere(arguments: Namespace, words: list[str], context: Context) -> int:
    from rabbet.cli.views.drifting.prove import MatrixPrinter, matrix_sheet, show_everywhere
    from rabbet.documents.drifting.prove import EverywhereDocument
    from rabbet.tasks.drifting.prove import Everywhere
    from rabbet.team.drawing import write_drawn

    session = context.session(arguments.variant)
    declaration = session.declaration()
    work = Everywhere(session, words, _options(arguments))
    printer = None if arguments.json else MatrixPrinter([*declaration.variants], context)
    rows = []
    for row in work.rows():
        rows.append(row)
        if printer is not None:
            printer.row(row)
    folder = context.machine.folder
    picture, page = (folder / name if name else None for name in (arguments.picture, arguments.page))
    sheet = matrix_sheet(rows, declaration.name, words)
    drawn = write_drawn(sheet, session.project.folder, picture=picture, page=page)
    if arguments.json:
        context.show_json(EverywhereDocument(rows, words, work.costs))
    else:
        show_everywhere(rows, work.costs, drawn, context)
    cells = [cell.passes for row in rows for cell in row.cells]
    return ExitCode.NO if False in cells or True not in cells else ExitCode.DONE


def _bounds(arguments: Namespace, words: list[str], context: Context) -> int:
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.cli.views.drifting.prove import bounds_outcome, show_bounds
    from rabbet.documents.drifting.prove import BoundsDocument
    from rabbet.tasks.drifting.prove import prove_bounds

    project = context.rabbet(arguments.variant)
    found, costs = prove_bounds(project.session, words, arguments.only, _options(arguments))
    if not arguments.json:
        show_bounds(found, costs, context)
    written = (
        bool(found.edits)
        and not arguments.plan
        and agreed(context, "Declare these bounds?", yes=arguments.yes, may_ask=not arguments.json)
    )
    if written:
        project.edit(found.edits)
    if arguments.json:
        context.show_json(BoundsDocument(found, costs, written))
    else:
        for line in bounds_outcome(found, arguments, written=written):
            context.show(line)
    return ExitCode.NO if found.fails_now or found.joint is False or found.edits else ExitCode.DONE


def _options(arguments: Namespace) -> "ProveOptions":
    from rabbet.tasks.drifting.prove import ProveOptions

    return ProveOptions(
        seconds=arguments.time_limit,
        repeat=arguments.repeat,
        jobs=arguments.jobs,
        afresh=arguments.fresh,
    )


def _newest(arguments: Namespace, words: list[str], context: Context) -> int:
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.cli.views.drifting.prove import outcome, show_newest, show_steps
    from rabbet.core.prove.newest import NewestAnswer
    from rabbet.documents.drifting.prove import NewestDocument
    from rabbet.tasks.drifting.prove import (
        prove_newest,
        refuse_uncommitted,
        save_lock,
        save_one_by_one,
    )

    session = context.session(arguments.variant)
    options = _options(arguments)
    if arguments.one_by_one:
        refuse_uncommitted(session)
    session.lock()  # without one there is nothing to raise
    before = session.project.lock_stamp()
    found, costs = prove_newest(session, words, arguments.raising, options)
    if not arguments.json:
        show_newest(found, costs, context)
    wanted = found.lock is not None and not arguments.plan
    written = wanted and agreed(context, "Write this lock?", yes=arguments.yes, may_ask=not arguments.json)
    if written and found.lock is not None:
        if arguments.one_by_one:
            show_steps(save_one_by_one(session, found, words, options, before), context, quiet=arguments.json)
        else:
            save_lock(session, found.lock, before)
    if arguments.json:
        context.show_json(NewestDocument(found, costs, written))
    else:
        for line in outcome(found, arguments, session, written=written):
            context.show(line)
    whole = found.verdict.answer in (NewestAnswer.ALL, NewestAnswer.NOTHING)
    return ExitCode.DONE if whole and (written or not wanted) else ExitCode.NO


def _words(arguments: Namespace) -> list[str]:
    """The command's words. Raises `WrongUsage` for what can't be proven."""
    kind = next((mode for mode in _MODES if getattr(arguments, mode)), None)
    if kind is None:
        raise WrongUsage("what is to be proven was not said", remedy=_EXAMPLE)
    words = tried_command(arguments, "no command was given that has to pass", _EXAMPLE)
    for option, kinds in _ONLY.items():
        if getattr(arguments, option) and kind not in kinds:
            name = {"raising": "--raise", "one_by_one": "--one-by-one"}.get(option, f"--{option}")
            raise WrongUsage(
                f"{name} means nothing to --{kind}",
                because=[f"it is for: {', '.join(f'--{one}' for one in kinds)}"],
                remedy=joined_words(["rabbet", "prove", f"--{kind}", "--", *words]),
            )
    return words
