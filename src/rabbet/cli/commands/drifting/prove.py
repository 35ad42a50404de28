"""Try how new it can be, and whether bounds are true.

Runs a command, such as the project's tests, in throw-away environments; the project's own stays as it is.
--newest raises the lock as far as the command passes, and keeps back what breaks it. The lock is written once
you agree. What was tried is remembered until the lock, the code or the command changes.

Exit code 0: raised, or nothing to raise. 1: something was kept back, or the command fails already.
"""

from argparse import REMAINDER, ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import USUAL_LIMIT, add_json, add_offline, add_several, add_variant
from rabbet.errors import ExitCode, WrongUsage

_MODES = ("newest",)
_EXAMPLE = "rabbet prove --newest -- python -m unittest"
_MOST_JOBS = 64


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    mode = parser.add_mutually_exclusive_group()
    mode.add_argument("--newest", action="store_true", help="raise the lock as far as the command passes")
    add_several(parser, "--raise", "LIBRARY", "--newest: raise these alone", dest="raised")
    parser.add_argument("--one-by-one", action="store_true", help="--newest: commit lock by lock, with git")
    parser.add_argument("--plan", action="store_true", help="show what was found, and write nothing")
    parser.add_argument("--yes", action="store_true", help="ask nothing, write")
    parser.add_argument(
        "--time-limit",
        metavar="SECONDS",
        type=int,
        default=USUAL_LIMIT,
        help="how long the command may run (default: %(default)s)",
    )
    parser.add_argument(
        "--repeat", metavar="N", type=int, default=1, help="run it N times in each environment"
    )
    parser.add_argument(
        "--jobs", metavar="N", type=int, default=1, help="try N environments at once (default: %(default)s)"
    )
    parser.add_argument("--fresh", action="store_true", help="try all, also what is remembered")
    add_variant(parser)
    add_offline(parser)
    add_json(parser)
    parser.add_argument("command", nargs=REMAINDER, help="the command with its arguments, behind --")


def run(arguments: Namespace, context: Context) -> int:
    """Prove what was asked for."""
    words = arguments.command[1:] if arguments.command[:1] == ["--"] else arguments.command
    _refuse_wrong(arguments, words)
    return _newest(arguments, words, context)


def _newest(arguments: Namespace, words: list[str], context: Context) -> int:
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.cli.views.drifting.prove import outcome, show_newest, show_steps
    from rabbet.core.prove.newest import NewestAnswer
    from rabbet.documents.drifting.prove import NewestDocument
    from rabbet.tasks.drifting.prove import (
        ProveOptions,
        prove_newest,
        refuse_uncommitted,
        save_lock,
        save_one_by_one,
    )

    session = context.session(arguments.variant)
    options = ProveOptions(
        seconds=arguments.time_limit,
        repeat=arguments.repeat,
        jobs=arguments.jobs,
        afresh=arguments.fresh,
    )
    if arguments.one_by_one:
        refuse_uncommitted(session)
    found, costs = prove_newest(session, words, arguments.raised, options)
    if not arguments.json:
        show_newest(found, costs, context)
    wanted = found.lock is not None and not arguments.plan
    written = wanted and agreed(context, "Write this lock?", yes=arguments.yes, may_ask=not arguments.json)
    if written and found.lock is not None:
        if arguments.one_by_one:
            show_steps(save_one_by_one(session, found, words, options), context, quiet=arguments.json)
        else:
            save_lock(session, found.lock)
    if arguments.json:
        context.show_json(NewestDocument(found, costs, written))
    else:
        for line in outcome(found, arguments, session, written=written):
            context.show(line)
    whole = found.verdict.answer in (NewestAnswer.ALL, NewestAnswer.NOTHING)
    return ExitCode.DONE if whole and (written or not wanted) else ExitCode.NO


def _refuse_wrong(arguments: Namespace, words: list[str]) -> None:
    """Raise `WrongUsage` for what can't be proven."""
    if not any(getattr(arguments, mode) for mode in _MODES):
        raise WrongUsage("what is to be proven was not said", remedy=_EXAMPLE)
    if not words:
        raise WrongUsage("no command was given that has to pass", remedy=_EXAMPLE)
    for name, value, most in (
        ("--repeat", arguments.repeat, 1000),
        ("--jobs", arguments.jobs, _MOST_JOBS),
        ("--time-limit", arguments.time_limit, 10**6),
    ):
        if not 1 <= value <= most:
            raise WrongUsage(f"{name} takes a number from 1 to {most}, not {value}", remedy=_EXAMPLE)
