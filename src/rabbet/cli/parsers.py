"""The parsers of the commands' arguments, which report wrong usage as all other errors are reported."""

import re
from argparse import (
    SUPPRESS,
    Action,
    ArgumentError,
    ArgumentParser,
    Namespace,
    RawDescriptionHelpFormatter,
)
from collections.abc import Mapping, Sequence
from functools import partial
from importlib import import_module
from itertools import takewhile
from typing import TYPE_CHECKING, NoReturn

from rabbet.cli.registry import COMMANDS, OF_PLACES
from rabbet.cli.terminal.output import in_ascii
from rabbet.core.limits import LONGEST_TEXT
from rabbet.errors import WrongUsage

if TYPE_CHECKING:
    from _typeshed import SupportsWrite

__all__ = ["fill_parser", "parser_for"]

_INVALID_CHOICE = re.compile(r"invalid choice: '([^']*)' \(choose from (.*)\)")
_RENAMED = {"--from": "--taken-from"}
_NAMES_OF_ACTIONS = ("action", "what")  # what commands call the word that chooses one
_FOR_ACTIONS = re.compile(r"^(?:list|[a-z]+)(?:, [a-z]+)*: (?=\S)")
_WIDEST_OPTION = 30  # characters of an option beside its help
_SHORT = len("--in")  # which any longer option would be near to
_UNRECOGNIZED = "unrecognized arguments: "
_GIVEN = "options that were given"  # no name of an option
_ANOTHERS_WORDS = "command"  # what `run` and `culprit` call the words that they start


class _Once(Action):
    """Stores the value of an option that takes one: a second value would replace the first in silence."""

    def __call__(
        self,
        parser: ArgumentParser,  # noqa: ARG002 - as argparse calls it
        namespace: Namespace,
        values: object,
        option_string: str | None = None,
    ) -> None:
        """Store the value. Raises `ArgumentError` where there is one already."""
        given = vars(namespace).setdefault(_GIVEN, set())
        if option_string is not None and self.dest in given:
            raise ArgumentError(self, "it is given more than once")
        given.add(self.dest)
        setattr(namespace, self.dest, values)


class _Help(RawDescriptionHelpFormatter):
    """Helps that fit a screen: `NAME…` stands for one name or more, and most options for a line each."""

    def __init__(self, prog: str, *, width: int | None) -> None:
        super().__init__(prog, max_help_position=_WIDEST_OPTION, width=width)

    def _format_args(self, action: Action, default_metavar: str) -> str:
        if action.nargs in ("+", "*") and not isinstance(action.metavar, tuple):
            return f"{self._metavar_formatter(action, default_metavar)(1)[0]}…"
        return super()._format_args(action, default_metavar)


class _Parser(ArgumentParser):
    """Reports wrong usage the way all other errors are reported."""

    ascii_only = False  # whether helps spell arrows and ellipses in ASCII

    def parse_args(self, given: Sequence[str]) -> Namespace:  # type: ignore[override] # neither does more
        """Parse the words of a command line. Raises `WrongUsage`, also where one is too long or no text."""
        for word in takewhile("--".__ne__, given):
            if word.startswith("--") and word.endswith("=--"):  # which argparse takes for no value at all
                self.error(f"argument {word[:-3]}: expected one argument")
        read = super().parse_args(given)
        vars(read).pop(_GIVEN, None)
        self._refuse_unfit([value for name, value in vars(read).items() if name != _ANOTHERS_WORDS])
        return read

    def _refuse_unfit(self, value: object) -> None:
        if isinstance(value, list):
            for word in value:
                self._refuse_unfit(word)
        elif value == "":
            self.error("an argument is empty")
        elif isinstance(value, str) and len(value) > LONGEST_TEXT:
            self.error(f"an argument has {len(value)} characters, and {LONGEST_TEXT} at most are read")
        elif isinstance(value, str) and any("\ud800" <= character <= "\udfff" for character in value):
            self.error("an argument is not text in UTF-8")

    def _print_message(self, message: str, file: "SupportsWrite[str] | None" = None) -> None:
        super()._print_message(in_ascii(message) if self.ascii_only else message, file)

    def error(self, message: str) -> NoReturn:
        """Raise `WrongUsage`; an address in the message may hold a password, and is not repeated."""
        scheme, colon, _ = message.partition("://")
        raise WrongUsage(
            f"{self.prog}: {scheme}{f'{colon}…' if colon else ''}",
            meant=self._meant(message),
            remedy=f"{self.prog} --help",
        )

    def _meant(self, message: str) -> tuple[str, str] | None:
        """The word that argparse does not know, and the option or the choice that is near it."""
        from rabbet.core.near_names import near_names

        choice = _INVALID_CHOICE.search(message)
        if choice:
            wrong, known = choice[1], [word.strip(" '") for word in choice[2].split(",")]
        elif message.startswith(_UNRECOGNIZED):
            wrong = next((word for word in message[len(_UNRECOGNIZED) :].split() if word[:2] == "--"), "")
            known = [name for action in self._actions for name in action.option_strings]
            known = [name for name in known if len(name) > _SHORT or len(wrong) <= len(name) + 1]
        else:
            return None
        wrong = wrong.partition("=")[0]
        near = [_RENAMED[wrong]] if _RENAMED.get(wrong) in known else near_names(wrong, known)
        return (wrong, near[0]) if near else None


