"""A census as it is drawn: texts in rows and columns, for the picture and the page alike."""

from msgspec import Struct

__all__ = ["Cell", "Column", "Line", "Sheet"]


class Cell(Struct, frozen=True, kw_only=True):
    """What a library is like in a group: in a few characters, by its weight, and in words."""

    text: str
    weight: str = ""
    detail: str = ""


class Column(Struct, frozen=True, kw_only=True):
    """A group of machines: its name, their labels, what sets them apart, and the command that mends that."""

    name: str
    labels: tuple[str, ...]
    text: str
    mend: str = ""
    weight: str = ""


class Line(Struct, frozen=True, kw_only=True):
    """A library, on how many machines it breaks something or differs, and its cell in each column."""

    name: str
    breaking: int
    differing: int
    cells: tuple[Cell, ...]


class Sheet(Struct, frozen=True, kw_only=True):
    """The whole, with a title, one sentence on the outcome, and what the signs mean."""

    title: str
    outcome: str
    legend: str
    columns: tuple[Column, ...]
    lines: tuple[Line, ...]
    doubts: tuple[str, ...] = ()
