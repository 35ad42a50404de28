"""Find the library that broke a command.

Takes a state in which the command works and one in which it fails, and tries combinations of the two until it
has the smallest set of changes that makes the command fail. Each combination is consistent, and gets a
temporary environment; the project's own stays as it is. Rabbet does not undo what the command itself writes.
An interrupted search continues where it stopped.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import STATES, add_json, add_offline, add_trying, add_variant, tried_command
from rabbet.errors import ExitCode, WrongUsage

_EXAMPLE = "rabbet culprit --good git:HEAD~1 -- python -m unittest"


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("--good", metavar="STATE", help=f"a state in which the command works: {STATES}")
    parser.add_argument(
        "--bad",
        metavar="STATE",
        help="one in which it does not, in the same form (default: the present lock)",
    )
    parser.add_argument(
        "--fails-with", metavar="TEXT", help="it is the failure only if the output has this text"
    )
    parser.add_argument(
        "--exit-code", metavar="NUMBER", type=int, help="it is the failure only with this exit code"
    )
    parser.add_argument(
        "--keep", metavar="FOLDER", help="keep the smallest passing and failing environments in this folder"
    )
    parser.add_argument("--start-over", action="store_true", help="ignore what an interrupted search found")
    add_variant(parser)
    add_offline(parser)
    add_json(parser)
    add_trying(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Search, and tell what was found."""
    if arguments.good is None:
        raise WrongUsage("no state was given in which the command works", remedy=_EXAMPLE)
    words = tried_command(arguments, "no command was given to find the culprit with", _EXAMPLE)
    from rabbet.cli.views.drifting.culprit import CulpritView
    from rabbet.core.culprit.verdict import SearchAnswer
    from rabbet.tasks.drifting.culprit import CulpritOptions, culprit

    session = context.session(arguments.variant)
    options = CulpritOptions(
        text=arguments.fails_with or "",
        code=arguments.exit_code,
        seconds=arguments.time_limit,
        repeat=arguments.repeat,
        jobs=arguments.jobs,
        start_over=arguments.start_over,
        keep=context.machine.folder / arguments.keep if arguments.keep else None,
    )
    bad = arguments.bad if arguments.bad is not None else str(session.project.lock_file)
    case = culprit(session, arguments.good, bad, words, options)
    context.present(CulpritView(case, arguments), as_json=arguments.json)
    return ExitCode.DONE if case.verdict.answer is SearchAnswer.FOUND else ExitCode.NO
