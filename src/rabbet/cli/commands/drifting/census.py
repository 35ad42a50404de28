"""Compare everyone's machines with the lock.

Each machine records an inventory: libraries and runtimes, no paths and no names of people or hosts; a random
label stands for the machine. Inventories are shared through the project's git remote, under refs that no
branch list shows, or through a database. `show` tells which libraries differ where, what that breaks, who is
behind, and what mends each group.
"""

import time
from argparse import ArgumentParser, Namespace
from collections.abc import Collection, Iterable
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import a_library, a_port, add_json, add_offline, add_several, add_variant, moment
from rabbet.core.census.tags import MOST_TAGS, Wanted, tag_in, wanted_of
from rabbet.errors import EnvironmentFailed, ExitCode, RabbetError, WrongUsage
from rabbet.workspace.machine import CENSUS_VARIABLE

if TYPE_CHECKING:
    from rabbet.cli.context import View
    from rabbet.tasks.drifting.census import Census
    from rabbet.workspace.session import Session

_WEEK, _YEAR = 7 * 86400, 366 * 86400  # seconds
ACTIONS = {
    "show": "Compare every machine with the lock.\n\nWithout an action, this is what is done.",
    "send": "Record this machine's inventory, and share it.",
    "collect": "Fetch what all machines have sent.",
    "check": "Exit with 1 when more machines break than are allowed.\n\nFor CI.",
    "serve": "Give the page to a browser on this machine, until Ctrl-C.",
    "record": "Write this machine's inventory into a file.",
    "news": "Tell what is new: who began to break, was mended, fell silent.\n\n1: something began to break.",
    "trend": "Show how the team stood, week by week.\n\n`check` and `news` keep a row a day.",
    "forget": "Remove a machine and all that it has sent.\n\nIt comes back when it sends again.",
    "rename": "Give a machine another label: OLD NEW.\n\nWhat it has sent stays.",
}
ONLY = {  # the options that count for some of the actions alone
    "label": ("record", "send"),
    "env": ("record", "send"),
    "deep": ("record", "send"),
    "tag": ("record", "send"),
    "private_tag": ("send",),
    "where": ("show", "check", "serve", "news"),
    "to": ("record",),
    "labels": ("forget", "rename"),
    "yes": ("forget",),
    "remote": ("send", "collect", "forget", "rename"),
    "places": ("show", "check", "serve"),
    "machine": ("show",),
    "library": ("show",),
    "since": ("show", "news", "trend"),
    "tell": ("news",),
    "every": ("send",),
    "database": ("send", "show", "check", "serve", "news", "trend", "forget", "rename"),
    "port": ("serve",),
    "csv": ("show",),
    "picture": ("show", "trend"),
    "page": ("show",),
    "allow": ("check",),
    "rules": ("show", "check"),
    "heard_since": ("show", "check"),
}
_APART = (  # options of which the first can't be given with any of the others
    ("every", "database", "label", "env", "deep", "tag", "private_tag"),
    ("database", "remote", "deep"),
    ("csv", "json", "machine", "library", "since", "picture", "page"),
    ("machine", "library", "since", "picture", "page"),
    ("library", "since", "picture", "page"),
    ("since", "picture", "page"),
    ("rules", "library", "since"),
    ("heard_since", "library", "since"),
)


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "action",
        choices=tuple(ACTIONS),
        nargs="?",
        default="show",
        help="default: show what was collected",
    )
    parser.add_argument("labels", metavar="LABEL", nargs="*", help="forget, rename: the machine")
    parser.add_argument("--yes", action="store_true", help="forget: ask nothing")
    _add_sending(parser)
    _add_looking(parser)
    _add_outputs(parser)
    add_variant(parser)
    add_offline(parser)
    add_json(parser)


def _add_sending(parser: ArgumentParser) -> None:
    """What is said of this machine, and where that goes."""
    parser.add_argument("--label", metavar="NAME", help="record, send: a label in place of the random one")
    parser.add_argument("--env", metavar="PATH", help="record, send: another environment")
    parser.add_argument("--deep", action="store_true", help="record, send: with the digests of all files")
    add_several(parser, "--tag", "NAME=VALUE", "record, send: say this of the machine: team=extraction")
    add_several(parser, "--private-tag", "NAME=VALUE", "send: the same, only ever into a database")
    parser.add_argument("--to", metavar="FILE", help="record: the file (default: census-LABEL.json)")
    parser.add_argument(
        "--remote", metavar="NAME", help="send, collect, forget, rename: the remote (default: origin)"
    )
    parser.add_argument(
        "--database",
        metavar="URL",
        help="send, show, check, serve, news, trend, forget, rename: use a database, not git, such as sqlite:///census.db"
        f" (default: the variable {CENSUS_VARIABLE})",
    )


