"""Make the environment match the lock.

Makes .venv from pylock.toml, or changes it: adds what is missing, replaces what differs, removes what is not
locked, and leaves the rest alone. A new environment gets all groups and extras; later runs keep the last
choice.

--strict refuses a lock that is out of date or breaks a rule (see: rabbet rules), with exit code 1.
"""

from argparse import ArgumentParser, Namespace
from contextlib import suppress
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline, add_several, add_variant
from rabbet.errors import ExitCode, NotObtained, WrongUsage

if TYPE_CHECKING:
    from rabbet.api import Rabbet
    from rabbet.workspace.session import Session


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("--plan", action="store_true", help="show what would be done, and change nothing")
    parser.add_argument(
        "--fresh", action="store_true", help="make a new environment beside the old one, then swap them"
    )
    parser.add_argument(
        "--strict",
        action="store_true",
        help="for CI: if the lock is out of date, change nothing and exit 1",
    )
    parser.add_argument(
        "--verify",
        action="store_true",
        help="compare every file with the locked hashes, not only with its records",
    )
    parser.add_argument(
        "--compile-later", action="store_true", help="compile modules when they are first imported"
    )
    parser.add_argument("--carried", metavar="PLACE", help="use the files that `carry` packed, no network")
    parser.add_argument("--obtain", action="store_true", help="fetch locked runtimes that this machine lacks")
    add_several(parser, "--group", "NAME", "only these groups")
    add_several(parser, "--extra", "NAME", "only these extras")
    parser.add_argument("--bare", action="store_true", help="no group and no extra")
    parser.add_argument("--everything", action="store_true", help="all groups and extras again")
    parser.add_argument(
        "--without-project", action="store_true", help="this time, don't install the project itself"
    )
    parser.add_argument(
        "--not-editable",
        action="store_true",
        help="this time, install the project and checkouts as wheels of their present state",
    )
    add_variant(parser, every=True)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Recreate, or show the plan."""
    if sum((arguments.bare, arguments.everything, bool(arguments.group or arguments.extra))) > 1:
        raise WrongUsage(
            "groups and extras were chosen in two ways",
            because=["--bare, --everything, or --group and --extra by name: one of the three"],
            remedy="rabbet recreate --help",
        )
    if arguments.carried is not None:
        _take_carried(arguments, context)
    if arguments.strict and _refused_as_behind(arguments, context):
        return ExitCode.NO
    _refuse_broken(arguments, context)
    special = (arguments.plan, arguments.fresh, arguments.verify, arguments.json, *_wished(arguments))
    if not any(special) and _done_at_once(context.rabbet(arguments.variant), context):
        return ExitCode.DONE
    return _recreate(arguments, context)


def _refuse_broken(arguments: Namespace, context: Context) -> None:
    """Raise `RuleRefused` where the lock breaks a rule, if the rules or `--strict` say that it counts."""
    from rabbet.workspace.looking.result_cache import may_have_rules

    session = context.session(arguments.variant)
    with suppress(OSError):
        if may_have_rules(session):
            from rabbet.workspace.rules.stopping import refuse_broken

            refuse_broken(session, "recreate", always=arguments.strict)


def _take_carried(arguments: Namespace, context: Context) -> None:
    """Put what was carried into the store."""
    from rabbet.tasks.more.carry import take_carried

    machine = context.machine
    session = context.session(arguments.variant)
    for note in take_carried(session, machine.folder / arguments.carried):
        context.note(note)


def _refused_as_behind(arguments: Namespace, context: Context) -> bool:
    """If the lock is out of date, say so; whether it is."""
    project = context.rabbet(arguments.variant)
    reason = project.behind()
    if reason and arguments.json:
        from rabbet.documents.recreating.recreate import BehindDocument

        context.show_json(BehindDocument(reason))
    elif reason:
        name = project.session.project.lock_file.name
        context.show(f"{name} is out of date: {reason}. Nothing was recreated. Next: rabbet resolve")
    return bool(reason)


def _done_at_once(rabbet: "Rabbet", context: Context) -> bool:
    """Answer from what earlier runs found; whether that was possible."""
    from rabbet.cli.views.recreating.unchanged import show_at_once

    known, project = rabbet.known_fit(), rabbet.session.project
    if known is not None:
        show_at_once(project.environment.name, known, project.variant, context)
    return known is not None


def _wished(arguments: Namespace) -> tuple[object, ...]:
    """The options that choose what is installed, and how."""
    forms = (arguments.without_project, arguments.not_editable)
    return arguments.group, arguments.extra, arguments.bare, arguments.everything, *forms


def _recreate(arguments: Namespace, context: Context) -> int:
    from rabbet.api import RecreateOptions
    from rabbet.cli.terminal.prompt import confirm
    from rabbet.cli.views.recreating.recreate import RecreateView

    options = RecreateOptions(
        fresh=arguments.fresh,
        verify=arguments.verify,
        everything=arguments.everything,
        groups=[] if arguments.bare else arguments.group or None,
        extras=[] if arguments.bare else arguments.extra or None,
        obtain=arguments.obtain,
        project=not arguments.without_project,
        editable=not arguments.not_editable,
        compile_later=arguments.compile_later,
    )
    project = context.rabbet(arguments.variant)
    act = project.plan if arguments.plan else project.recreate
    try:
        report = act(options)
    except NotObtained as error:
        if arguments.plan or not context.interactive:
            raise
        told = str(error)
        context.show(f"{told[:1].upper()}{told[1:]}; the lock says where to get them.")
        if not confirm(context, "Obtain it?"):
            raise
        report = act(options._replace(obtain=True))
    context.present(RecreateView(report, done=not arguments.plan), as_json=arguments.json)
    if not arguments.plan and project.declaration().census.every and not context.machine.offline:
        _send_inventory(project.session, context, may_ask=not arguments.json)
    return ExitCode.DONE


def _send_inventory(session: "Session", context: Context, *, may_ask: bool) -> None:
    """Send it in the background, once the user has agreed to what the declaration asks for."""
    from rabbet.cli.terminal.prompt import confirm
    from rabbet.tasks.drifting.census import send_in_background
    from rabbet.workspace.states.sending import answer, sending

    agreed = sending(session).agreed
    if agreed is None:
        context.note(
            "pyproject.toml asks that each recreate sends the team an inventory of what is installed here,"
            " without paths and names."
        )
        if not (may_ask and context.interactive):
            context.note("Nothing was sent. To agree to that: rabbet census send --every recreate")
            return
        agreed = confirm(context, "Send it, now and after each recreate?")
        answer(session, agreed=agreed)
    if agreed:
        send_in_background(session)
