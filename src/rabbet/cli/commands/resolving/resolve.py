"""Choose every version and write the lock.

Chooses the newest releases that meet every requirement, and writes them with their files and hashes into
pylock.toml, for every version of Python that the project allows. A locked version stays where a solution
allows that. --lowest and --as-of only show a result, unless --keep or a variant is given.

Rules on what may be locked (see: rabbet rules) leave fewer releases to choose from. A locked version that
breaks one stays, and the exit code is 1; --mend shows the fewest moves that meet the rules, and asks.
"""

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import (
    a_library,
    add_fresh_listings,
    add_json,
    add_now,
    add_offline,
    add_several,
    add_variant,
    moment,
)
from rabbet.errors import ExitCode, WrongUsage

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rabbet.core.model.options import ResolveOptions
    from rabbet.tasks.resolving.resolve import Resolved


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    add_several(parser, "--raise", "NAME", "raise these to newer releases", dest="raised", kind=a_library)
    parser.add_argument(
        "--raise-all", action="store_true", help="raise everything, also the runtime; ignores the old lock"
    )
    parser.add_argument(
        "--lowest",
        action="store_true",
        help="the lowest allowed release of each declared library, to test its bounds",
    )
    parser.add_argument("--as-of", metavar="DATE", help="resolve as if it were this date, such as 2026-05-01")
    parser.add_argument(
        "--mend", action="store_true", help="move what breaks a rule, and as little else as possible"
    )
    parser.add_argument("--yes", action="store_true", help="--mend: ask nothing")
    parser.add_argument("--plan", action="store_true", help="show what would be locked, and write nothing")
    parser.add_argument(
        "--keep", action="store_true", help="write what --lowest or --as-of found into the lock"
    )
    add_now(parser, "also recreate; if that fails, restore the lock")
    add_variant(parser, every=True)
    parser.add_argument(
        "--verify",
        action="store_true",
        help="change nothing; exit 0 if the lock is up to date, else 1",
    )
    add_fresh_listings(parser)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Resolve and tell what moved, or verify."""
    now = context.at_once(arguments) and not (arguments.plan or arguments.verify)
    if _plain(arguments) and not now:
        from rabbet.cli.views.recreating.unchanged import show_up_to_date

        for lock in (known := context.rabbet().up_to_date()):
            show_up_to_date(lock, context)
        if known:
            return ExitCode.DONE
    if arguments.verify:
        return _verify(arguments, context)
    return _resolve(arguments, context, now=now)


def _plain(arguments: Namespace) -> bool:
    """Whether nothing but an up-to-date lock is asked for."""
    moving = (arguments.raised, arguments.raise_all, arguments.lowest, arguments.as_of, arguments.mend)
    others = (arguments.fresh_listings, arguments.verify, arguments.json, arguments.plan, arguments.variant)
    return not any((*moving, *others))


def _verify(arguments: Namespace, context: Context) -> int:
    verdicts = context.rabbet(arguments.variant).verify()
    from rabbet.cli.views.resolving.resolve import VerdictsView

    context.present(VerdictsView(verdicts), as_json=arguments.json)
    return ExitCode.NO if any(verdict.reasons for verdict in verdicts) else ExitCode.DONE


def _resolve(arguments: Namespace, context: Context, *, now: bool) -> int:
    from rabbet.api import ResolveOptions
    from rabbet.core.needs.names import library_name

    options = ResolveOptions(
        raised=tuple(library_name(name) for name in arguments.raised),
        raise_all=arguments.raise_all,
        lowest=arguments.lowest,
        as_of=moment(arguments.as_of, "rabbet resolve --as-of 2026-05-01") if arguments.as_of else None,
        mend=arguments.mend,
    )
    if options.mend:
        return _mend(arguments, options, context, now=now)
    asking = (options.lowest or options.as_of is not None) and not (arguments.keep or arguments.variant)
    writing = not (arguments.plan or asking)
    project = context.rabbet(arguments.variant)
    if now and writing:
        brought = project.bring_up_to_date(options)
        from rabbet.cli.views.recreating.now import BroughtUpView

        context.present(BroughtUpView(brought), as_json=arguments.json)
        return _code(brought.resolved)
    resolved = project.resolve(options, write=writing)
    from rabbet.cli.views.resolving.resolve import ResolvedView

    context.present(ResolvedView(resolved, written=writing), as_json=arguments.json)
    if asking and not (arguments.plan or arguments.json):
        context.show("To lock so: the same command with --keep.")
    return _code(resolved)


def _code(resolved: "Sequence[Resolved]") -> int:
    """1 where a lock breaks a rule."""
    from rabbet.core.rules.breach import refusing

    broken = any(refusing(result.broken) for result in resolved)
    return ExitCode.NO if broken else ExitCode.DONE


def _mend(arguments: Namespace, options: "ResolveOptions", context: Context, *, now: bool) -> int:
    """Show the fewest moves that meet the rules, and write them once that is agreed to."""
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.cli.views.resolving.resolve import ResolvedView

    if options.lowest or options.as_of or options.raise_all:
        raise WrongUsage(
            "--mend moves as little as possible, --raise-all, --lowest and --as-of everything",
            remedy="rabbet resolve --mend",
        )
    project = context.rabbet(arguments.variant)
    resolved = project.resolve(options, write=False)
    changed = any(not result.untouched for result in resolved)
    if not arguments.json:
        context.present(ResolvedView(resolved, written=False, planned=True), as_json=False)
    asked = changed and not arguments.plan
    written = asked and agreed(context, "Write that?", yes=arguments.yes, may_ask=not arguments.json)
    if written:
        project.write(resolved)
    if arguments.json:
        context.present(ResolvedView(resolved, written=written), as_json=True)
    elif written and now:
        from rabbet.cli.views.recreating.recreate import RecreateView

        context.present(RecreateView(project.recreate(), done=True), as_json=False)
    elif written:
        context.show("Written. Next: rabbet recreate")
    elif asked and not context.interactive:
        context.show("Nothing was written: there is no terminal to ask on. To write it, add --yes.")
    else:
        broken = _code(resolved) == ExitCode.NO
        nothing = "No move of versions mends that." if broken else "The lock breaks no rule: nothing to mend."
        context.show("Nothing was written." if changed else nothing)
    return ExitCode.NO if changed and not written else _code(resolved)
