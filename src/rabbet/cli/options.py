"""Options that several commands share, so that each means the same everywhere."""

from argparse import REMAINDER, ArgumentParser, ArgumentTypeError, Namespace
from collections.abc import Callable
from typing import TYPE_CHECKING

from rabbet.errors import WrongUsage

if TYPE_CHECKING:
    from datetime import datetime

    from rabbet.core.declaration.edit import Edit
    from rabbet.core.declaration.keys import Verb
    from rabbet.core.declaration.model import Section
    from rabbet.core.needs.need import Need

__all__ = [
    "STATES",
    "USUAL_LIMIT",
    "a_library",
    "a_port",
    "a_release",
    "add_entries",
    "add_fresh_listings",
    "add_json",
    "add_loudness",
    "add_now",
    "add_offline",
    "add_place",
    "add_section",
    "add_several",
    "add_trial",
    "add_trying",
    "add_variant",
    "edits_of",
    "moment",
    "section_of",
    "tried_command",
]


_LONGEST_SHOWN = 60  # characters of an argument that is wrong
_HIGHEST_PORT = 65535
_MOST_JOBS = 64
USUAL_LIMIT = 600  # seconds that a command may run in each environment where it is tried
STATES = "a lock or inventory file, git:REV, installed, env:PATH, or machine:LABEL"


def add_json(parser: ArgumentParser) -> None:
    """`--json` and, for the text that it replaces, `--all-rows`."""
    parser.add_argument("--json", action="store_true", help="print one JSON document, no text")
    parser.add_argument("--all-rows", action="store_true", help="show every row of long tables")


def add_loudness(parser: ArgumentParser) -> None:
    """`--quiet` and `--verbose`: every command takes them."""
    how = parser.add_mutually_exclusive_group()
    how.add_argument("--quiet", action="store_true", help="show no progress")
    how.add_argument("--verbose", action="store_true", help="print every step, and the hosts that are asked")


def moment(text: str, example: str, *, end: bool = True) -> "datetime":
    """The moment that a text names, read by `moment_in`. Raises `WrongUsage`, with an example."""
    from rabbet.core.moment import moment_in
    from rabbet.errors import WrongUsage

    try:
        return moment_in(text, end=end)
    except ValueError as error:
        raise WrongUsage(f"'{text}' is not a date", remedy=example) from error


def add_offline(parser: ArgumentParser) -> None:
    """`--offline`."""
    parser.add_argument("--offline", action="store_true", help="use only the store, no network")


def add_fresh_listings(parser: ArgumentParser) -> None:
    """`--fresh-listings`."""
    parser.add_argument(
        "--fresh-listings",
        action="store_true",
        help="ask sources again, even where stored listings are still fresh",
    )


def add_variant(parser: ArgumentParser, *, every: bool = False) -> None:
    """`--variant NAME`; where the command can be run for `every` variant, `all` and `--jobs N` too."""
    purpose = "use this variant of the project, with a lock and an environment of its own"
    if every:
        purpose += "; all: the project and every variant, a row each"
        parser.set_defaults(each_variant=True)
        parser.add_argument(
            "--jobs", metavar="N", type=int, default=1, help="with --variant all: run N at once"
        )
    parser.add_argument("--variant", metavar="NAME", help=purpose)


def add_place(parser: ArgumentParser) -> None:
    """`--in PLACE`."""
    parser.add_argument(
        "--in",
        dest="place",
        metavar="PLACE",
        help="work on this project in place of the one here: a folder, a name, or a script",
    )


def add_now(parser: ArgumentParser, purpose: str) -> None:
    """`--now`, which the settings may make the rule, and `--not-now`."""
    when = parser.add_mutually_exclusive_group()
    when.add_argument("--now", action="store_true", help=purpose)
    when.add_argument("--not-now", action="store_true", help="don't, whatever `now` is in your settings")


def add_trial(parser: ArgumentParser) -> None:
    """`--try REQUIREMENT` and `--taken-from PLACE`, both repeatable."""
    parser.add_argument(
        "--try",
        dest="tried",
        metavar="REQUIREMENT",
        action="append",
        default=[],
        help="add this library for this command only, such as 'pollencsv>=1', in a temporary environment",
    )
    parser.add_argument(
        "--taken-from",
        dest="places",
        metavar="PLACE",
        action="append",
        default=[],
        help="take the library to try from this wheel, folder, checkout or address",
    )


