"""Format errors for people: the message, the reasons, and commands to try."""

import re
import shlex
from collections.abc import Collection, Iterator, Sequence
from typing import TextIO

from rabbet.core.shell import joined_words, variant_option
from rabbet.core.shown_text import visible, without_credentials
from rabbet.errors import RabbetError, Way

__all__ = ["as_meant", "document", "for_undone", "for_variant", "plain", "reasons", "ways"]

_ABOUT_ENVIRONMENTS = re.compile(r"\brabbet (?:recreate|run|enter|drift)\b(?!.* --variant)")


def reasons(message: str, because: Sequence[str], stream: TextIO) -> list[str]:
    """The lines that say what failed, and why."""
    told = [line for reason in because for line in _wrapped(plain(reason), stream)]
    return [f"error: {plain(message)}", *_labelled("because", told)]


def ways(note: str, commands: Sequence[Way], stream: TextIO) -> list[str]:
    """The lines that say what to do: a command alone behind `try` and `or`, notes on lines of their own."""
    lines = _noted(note, stream)
    for number, way in enumerate(commands):
        lines += [*_noted(way.gives, stream), f"  {'or ' if number else 'try'}     {plain(way.command)}"]
    return lines


def document(error: RabbetError) -> str:
    """An error as one JSON document."""
    import json

    content = {
        "schema": "rabbet.error/1",
        "message": plain(str(error)),
        "because": [plain(reason) for reason in error.because],
        "note": plain(error.note) or None,
        "try": [plain(way.command) for way in error.ways],
        "exit_code": int(error.exit_code),
    }
    return json.dumps(content, indent=2)


def for_variant(commands: Sequence[Way], variant: str) -> tuple[Way, ...]:
    """The same commands for a variant of the project, where they are about an environment."""
    option = variant_option(variant)

    def told(way: Way) -> Way:
        return way._replace(
            command=_ABOUT_ENVIRONMENTS.sub(lambda found: found.group() + option, way.command)
        )

    return tuple(told(way) for way in commands)


def as_meant(error: RabbetError, given: Sequence[str]) -> tuple[Way, ...]:
    """The error's ways; first of all the command line as it was meant, where a word of it was wrong."""
    if error.meant is None:
        return error.ways
    wrong, right = error.meant
    place = re.compile(rf"(\A|=){re.escape(wrong)}(\Z|=)")
    words = [place.sub(lambda found: found[1] + right + found[2], word) for word in given]
    first = (Way(f"rabbet {joined_words(words)}"),) if words != [*given] else ()
    return (*first, *error.ways)


def for_undone(error: RabbetError, given: Sequence[str]) -> tuple[Way, ...]:
    """The error's ways for the state before the command, whose entries were put back.

    What declares one of these entries otherwise takes the command's place; what would retract one is done
    already; what concerns others comes before the command, which goes on to the lock by itself.
    """
    if not error.undone:
        return error.ways
    if given[0] == "begin":
        return tuple(_begun_otherwise(error, given))
    again = f"rabbet {joined_words(given)}"
    return tuple(way for way in (_for_undone(way, error.undone, again) for way in error.ways) if way)


def _for_undone(way: Way, undone: Collection[str], again: str) -> Way | None:
    parts = way.command.split(" && ")
    if all(part.startswith(("rabbet resolve", "rabbet recreate")) for part in parts):
        return None
    edits = [part for part in parts if part.startswith(("rabbet declare ", "rabbet retract "))]
    if not edits:
        return way
    kept = [part for part in edits if not (part.startswith("rabbet retract ") and _names(part) & {*undone})]
    if not kept:
        return None
    if any(_names(part) & {*undone} for part in kept):
        return way._replace(command=f"{' && '.join(kept)}{' --plan' if ' --plan' in again else ' --now'}")
    return way._replace(command=f"{' && '.join(kept)} && {again}")


def _begun_otherwise(error: RabbetError, given: Sequence[str]) -> Iterator[Way]:
    """The ways where the declaration itself was put back: the same beginning with other entries.

    Last comes the beginning alone, after which the declaration can be changed.
    """
    for way in error.ways:
        verb, *words = shlex.split(way.command)[1:]
        if "&&" not in words and verb == "declare":
            yield way._replace(command=f"rabbet {joined_words(_with_entry(given, words))}")
        elif "&&" not in words and verb == "retract":
            left = [word for word in given if _name(word) != _name(words[-1])]
            if len(left) < len(given):
                yield way._replace(command=f"rabbet {joined_words(left)}")
        elif verb not in ("begin", "declare", "retract", "resolve", "recreate"):
            yield way
    alone = [word for word in given if word != "--now"]
    if alone != [*given]:
        yield Way(f"rabbet {joined_words(alone)}", "writes the declaration alone, which can be changed then:")


def _with_entry(given: Sequence[str], entry: Sequence[str]) -> list[str]:
    """A command line whose entry of that name is replaced, or which has it besides."""
    name = _name(entry[-1])
    replaced = [entry[-1] if _name(word) == name else word for word in given]
    return replaced if name in map(_name, given) else [*given, *entry]


def _name(word: str) -> str:
    """The name in a word: what stands before versions."""
    return re.split(r"[^A-Za-z0-9._-]", word, maxsplit=1)[0].lower()


def _names(command: str) -> set[str]:
    """The names in a command, and options."""
    return {_name(word) for word in shlex.split(command)[2:]}


def _noted(text: str, stream: TextIO) -> list[str]:
    told = [line for part in text.splitlines() for line in _wrapped(plain(part), stream)]
    return _labelled("note", told)


def _labelled(label: str, lines: Sequence[str]) -> list[str]:
    return [f"{'' if number else '  ' + label:9} {line}" for number, line in enumerate(lines)]


def plain(text: str) -> str:
    """A line without secrets; these are removed before wrapping, for a line break could hide one."""
    return visible(without_credentials(text))


def _wrapped(reason: str, stream: TextIO) -> list[str]:
    """A reason in lines that fit a terminal; elsewhere, and for a position marked below a text, as it is."""
    if not stream.isatty() or reason.startswith(" "):
        return [reason]
    from shutil import get_terminal_size
    from textwrap import wrap

    width = max(40, min(get_terminal_size().columns, 100) - 10)
    return wrap(reason, width, subsequent_indent="  ", break_on_hyphens=False) or [reason]
