"""Settle every version, write the lock.

Chooses the newest releases that meet every requirement on this machine, and writes them with their files and
hashes into pylock.toml. What is locked already stays wherever some solution lets it. --lowest and --as-of are
questions: they write nothing without --keep, unless they are for a variant, which has a lock of its own.
"""

from argparse import ArgumentParser, Namespace
from contextlib import suppress
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import (
    a_library,
    add_fresh_listings,
    add_json,
    add_offline,
    add_several,
    add_variant,
    moment,
)
from rabbet.errors import ExitCode, RabbetError

if TYPE_CHECKING:
    from rabbet.workspace.opening import OpenedSources
    from rabbet.workspace.session import Session


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    add_several(parser, "--raise", "NAME", "let these move to newer releases", dest="raised", kind=a_library)
    parser.add_argument(
        "--raise-all", action="store_true", help="let everything move, the runtime too; no old lock is needed"
    )
    parser.add_argument(
        "--lowest",
        action="store_true",
        help="the lowest allowed release of each declared library, to test its bounds",
    )
    parser.add_argument("--as-of", metavar="DATE", help="as it would have been then, such as 2026-05-01")
    parser.add_argument("--plan", action="store_true", help="show what would be locked, and write nothing")
    parser.add_argument(
        "--keep", action="store_true", help="write what --lowest or --as-of found into the lock"
    )
    add_variant(parser)
    parser.add_argument(
        "--verify",
        action="store_true",
        help="change nothing; exit 0 if the lock is what is asked for, else 1",
    )
    add_fresh_listings(parser)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Resolve and tell what moved, or verify."""
    if _plain(arguments):
        from rabbet.cli.views.unchanged import show_up_to_date
        from rabbet.workspace.result_cache import recall_unchanged

        for lock in (known := recall_unchanged(context.session())):
            show_up_to_date(lock, context)
        if known:
            return ExitCode.DONE
    return _resolve(arguments, context)


def _plain(arguments: Namespace) -> bool:
    """Whether nothing but an up-to-date lock is asked for."""
    others = (arguments.json, arguments.plan, arguments.variant)
    return not (_asks_sources(arguments) or any(others))


def _asks_sources(arguments: Namespace) -> bool:
    """Whether sources are asked even where the lock was made from this very declaration."""
    moving = (arguments.raised, arguments.raise_all, arguments.lowest, arguments.as_of)
    return any((*moving, arguments.fresh_listings, arguments.verify))


def _asked_ahead(session: "Session", arguments: Namespace) -> "OpenedSources | None":
    """Send the first questions, before what reads their answers is loaded; what is wrong is told later."""
    from rabbet.workspace.opening import asked_ahead

    with suppress(RabbetError):
        return asked_ahead(session, anyway=_asks_sources(arguments))
    return None


def _resolve(arguments: Namespace, context: Context) -> int:
    session = context.session(arguments.variant)
    opened = _asked_ahead(session, arguments)
    from rabbet.core.needs.need import library_name
    from rabbet.resolving.request import ResolveOptions
    from rabbet.tasks.resolve import resolve, verify

    if arguments.verify:
        verdicts = verify(session, opened)
        from rabbet.cli.views.resolve import VerdictsView

        context.present(VerdictsView(verdicts), as_json=arguments.json)
        return ExitCode.NO if any(verdict.reasons for verdict in verdicts) else ExitCode.DONE
    options = ResolveOptions(
        raised=tuple(library_name(name) for name in arguments.raised),
        afresh=arguments.raise_all,
        lowest=arguments.lowest,
        as_of=moment(arguments.as_of, "rabbet resolve --as-of 2026-05-01") if arguments.as_of else None,
    )
    asking = (options.lowest or options.as_of is not None) and not (arguments.keep or arguments.variant)
    writing = not (arguments.plan or asking)
    resolved = resolve(session, options, writing=writing, opened=opened)
    from rabbet.cli.views.resolve import ResolvedView

    context.present(ResolvedView(resolved, written=writing), as_json=arguments.json)
    if asking and not (arguments.plan or arguments.json):
        context.show("To lock so: the same command with --keep.")
    return ExitCode.DONE
