r"""Plain lists of requirements, one a line, as people keep them beside a project.

A line is a requirement (PEP 508) with options behind it, or an option that includes another list (`-r`),
names a list of constraints (`-c`), or tells an installer where to look. A `\\` at its end joins it with the
next one, and a comment begins with `#` at the start of a line or behind a space.
"""

import re
from collections.abc import Iterator
from typing import Literal, NamedTuple
from urllib.parse import unquote

from packaging.requirements import InvalidRequirement

from rabbet.core.limits import LONGEST_TEXT, MOST_ROWS
from rabbet.core.needs.need import Need
from rabbet.core.shell import quoted
from rabbet.core.shown_text import without_credentials
from rabbet.formats.text.address import shown
from rabbet.formats.text.requirement import is_file, is_repository, read_requirement

__all__ = ["ListLine", "read_requirement_list"]

_COMMENT = re.compile(r"(^|\s)#.*\Z")
_OPTION_BEHIND = re.compile(r"\s+--[a-z].*\Z", re.DOTALL)
_OPTION = re.compile(r"(-{1,2}[A-Za-z][A-Za-z-]*)(?:\s*=\s*|\s*)(.*)\Z", re.DOTALL)
_EGG = re.compile(r"[#&]egg=([A-Za-z0-9._-]+)(\[[^\]]*\])?")
_WHEEL = re.compile(r"([A-Za-z0-9._]+)-[0-9][^/]*\.whl\Z")
_INCLUDE = ("-r", "--requirement", "--requirements")
_CONSTRAINTS = ("-c", "--constraint", "--constraints")
_EDITABLE = ("-e", "--editable")
_WHERE = ("-i", "--index-url", "--extra-index-url", "-f", "--find-links")


class ListLine(NamedTuple):
    """One line's content: a `need`, or an included file; and a word on what can't be taken over.

    `hashed`: the line also names the digests that the file may have.
    """

    number: int
    kind: Literal["need", "include", "constraints", "left"]
    text: str
    need: Need | None = None
    told: str = ""
    hashed: bool = False


def read_requirement_list(text: str) -> list[ListLine]:
    """All lines that say something. Raises `ValueError` for what is no such list, as it is too long."""
    if text.count("\n") > MOST_ROWS:
        raise ValueError(f"it has more than {MOST_ROWS} lines")
    if "\0" in text:
        raise ValueError("not text")
    return [_read(number, line) for number, line in _joined(text.removeprefix("\ufeff"))]


def _joined(text: str) -> Iterator[tuple[int, str]]:
    """Lines without comments, those that go on joined, each with the number of its first one."""
    begun = 0
    parts: list[str] = []
    for number, line in enumerate((*text.splitlines(), ""), 1):
        begun = begun if parts else number
        plain = _COMMENT.sub("", line).rstrip()
        parts.append(plain.removesuffix("\\").strip())
        if not plain.endswith("\\"):
            whole = " ".join(part for part in parts if part)
            parts = []
            if whole:
                yield begun, whole


def _read(number: int, line: str) -> ListLine:
    told = without_credentials(line[:LONGEST_TEXT])
    if line.startswith("-"):
        return _option(number, line)
    if "${" in line:
        return ListLine(number, "left", told, told="it holds a variable")
    plain = _OPTION_BEHIND.sub("", line).strip()
    hashed = "--hash" in line[len(plain) :]
    try:
        return ListLine(number, "need", told, need=_need(plain), hashed=hashed)
    except (InvalidRequirement, ValueError) as error:
        return ListLine(number, "left", told, told=without_credentials(str(error).splitlines()[0]))


def _need(text: str) -> Need:
    """A requirement, also one that is only an address. Raises `InvalidRequirement`, `ValueError`."""
    address = text.partition(" ;")[0].strip()
    is_address = "://" in address and "@ " not in address and " @" not in address
    if not is_address:
        if text.startswith((".", "/", "~")) or text.endswith((".whl", ".tar.gz", ".zip")):
            raise ValueError("it is a place on somebody's disk: rabbet declare --local NAME FOLDER")
        return read_requirement(text)
    egg, wheel = _EGG.search(address), _WHEEL.search(address)
    name = egg[1] + (egg[2] or "") if egg else unquote(wheel[1]).replace("_", "-") if wheel else ""
    place = _EGG.sub("", address)
    if not name:
        raise ValueError("its address does not tell which library it is: rabbet declare 'NAME @ ADDRESS'")
    if not (is_file(place) or is_repository(place)):
        raise ValueError("its address is neither that of a file nor of a git repository")
    return read_requirement(f"{name} @ {place}{text[len(address) :]}")


def _option(number: int, line: str) -> ListLine:
    found = _OPTION.match(line)
    name, value = (found[1], found[2].strip().strip("\"'")) if found else (line, "")
    if name[:2] in ("-r", "-c", "-e", "-i", "-f") and not name.startswith("--"):
        name, value = line[:2], line[2:].strip().strip("\"'")
    text = without_credentials(line[:LONGEST_TEXT])
    if name in _INCLUDE or name in _CONSTRAINTS:
        kind: Literal["include", "constraints"] = "include" if name in _INCLUDE else "constraints"
        return ListLine(number, kind, value)
    if name in _EDITABLE:
        return _editable(number, value, text)
    if name in _WHERE:
        where = shown(value) if "://" in value else value
        return ListLine(number, "left", text, told=f"a source: rabbet declare --source {quoted(where)}")
    return ListLine(number, "left", text, told="it tells an installer how to work")


def _editable(number: int, value: str, text: str) -> ListLine:
    """A library under development: repositories are declared as written, folders by name and place."""
    if value in (".", "./") or value.startswith(".["):
        return ListLine(number, "left", text, told="it is the project itself, which is installed anyway")
    if "://" in value:
        try:
            return ListLine(number, "need", text, need=_need(value))
        except (InvalidRequirement, ValueError) as error:
            return ListLine(number, "left", text, told=str(error).splitlines()[0])
    return ListLine(number, "left", text, told="a folder: rabbet declare --local NAME FOLDER")