def _add_looking(parser: ArgumentParser) -> None:
    """Which machines and times are looked at."""
    add_several(
        parser,
        "--from",
        "PATH",
        "show, check, serve: more machines: inventory files, lists of exact versions, environments",
        dest="places",
    )
    parser.add_argument("--machine", metavar="LABEL", help="show: all that differs on one machine")
    parser.add_argument(
        "--library", metavar="NAME", type=a_library, help="show: one library on all machines, over time"
    )
    parser.add_argument(
        "--since",
        metavar="WHEN",
        help="show, news, trend: what changed since then: a date, 30d, or (news) last",
    )
    parser.add_argument(
        "--tell", metavar="COMMAND", help="news: if anything is new, give the JSON document to this command"
    )
    parser.add_argument(
        "--every",
        metavar="WHEN",
        choices=("recreate", "never"),
        help="send: recreate: also send after each recreate, in the background; never: stop that",
    )
    add_several(
        parser,
        "--where",
        "NAME=VALUE",
        "show, check, serve, news: only machines with this tag; one name twice: with either value",
    )


def _add_outputs(parser: ArgumentParser) -> None:
    """What becomes of what was found."""
    parser.add_argument("--csv", action="store_true", help="show: the matrix as comma-separated values")
    parser.add_argument("--port", metavar="N", type=a_port, help="serve: the port (default: a free one)")
    parser.add_argument("--picture", metavar="FILE", help="show, trend: draw it, as PNG")
    parser.add_argument("--page", metavar="FILE", help="show: write a page for a browser")
    parser.add_argument(
        "--allow",
        metavar="N",
        type=int,
        help="check: exit 0 while at most N machines have breaking findings (default: 0)",
    )
    parser.add_argument(
        "--heard-since",
        metavar="WHEN",
        help="show, check: leave out machines that were not heard of since: 30d, or a date",
    )
    parser.add_argument(
        "--rules",
        action="store_true",
        help="show, check: which machines run what has a known vulnerability, and since when it is known",
    )


def run(arguments: Namespace, context: Context) -> int:
    """Do what is asked."""
    _check_options(
        {option for option, value in vars(arguments).items() if _is_given(value)}, arguments.action
    )
    session = context.session(arguments.variant)
    if arguments.every:
        return _every(arguments, session, context)
    if arguments.action in ("record", "send"):
        return _give(arguments, session, context)
    if arguments.action == "collect":
        return _collect(arguments, session, context)
    if arguments.action == "news":
        return _news(arguments, session, context)
    if arguments.action == "trend":
        return _trend(arguments, session, context)
    if arguments.action in ("forget", "rename"):
        return _change(arguments, session, context)
    if arguments.action == "serve":
        return _serve(arguments, session, context)
    return _show(arguments, session, context)


def _is_given(value: object) -> bool:
    return value is not None and value is not False and value != []


def _check_options(given: Collection[str], action: str) -> None:
    """Raise `WrongUsage` for options that mean nothing to an action, or nothing beside each other."""
    for option, actions in ONLY.items():
        if option in given and action not in actions:
            raise WrongUsage(
                f"{_shown(option)} means nothing to `census {action}`",
                because=[f"it is for {' and '.join(actions)}"],
                remedy="rabbet help census",
            )
    for first, *others in _APART:
        other = next((other_option for other_option in others if other_option in given), None)
        if first in given and other is not None and action != "trend":
            raise WrongUsage(
                f"{_shown(first)} and {_shown(other)} can't be given together", remedy="rabbet help census"
            )


def _shown(option: str) -> str:
    """An option as it is typed."""
    return {"places": "--from", "labels": "a label"}.get(option, f"--{option.replace('_', '-')}")


def _serve(arguments: Namespace, session: "Session", context: Context) -> int:
    """Serve the page until Ctrl-C."""
    from rabbet.cli.views.drifting.census_words import sheet_of
    from rabbet.tasks.drifting.census import show, shown_state
    from rabbet.team.extra import needing_extra
    from rabbet.team.live_page import LivePage, page_server
    from rabbet.team.sheet import page

    url, name = _database(arguments, context), session.declaration().name
    wanted = _wanted(arguments.where)

    def render() -> str:
        census = show(session.silent(), arguments.places, url, wanted=wanted)
        return page(sheet_of(census, name, session.project.variant))

    def state() -> str:
        return shown_state(session.silent(), arguments.places, url)

    pages = LivePage(render, state)
    with needing_extra("the census page"):
        pages.newest()  # what can't be shown is told here, and not in a browser
    try:
        server = page_server(pages, arguments.port or 0)
    except OSError as error:
        raise EnvironmentFailed(
            f"the port {arguments.port} can't be used",
            because=[error.strerror or str(error)],
            remedy="rabbet census serve",
        ) from error
    with server:
        context.show(f"Serving http://127.0.0.1:{server.server_port}/ until Ctrl-C.")
        context.output.flush()
        server.serve_forever()
    return ExitCode.DONE


