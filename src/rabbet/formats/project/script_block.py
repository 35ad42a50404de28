"""Inline script metadata (PEP 723): the comments in which a single file declares what it needs.

    # /// script
    # requires-python = ">=3.11"
    # dependencies = ["nectarplot>=2"]
    # ///

Everything else in the file, and how its lines end, stays as it is, whatever the file is encoded in.
"""

import re
from collections.abc import Iterator
from difflib import SequenceMatcher
from typing import NamedTuple

from rabbet.errors import NotUnderstood
from rabbet.formats.text.toml import parse_toml

__all__ = ["ScriptBlock", "declaration_of", "script_block", "toml_of", "with_block", "without_block"]

_LINE = re.compile(r"[^\r\n]*(?:\r\n|\n|\r)|[^\r\n]+")
_OPENING = re.compile(r"# /// ([a-zA-Z0-9-]+)\Z")
_NEARLY = re.compile(r"#\s*///\s*script\s*\Z")
_MARK = "\ufeff"  # of the byte order, with which a file may begin
_OPENED, _CLOSING = "# /// script", "# ///"
_SCRIPT = "script"
_ENCODING = re.compile(r"[ \t\f]*#.*?coding[:=]")  # a file's second line may tell it (PEP 263)
_EMPTIED = re.compile(r"^dependencies = \[\n\]$", re.MULTILINE)  # by taking out the last one
_HEADER = "[project]"
_ALLOWED = ("requires-python", "dependencies")
# What a script that was sent to somebody must not ask for: to run other code than its own, or to be several.
_REFUSED = ("build-from-source", "local", "variants", "languages")


class ScriptBlock(NamedTuple):
    """The block's content without the comment signs, and the lines of the file that open and close it."""

    toml: str
    opening: int  # counted from 1
    closing: int


def script_block(text: str, file: str) -> ScriptBlock | None:
    """The block of a file; `None` without one.

    Raises `NotUnderstood`, with the line, for a block that is never closed, a second one, and an opening that
    is nearly one.
    """
    lines = [line.rstrip("\r\n") for line in _LINE.findall(text.removeprefix(_MARK))]
    found = list(_blocks(lines, file))
    if len(found) > 1:
        raise NotUnderstood(
            f"{file} has several blocks of script metadata",
            because=[f"they begin in the lines {', '.join(str(block.opening) for block in found)}"],
        )
    return found[0] if found else None


def _blocks(lines: list[str], file: str) -> Iterator[ScriptBlock]:
    number = 0
    while number < len(lines):
        opened = _OPENING.match(lines[number])
        if opened is None:
            if _NEARLY.match(lines[number]):
                raise NotUnderstood(
                    f"{file} has a comment that nearly opens a block of script metadata",
                    because=[f"line {number + 1}: it has to be just '# /// script'"],
                )
            number += 1
            continue
        end = number + 1
        while end < len(lines) and (lines[end] == "#" or lines[end].startswith("# ")):
            end += 1
        closing = max((at for at in range(number + 1, end) if lines[at] == _CLOSING), default=0)
        if opened[1] == _SCRIPT:
            if not closing:
                raise NotUnderstood(
                    f"the script metadata of {file} is never closed",
                    because=[f"it begins in line {number + 1}, and a line '# ///' has to end it"],
                )
            content = "".join(f"{line[2:]}\n" for line in lines[number + 1 : closing])
            yield ScriptBlock(content, number + 1, closing + 1)
        number = closing + 1 if closing else number + 1


def declaration_of(block: ScriptBlock | None, file: str) -> str:
    """The declaration of a project that a block stands for; its lines have the numbers of the script's.

    Raises `NotUnderstood` for what is not TOML, and for entries that a script can't have.
    """
    if block is None:
        return f"{_HEADER}\n"
    text = f"{chr(10) * (block.opening - 1)}{_HEADER}\n{block.toml}"
    document = parse_toml(text, file)
    document.allow_only("project", "tool")
    document.table("project").allow_only(*_ALLOWED)
    settings = document.table("tool").table("rabbet")
    for key in settings:
        if key in _REFUSED:
            document.problems.add(f"tool.rabbet.{key}", "is for projects, and not for a single script")
    document.problems.raise_if_any()
    return text


def toml_of(declaration: str) -> str:
    """The block's content in a declaration that was made of one, and edited since."""
    content = declaration.lstrip("\n").partition(f"{_HEADER}\n")[2]
    return _EMPTIED.sub("dependencies = []", content)


def with_block(text: str, block: ScriptBlock | None, toml: str) -> str:
    """The file with other content in its block, or with a block where it had none.

    A new block stands behind the lines that tell how the file is started and encoded. Lines of the block that
    say the same as before stay as they are, byte for byte.
    """
    if text.startswith(_MARK):
        return _MARK + with_block(text.removeprefix(_MARK), block, toml)
    lines = _LINE.findall(text)
    ending = next((line[len(line.rstrip("\r\n")) :] for line in lines if line.endswith(("\n", "\r"))), "\n")
    if block is not None:
        inside = lines[block.opening : block.closing - 1]
        changed = _changed(inside, block.toml.splitlines(), toml.splitlines(), ending)
        return "".join([*lines[: block.opening], *changed, *lines[block.closing - 1 :]])
    first = 1 if lines and lines[0].startswith("#!") else 0
    if len(lines) > first and _ENCODING.match(lines[first]):
        first += 1
    before = lines[:first]
    if before and not before[-1].endswith(("\n", "\r")):
        before[-1] += ending
    made = [f"{_OPENED}{ending}", *_commented(toml.splitlines(), ending), f"{_CLOSING}{ending}"]
    apart = [ending] if lines[first:] and lines[first].strip() else []
    return "".join([*before, *made, *apart, *lines[first:]])


def without_block(text: str, block: ScriptBlock) -> Iterator[str]:
    """The file without its block, as it may have been before one was put there.

    That is also without the empty line behind it, and without the end of the line before it.
    """
    if text.startswith(_MARK):
        yield from (_MARK + bare for bare in without_block(text.removeprefix(_MARK), block))
        return
    lines = _LINE.findall(text)
    before, after = lines[: block.opening - 1], lines[block.closing :]
    yield "".join([*before, *after])
    if after:
        yield "".join([*before, *after[1:]])
    elif before:
        yield "".join(before).rstrip("\r\n")


def _changed(present: list[str], before: list[str], after: list[str], ending: str) -> Iterator[str]:
    """The lines of a block for other content; those that say the same are the present ones."""
    for kind, start, end, first, last in SequenceMatcher(None, before, after, autojunk=False).get_opcodes():
        yield from present[start:end] if kind == "equal" else _commented(after[first:last], ending)


def _commented(lines: list[str], ending: str) -> list[str]:
    return [f"# {line}{ending}" if line else f"#{ending}" for line in lines]