def parser_for(
    name: str, rest: Sequence[str] = (), *, helping: bool = False, ascii_only: bool = False
) -> ArgumentParser:
    """The parser of one command's arguments.

    Raises `WrongUsage` where there is no such command, with what `rest` behind it may have meant.
    """
    if name not in COMMANDS:
        raise _unknown(name, rest)
    module = import_module(COMMANDS[name][1])
    actions: Mapping[str, str] = getattr(module, "ACTIONS", {})
    action = next((word for word in rest if word in actions), "") if helping else ""
    parser = _Parser(
        prog=f"rabbet {name} {action}".rstrip(),
        description=actions[action] if action else module.__doc__,
        allow_abbrev=False,
        # Only help needs the terminal's width, and finding that out takes as long as all arguments.
        formatter_class=partial(_Help, width=None if helping else 80),
    )
    parser.ascii_only = ascii_only
    parser.register("action", None, _Once)  # what an option does for which nothing else is said
    fill_parser(parser, name)
    if helping:
        parser.description = _wrapped(parser.description or "")
        _show_for(parser, action, getattr(module, "ONLY", {}))
        parser.usage = _short_usage(parser)
    if helping and actions:
        parser.epilog = "" if action else _actions_text(name, actions)
    return parser


def _show_for(parser: ArgumentParser, action: str, only: Mapping[str, Sequence[str]]) -> None:
    """Show in the help what counts for an action, or for none; what is for others is parsed all the same."""
    for argument in parser._actions:  # noqa: SLF001 - argparse has no other way
        if argument.dest in _NAMES_OF_ACTIONS:
            argument.help = SUPPRESS if action else argument.help
            continue
        if action not in only.get(argument.dest, (action,)):
            argument.help = SUPPRESS
        elif argument.help:
            argument.help = _FOR_ACTIONS.sub("", argument.help)


def _short_usage(parser: ArgumentParser) -> str:
    """The usage without the options, which the help lists below."""
    words = [
        action.metavar or action.dest
        for action in parser._actions  # noqa: SLF001 - argparse has no other way
        if not action.option_strings and action.help != SUPPRESS
    ]
    shown = (f"[{word}]" if isinstance(word, str) else str(word) for word in words)
    return " ".join([parser.prog, "[options]", *shown])


def _wrapped(text: str) -> str:
    """Paragraphs in lines that fit the terminal."""
    from shutil import get_terminal_size
    from textwrap import fill

    width = get_terminal_size().columns - 2
    return "\n\n".join(fill(" ".join(part.split()), width) for part in text.strip().split("\n\n"))


def _actions_text(name: str, actions: Mapping[str, str]) -> str:
    """The actions of a command, a line each, as its help shows them."""
    width = max(map(len, actions))
    summaries = {action: text.partition("\n")[0].rstrip(".") for action, text in actions.items()}
    lines = [f"  {action:<{width}}  {summary}" for action, summary in summaries.items()]
    return "\n".join(["actions:", *lines, "", f"`rabbet {name} ACTION --help` shows the options of one."])


def fill_parser(parser: ArgumentParser, name: str) -> None:
    """Give a parser the arguments of a command."""
    module = import_module(COMMANDS[name][1])
    module.add_arguments(parser)
    from rabbet.cli.options import add_loudness, add_place

    if name in OF_PLACES:
        add_place(parser)
    add_loudness(parser)


def _unknown(name: str, rest: Sequence[str]) -> WrongUsage:
    from difflib import get_close_matches

    from rabbet.cli.synonyms import meant
    from rabbet.core.shell import joined_words
    from rabbet.core.shown_text import shown_argument

    shown = shown_argument(name)[:60]
    known = meant(name, rest)
    if known:
        return WrongUsage(f"there is no command '{shown}'; Rabbet's command for it is", remedy=known)
    near = get_close_matches(name, COMMANDS, n=1)
    return WrongUsage(
        f"there is no command '{shown}'",
        remedy=joined_words(["rabbet", near[0], *rest]) if near else "rabbet --help",
    )