def _give(arguments: Namespace, session: "Session", context: Context) -> int:
    """Record, or record and send."""
    from rabbet.cli.views.drifting.census import RecordedView
    from rabbet.tasks.drifting.census import RecordOptions, record, send, send_to_database
    from rabbet.workspace.states.sending import note_outcome

    url = _database(arguments, context)
    options = RecordOptions(
        label=arguments.label,
        place=arguments.env,
        deep=arguments.deep,
        tags=_tags((*arguments.tag, *arguments.private_tag)),
    )
    if arguments.private_tag and (not url or arguments.remote):
        raise WrongUsage(
            "a private tag goes into a database alone, and none is named",
            because=["everybody who can read the remote can read its inventories"],
            remedy="rabbet help census",
        )
    if arguments.deep and arguments.action == "send" and url and not arguments.remote:
        raise WrongUsage(
            "a database holds no digests of files, so --deep means nothing to it",
            because=[f"the variable {CENSUS_VARIABLE} names a database"],
            remedy="rabbet census record --deep",
        )
    if arguments.action == "record":
        found = record(session, options, arguments.to)
    else:
        try:
            if url and not arguments.remote:
                found = send_to_database(session, options, url)
            else:
                found = send(session, options, arguments.remote)
        except RabbetError as error:
            note_outcome(session, error="; ".join((str(error), *error.because)))
            raise
        note_outcome(session, where=found.where)
    view = RecordedView(found, sent=arguments.action == "send")
    context.present(view, as_json=arguments.json)
    return ExitCode.DONE


def _tags(texts: Iterable[str]) -> dict[str, str]:
    """Tags by their names. Raises `WrongUsage`."""
    try:
        found = dict(map(tag_in, texts))
    except ValueError as error:
        raise WrongUsage(str(error)) from error
    if len(found) > MOST_TAGS:
        raise WrongUsage(f"{len(found)} tags are too many: at most {MOST_TAGS}")
    return found


def _wanted(texts: Iterable[str]) -> Wanted:
    """The wanted tags. Raises `WrongUsage`."""
    try:
        return wanted_of(texts)
    except ValueError as error:
        raise WrongUsage(str(error)) from error


def _database(arguments: Namespace, context: Context) -> str | None:
    """The database that is named, by the option or by the variable."""
    return arguments.database or context.machine.environ.get(CENSUS_VARIABLE) or None


def _every(arguments: Namespace, session: "Session", context: Context) -> int:
    """Declare when inventories are sent by themselves."""
    from rabbet.cli.views.declaring.changes import ChangesView
    from rabbet.tasks.declaring.declare import Done
    from rabbet.tasks.drifting.census import send_every

    edited = send_every(session, arguments.every, arguments.remote)
    context.present(ChangesView(Done(edited)), as_json=arguments.json)
    return ExitCode.DONE


def _collect(arguments: Namespace, session: "Session", context: Context) -> int:
    from rabbet.cli.views.drifting.census import CollectedView
    from rabbet.tasks.drifting.census import collect

    found = collect(session, arguments.remote)
    context.present(CollectedView(found), as_json=arguments.json)
    return ExitCode.DONE


def _note_day(
    session: "Session", census: "Census", url: str | None, context: Context, *, judged: bool
) -> None:
    """Keep today's row; that it could not be kept is told beside the output."""
    from rabbet.tasks.drifting.census_news import note_day

    failed = note_day(session, census, url, judged=judged)
    if failed:
        context.note(f"The row of today was not kept: {failed}.")


def _news(arguments: Namespace, session: "Session", context: Context) -> int:
    """What is new, to people or to a command of theirs."""
    from rabbet.cli.views.drifting.census_news import NewsView
    from rabbet.core.census.history import Known
    from rabbet.documents.document import with_schema
    from rabbet.tasks.drifting.census_news import last_news, news, note_news

    url = _database(arguments, context)
    last = arguments.since in (None, "last")
    scope = " ".join((url or "", *sorted(arguments.where)))
    known = last_news(session, scope) if last else Known(_since(arguments.since))
    told = news(session, known or Known(int(time.time()) - _WEEK), url, _wanted(arguments.where))
    view = NewsView(told)
    if not arguments.where:
        _note_day(session, told.census, url, context, judged=False)
    if arguments.tell and not view.found.is_empty:
        from rabbet.tasks.drifting.census_news import tell

        tell(arguments.tell, with_schema(view), session)
    context.present(view, as_json=arguments.json)
    if last:
        note_news(session, scope, told.known)
    return ExitCode.NO if view.found.broke else ExitCode.DONE


