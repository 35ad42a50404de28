"""A census as a picture, by Matplotlib: libraries × groups of machines, with a sign in each cell."""

from io import BytesIO

from rabbet.core.shown_text import some_of
from rabbet.team.sheet import Column, Sheet

__all__ = ["drawn"]

_MOST_ROWS, _MOST_COLUMNS = 40, 60
_FACES = {"breaks": "#c0392b", "differs": "#f0c75e", "unknown": "#b9b4a6", "": "#f4f1e8"}
_INKS = {"breaks": "#ffffff", "differs": "#222222", "unknown": "#222222", "": "#8a8570"}
_CELL, _LEFT, _HEAD, _LINE = (0.62, 0.3), 2.2, 1.5, 0.26  # inches
_TOLD, _LABELS = 12, 3  # groups that are told in words, and labels of each
_NARROW = 0.3  # inches of a cell that holds no more than a sign
_DPI = 120


def drawn(sheet: Sheet) -> bytes:
    """The picture, as a PNG file's content. Raises `ModuleNotFoundError` without Matplotlib."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure
    from matplotlib.patches import Rectangle

    columns, lines = sheet.columns[:_MOST_COLUMNS], sheet.lines[:_MOST_ROWS]
    crowded = len(columns) > 16
    cell_width = _NARROW if crowded else max(_CELL[0], 0.09 * _longest(sheet, len(columns), len(lines)))
    width = max(8.0, _LEFT + cell_width * len(columns) + 0.4)
    below = [
        sheet.legend,
        *([sheet.made] if sheet.made else []),
        *_rest(sheet, len(columns), len(lines)),
        "",
        *map(_group, columns[:_TOLD]),
    ]
    height = _HEAD + _CELL[1] * max(1, len(lines)) + _LINE * (len(below) + 1)
    figure = Figure(figsize=(width, height), dpi=_DPI, facecolor="#ffffff")
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set(xlim=(0, width), ylim=(height, 0))
    axes.axis("off")
    axes.text(0.2, 0.3, _plain(sheet.title), fontsize=13, fontweight="bold", va="center")
    axes.text(0.2, 0.62, _plain(sheet.outcome), fontsize=10, va="center")
    for number, column in enumerate(columns):
        middle = _LEFT + cell_width * (number + 0.5)
        axes.text(middle, _HEAD - 0.36, column.name, fontsize=10, fontweight="bold", ha="center", va="center")
        if sheet.nouns.member:
            axes.text(middle, _HEAD - 0.13, str(len(column.labels)), fontsize=8, ha="center", va="center")
    if sheet.nouns.member:
        axes.text(_LEFT - 0.12, _HEAD - 0.13, f"{sheet.nouns.member}s", fontsize=8, ha="right", va="center")
    for row, line in enumerate(lines):
        top = _HEAD + _CELL[1] * row
        axes.text(_LEFT - 0.12, top + _CELL[1] / 2, _plain(line.name), fontsize=9, ha="right", va="center")
        for number, cell in enumerate(line.cells[: len(columns)]):
            left = _LEFT + cell_width * number
            box = Rectangle(
                (left, top),
                cell_width,
                _CELL[1],
                facecolor=_FACES.get(cell.weight, _FACES[""]),
                edgecolor="#ffffff",
            )
            axes.add_patch(box)
            axes.text(
                left + cell_width / 2,
                top + _CELL[1] / 2,
                _plain(cell.text.split()[-1] if crowded else cell.text),
                fontsize=8,
                color=_INKS.get(cell.weight, _INKS[""]),
                ha="center",
                va="center",
            )
    bottom = _HEAD + _CELL[1] * max(1, len(lines))
    for number, text in enumerate(below):
        axes.text(0.2, bottom + _LINE * (number + 1), _plain(text), fontsize=9, va="center")
    content = BytesIO()
    FigureCanvasAgg(figure).print_png(content)  # type: ignore[no-untyped-call]
    return content.getvalue()


def _longest(sheet: Sheet, columns: int, lines: int) -> int:
    texts = (cell.text for line in sheet.lines[:lines] for cell in line.cells[:columns])
    return max(map(len, texts), default=0)


def _group(column: Column) -> str:
    """A group in one line."""
    labels = f"{some_of(column.labels, _LABELS)}: " if column.labels else ""
    return f"{column.name}   {labels}{column.text}"


def _rest(sheet: Sheet, columns: int, lines: int) -> list[str]:
    """How much did not fit, if anything."""
    hidden = [
        (len(sheet.columns) - columns, "more columns"),
        (len(sheet.lines) - lines, f"more {sheet.nouns.rows}"),
    ]
    told = " and ".join(f"{count} {what}" for count, what in hidden if count)
    return [f"Not drawn: {told}."] if told else []


def _plain(text: str) -> str:
    """A text that Matplotlib does not take for mathematics, and that no control character is in."""
    shown = "".join(
        character if character.isprintable() else "\N{REPLACEMENT CHARACTER}" for character in text
    )
    return shown.replace("$", "\\$")