def add_section(parser: ArgumentParser, purpose: str) -> None:
    """`--group NAME`, `--extra NAME` or `--variant NAME`."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--variant", metavar="NAME", help=f"{purpose} this variant of the project")
    which.add_argument("--group", metavar="NAME", help=f"{purpose} this dependency group, such as checks")
    which.add_argument("--extra", metavar="NAME", help=f"{purpose} this extra: optional dependencies")


def section_of(arguments: Namespace) -> "Section | None":
    """The section that was named, if one was."""
    from rabbet.core.declaration.model import Section
    from rabbet.core.needs.names import library_name

    for kind, name in (
        ("extra", arguments.extra),
        ("variant", arguments.variant),
        ("group", arguments.group),
    ):
        if name is not None:
            return Section(kind, library_name(name))  # type: ignore[arg-type]
    return None


def a_library(text: str) -> str:
    """A library's name, or a language's: the type of an argument. Raises `ArgumentTypeError`."""
    from rabbet.core.needs.names import is_name

    if not is_name(text):
        raise ArgumentTypeError(f"'{text[:_LONGEST_SHOWN]}' is not a library's name")
    return text


def a_port(text: str) -> int:
    """The number of a port to serve on: the type of an argument. Raises `ArgumentTypeError`."""
    if not (text.isdecimal() and len(text) <= len(str(_HIGHEST_PORT)) and 0 < int(text) <= _HIGHEST_PORT):
        raise ArgumentTypeError(f"'{text[:_LONGEST_SHOWN]}' is not a port: 1 to {_HIGHEST_PORT}")
    return int(text)


def a_release(text: str) -> "Need":
    """A library's name, with versions or without: the type of an argument. Raises `ArgumentTypeError`."""
    from rabbet.errors import NotUnderstood
    from rabbet.formats.text.requirement import parse_requirement

    try:
        need = parse_requirement(text)
    except NotUnderstood as error:
        raise ArgumentTypeError(f"'{text[:_LONGEST_SHOWN]}' is not a library's name") from error
    if need.url or need.marker:
        raise ArgumentTypeError(f"'{text[:_LONGEST_SHOWN]}' is more than a name and versions")
    return need


def add_trying(parser: ArgumentParser) -> None:
    """The options of commands that run another command in many environments, and its words."""
    parser.add_argument(
        "--time-limit",
        metavar="SECONDS",
        type=int,
        default=USUAL_LIMIT,
        help="how long the command may run (default: %(default)s)",
    )
    parser.add_argument(
        "--repeat",
        metavar="N",
        type=int,
        default=1,
        help="run the command N times in each environment, for a failure that comes and goes",
    )
    parser.add_argument(
        "--jobs", metavar="N", type=int, default=1, help="try N environments at once (default: %(default)s)"
    )
    parser.add_argument("command", nargs=REMAINDER, help="the command with its arguments, behind --")


def tried_command(arguments: Namespace, missing: str, example: str) -> list[str]:
    """The words of the command to try. Raises `WrongUsage` for `missing` words, or numbers out of range."""
    words: list[str] = arguments.command[1:] if arguments.command[:1] == ["--"] else arguments.command
    if not words:
        raise WrongUsage(missing, remedy=example)
    for name, value, most in (
        ("--repeat", arguments.repeat, 1000),
        ("--jobs", arguments.jobs, _MOST_JOBS),
        ("--time-limit", arguments.time_limit, 10**6),
    ):
        if not 1 <= value <= most:
            raise WrongUsage(f"{name} takes a number from 1 to {most}, not {value}", remedy=example)
    return words


def add_several(
    parser: ArgumentParser,
    name: str,
    shown: str,
    purpose: str,
    *,
    dest: str | None = None,
    kind: Callable[[str], str] = str,
) -> None:
    """An option that takes one value or more, also where it is repeated; `[]` where it is absent."""
    parser.add_argument(
        name, metavar=shown, nargs="+", action="extend", default=[], dest=dest, type=kind, help=purpose
    )


def add_entries(parser: ArgumentParser, verb: "Verb") -> None:
    """The options that take entries of the declaration's keys; what is shown as `LIBRARY` is a name."""
    from rabbet.core.declaration.keys import KEYS, Shape

    for key in KEYS:
        option, name = key.option(verb), f"--{key.entry}"
        if option is None:
            continue
        if not option.shown:
            parser.add_argument(name, action="store_true", help=option.purpose)
        elif key.shape is Shape.TEXT:
            parser.add_argument(name, metavar=option.shown, help=option.purpose)
        elif option.choices:
            parser.add_argument(name, choices=option.choices, help=option.purpose)
        elif isinstance(option.shown, tuple):
            parser.add_argument(
                name, metavar=option.shown, nargs=2, action="append", default=[], help=option.purpose
            )
        else:
            kind = a_library if option.shown == "LIBRARY" else str
            add_several(parser, name, option.shown, option.purpose, kind=kind)


def edits_of(verb: "Verb", arguments: Namespace) -> "list[Edit]":
    """The edits that `declare` and `retract` ask for; a section without libraries is retracted whole."""
    from rabbet.core.declaration.edit import Edit
    from rabbet.core.declaration.keys import KEYS

    section = section_of(arguments)
    exactly = getattr(arguments, "exactly", False)
    edits = [
        Edit(verb=verb, what="library", value=library, section=section, exactly=exactly)
        for library in arguments.libraries
    ]
    for what in ("runtime", *(key.entry for key in KEYS if key.option(verb)), "own-version"):
        place = section if what == "runtime" else None
        given = getattr(arguments, what.replace("-", "_"), None)
        values = [""] if given is True else [given] if isinstance(given, str) else given or []
        for value in values:
            if isinstance(value, str):
                edits.append(Edit.given(verb, what, value, place))
            else:  # a pair
                edits.append(Edit(verb=verb, what=what, name=value[0], value=value[1]))
    if verb == "retract" and section is not None and not edits:
        edits.append(Edit(verb="retract", what="section", section=section))
    return edits