def _trend(arguments: Namespace, session: "Session", context: Context) -> int:
    """How the team stood, week by week."""
    from datetime import date

    from rabbet.cli.views.drifting.census_news import TrendView
    from rabbet.tasks.drifting.census_news import draw_trend, trend

    since = _since(arguments.since) if arguments.since else int(time.time()) - _YEAR
    found = trend(session, date.fromtimestamp(since), _database(arguments, context))  # noqa: DTZ012
    drawn = arguments.picture if found.weeks else None
    if drawn:
        draw_trend(found, session, context.machine.folder / drawn)
    context.present(TrendView(found, drawn or ""), as_json=arguments.json)
    return ExitCode.DONE


def _change(arguments: Namespace, session: "Session", context: Context) -> int:
    """Forget or rename a machine."""
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.cli.views.drifting.census import ChangedView
    from rabbet.tasks.drifting.census import forget, rename

    labels, renaming = arguments.labels, arguments.action == "rename"
    if len(labels) != 1 + renaming:
        raise WrongUsage(
            "`census rename` takes two labels: the old one and the new one"
            if renaming
            else "`census forget` takes the label of one machine",
            remedy="rabbet census show",
        )
    url, new = _database(arguments, context), labels[1] if renaming else None
    if new is not None:
        where = rename(session, labels[0], new, arguments.remote, url)
    elif agreed(
        context, f"Forget all that {labels[0]} has sent?", yes=arguments.yes, may_ask=not arguments.json
    ):
        where = forget(session, labels[0], arguments.remote, url)
    else:
        where = ""
    context.present(ChangedView(labels[0], new, where), as_json=arguments.json)
    return ExitCode.DONE if where else ExitCode.NO


def _show(arguments: Namespace, session: "Session", context: Context) -> int:
    """The matrix, one machine, or what became of all since a date; or whether too many break."""
    from rabbet.cli.views.drifting.census import CensusView, CheckView, MachineView, show_csv
    from rabbet.cli.views.drifting.census_words import sheet_of
    from rabbet.tasks.drifting.census import one_machine, show
    from rabbet.team.drawing import write_drawn

    if arguments.library or arguments.since:
        return _over_time(arguments, session, context)
    machine = context.machine
    url = _database(arguments, context)
    since = _since(arguments.heard_since) if arguments.heard_since else 0
    wanted = _wanted(arguments.where)
    census = show(session, arguments.places, url, judged=arguments.rules, since=since, wanted=wanted)
    if arguments.action == "check":
        if not (arguments.places or wanted):
            _note_day(session, census, url, context, judged=arguments.rules)
        view = CheckView(census, allowed=arguments.allow or 0)
        context.present(view, as_json=arguments.json)
        return ExitCode.NO if view.too_many else ExitCode.DONE
    if arguments.machine:
        state = one_machine(census, arguments.machine)
        context.present(MachineView(state, session.project.variant), as_json=arguments.json)
        return ExitCode.DONE
    if arguments.csv:
        show_csv(census, context)
        return ExitCode.DONE
    picture, page = (machine.folder / name if name else None for name in (arguments.picture, arguments.page))
    sheet = sheet_of(census, session.declaration().name, session.project.variant)
    drawn = write_drawn(sheet, session.project.folder, picture=picture, page=page)
    context.present(CensusView(census, session.project.variant, drawn), as_json=arguments.json)
    return ExitCode.DONE


def _since(text: str) -> int:
    """The seconds since the epoch of a date, or of so long ago, such as `30d`. Raises `WrongUsage`."""
    from rabbet.formats.project.rules_table import seconds_in

    ago = seconds_in(text)
    if ago is not None:
        return int(time.time()) - ago
    return int(moment(text, "rabbet census show --heard-since 30d", end=False).timestamp())


def _over_time(arguments: Namespace, session: "Session", context: Context) -> int:
    """One library on all machines, or all that became of these."""
    from rabbet.cli.views.drifting.census import DevelopmentView, LibraryView
    from rabbet.tasks.drifting.census import developed, library_over_time

    url = _database(arguments, context)
    view: View
    wanted = _wanted(arguments.where)
    if arguments.library:
        view = LibraryView(library_over_time(session, arguments.library, url, wanted))
    else:
        found = developed(session, _since(arguments.since), url, wanted)
        view = DevelopmentView(found)
    context.present(view, as_json=arguments.json)
    return ExitCode.DONE
