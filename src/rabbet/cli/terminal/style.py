"""Plain tables and a little colour, which supports and never carries the meaning alone.

Cells are made visible text here, before colour is added: a table's lines are the only ones that may hold
codes of a terminal.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple, TextIO

from rabbet.cli.terminal.output import in_ascii, only_ascii
from rabbet.core.shown_text import visible

__all__ = ["COLOURED", "PLAIN", "Style", "TableLine", "style_for", "table"]

_GAP = 2  # characters between columns
_NARROWEST = 40  # a narrower terminal breaks lines itself
_NARROWEST_LAST, _NARROWEST_CELL = 24, 10


class Style(NamedTuple):
    """Terminal codes (ECMA-48) for emphasis; all empty where colour is off.

    `width` is the terminal's, in characters; 0 where there is none, and nothing has to fit. `ascii_only`:
    arrows and ellipses are written in ASCII.
    """

    heading: str = ""
    good: str = ""
    warning: str = ""
    bad: str = ""
    faint: str = ""
    end: str = ""
    width: int = 0
    ascii_only: bool = False


class TableLine(str):
    """A table's line, whose cells are already safe to show: its colour codes are ours."""

    __slots__ = ()


PLAIN = Style()
COLOURED = Style(
    heading="\x1b[4m", good="\x1b[32m", warning="\x1b[35m", bad="\x1b[31m", faint="\x1b[2m", end="\x1b[0m"
)


def style_for(stream: TextIO, environ: Mapping[str, str]) -> Style:
    """Colour for a terminal, unless `NO_COLOR` is set or the terminal can't; tables that fit it."""
    ascii_only = only_ascii(stream, environ)
    if not stream.isatty():
        return PLAIN._replace(ascii_only=ascii_only)
    from shutil import get_terminal_size

    coloured = not environ.get("NO_COLOR") and environ.get("TERM") != "dumb"
    width = max(_NARROWEST, get_terminal_size().columns)
    return (COLOURED if coloured else PLAIN)._replace(width=width, ascii_only=ascii_only)


def table(
    headings: Sequence[str],
    rows: Sequence[Sequence[str]],
    style: Style,
    *,
    tones: Mapping[str, str] | None = None,
) -> list[TableLine]:
    """Aligned columns without boxes. `tones` gives the colour of cells that hold a certain word.

    What is too wide for a terminal gives way in this order: the last column wraps under itself, then columns
    from right to left are cut and end in `…`.
    """
    spelled = in_ascii if style.ascii_only else str
    rows = [[spelled(visible(cell)) for cell in row] for row in rows]
    widths = [max(len(row[i]) for row in (headings, *rows)) for i in range(len(headings))]
    if style.width:
        widths = _fitting(widths, style.width)
    lines = [_line(headings, widths, [style.heading] * len(headings), style)]
    for row in rows:
        codes = [(tones or {}).get(cell, "") for cell in row]
        lines += [_line(part, widths, codes, style) for part in _in_lines(row, widths)]
    return lines


def _fitting(widths: Sequence[int], most: int) -> list[int]:
    """Column widths reduced to fit the terminal where possible."""
    fitting = list(widths)
    excess = sum(widths) + _GAP * (len(widths) - 1) - most
    for number in reversed(range(len(widths))):
        least = _NARROWEST_LAST if number == len(widths) - 1 else _NARROWEST_CELL
        given = min(excess, max(0, fitting[number] - least))
        if given > 0:
            fitting[number] -= given
            excess -= given
    return fitting


def _in_lines(row: Sequence[str], widths: Sequence[int]) -> Iterator[list[str]]:
    """Fit a row: the last cell is wrapped, the others are cut."""
    if len(row[-1]) <= widths[-1]:
        yield list(row)
        return
    from textwrap import wrap

    for number, part in enumerate(wrap(row[-1], widths[-1], break_on_hyphens=False)):
        yield [*(row[:-1] if number == 0 else [""] * (len(row) - 1)), part]


def _line(cells: Sequence[str], widths: Sequence[int], codes: Sequence[str], style: Style) -> TableLine:
    """Join cells; padding is not coloured, and no line ends with a space."""
    cut = "..." if style.ascii_only else "…"
    cells = [
        cell if len(cell) <= width else f"{cell[: width - len(cut)]}{cut}"
        for cell, width in zip(cells, widths, strict=True)
    ]
    last = max((number for number, cell in enumerate(cells) if cell), default=0)
    parts = []
    for number, (cell, width, code) in enumerate(zip(cells, widths, codes, strict=True)):
        coloured = f"{code}{cell}{style.end}" if code and cell else cell
        parts.append(coloured + " " * (width - len(cell)) if number < last else coloured)
    return TableLine("  ".join(parts[: last + 1]))
