"""Plain tables and a little colour, which supports and never carries the meaning alone.

Cells are made visible text here, before colour is added: a table's lines are the only ones that may hold
codes of a terminal.
"""

from collections.abc import Mapping, Sequence
from typing import NamedTuple, TextIO

from rabbet.core.shown_text import visible

__all__ = ["COLOURED", "PLAIN", "Style", "TableLine", "count", "size_text", "style_for", "table"]

_UNITS = ("B", "kB", "MB", "GB")


class Style(NamedTuple):
    """How words are set off: each field holds the codes of a terminal (ECMA-48), or nothing."""

    heading: str = ""
    good: str = ""
    warning: str = ""
    bad: str = ""
    faint: str = ""
    end: str = ""


class TableLine(str):
    """A line of a table: what its cells hold is visible text, so its colour codes are our own."""

    __slots__ = ()


PLAIN = Style()
COLOURED = Style(
    heading="\x1b[4m", good="\x1b[32m", warning="\x1b[35m", bad="\x1b[31m", faint="\x1b[2m", end="\x1b[0m"
)


def style_for(stream: TextIO, environ: Mapping[str, str]) -> Style:
    """Colour for a terminal, unless `NO_COLOR` is set or the terminal can't."""
    coloured = stream.isatty() and not environ.get("NO_COLOR") and environ.get("TERM") != "dumb"
    return COLOURED if coloured else PLAIN


def table(
    headings: Sequence[str],
    rows: Sequence[Sequence[str]],
    style: Style,
    *,
    tones: Mapping[str, str] | None = None,
) -> list[TableLine]:
    """Aligned columns without boxes. `tones` gives the colour of cells that hold a certain word."""
    rows = [[visible(cell) for cell in row] for row in rows]
    widths = [max(len(row[i]) for row in (headings, *rows)) for i in range(len(headings))]
    lines = [_line(headings, widths, [style.heading] * len(headings), style)]
    for row in rows:
        codes = [(tones or {}).get(cell, "") for cell in row]
        lines.append(_line(row, widths, codes, style))
    return lines


def _line(cells: Sequence[str], widths: Sequence[int], codes: Sequence[str], style: Style) -> TableLine:
    """Padding stays outside the colour, and a line has no space at its end."""
    last = max((number for number, cell in enumerate(cells) if cell), default=0)
    parts = []
    for number, (cell, width, code) in enumerate(zip(cells, widths, codes, strict=True)):
        coloured = f"{code}{cell}{style.end}" if code and cell else cell
        parts.append(coloured + " " * (width - len(cell)) if number < last else coloured)
    return TableLine("  ".join(parts[: last + 1]))


def count(number: int, noun: str) -> str:
    """Such as `1 library` or `3 libraries`."""
    plural = noun[:-1] + "ies" if noun.endswith("y") else noun + "s"
    return f"{number} {noun if number == 1 else plural}"


def size_text(size: float) -> str:
    """Bytes as people read them, such as `1.2 MB`."""
    unit = 0
    while size >= 1000 and unit < len(_UNITS) - 1:
        size, unit = size / 1000, unit + 1
    return f"{size:.0f} {_UNITS[unit]}" if unit == 0 or size >= 10 else f"{size:.1f} {_UNITS[unit]}"
