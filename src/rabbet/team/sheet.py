"""A census as rows and columns, in the order of likeness, and as one page.

Hierarchical clustering by average linkage, with the leaves in the optimal order of Bar-Joseph, Gifford and
Jaakkola (2001). Two groups are as far apart as the number of libraries in which they differ.
"""

from importlib.resources import files

from msgspec import Struct

from rabbet.core.census.matrix import Matrix

__all__ = ["Cell", "Column", "Line", "Nouns", "Sheet", "order_by_likeness", "page"]


class Cell(Struct, frozen=True, kw_only=True):
    """A library's state in a group: its characters, its weight, and its words."""

    text: str
    weight: str = ""
    detail: str = ""


class Column(Struct, frozen=True, kw_only=True):
    """A group of machines: its name, their labels, what sets them apart, and the command that mends that.

    Each machine was last `heard` of on a day, in the order of the labels; empty where nobody tells.
    """

    name: str
    labels: tuple[str, ...]
    text: str
    heard: tuple[str, ...] = ()
    mend: str = ""
    weight: str = ""


class Line(Struct, frozen=True, kw_only=True):
    """A library, on how many machines it breaks something or differs, and its cell in each column."""

    name: str
    breaking: int
    differing: int
    cells: tuple[Cell, ...]


class Nouns(Struct, frozen=True, kw_only=True):
    """What the rows are, and whose number stands at the head of a column; empty where nothing is counted."""

    row: str = "library"
    rows: str = "libraries"
    member: str = "machine"


class Sheet(Struct, frozen=True, kw_only=True):
    """The whole, with a title, one sentence on the outcome, what the signs mean, and when it was made."""

    title: str
    outcome: str
    legend: str
    columns: tuple[Column, ...]
    lines: tuple[Line, ...]
    doubts: tuple[str, ...] = ()
    nouns: Nouns = Nouns()
    made: str = ""

    @property
    def members(self) -> tuple[str, ...]:
        """For each column its machines, each with the day on which it was last heard of."""
        return tuple(
            ", ".join(
                f"{label} ({when})" if when else label
                for label, when in zip(column.labels, column.heard or [""] * len(column.labels), strict=True)
            )
            for column in self.columns
        )


def page(sheet: Sheet) -> str:
    """The page's text; whatever a census holds is text in it. Raises `ModuleNotFoundError` without Jinja."""
    from jinja2 import Environment, StrictUndefined

    template = files("rabbet.team").joinpath("page.html").read_text(encoding="utf-8")
    environment = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    return environment.from_string(template).render(sheet=sheet)


_MOST = 400  # groups whose leaves are put into the optimal order, which takes time with the cube of that


def order_by_likeness(matrix: Matrix) -> list[int]:
    """The numbers of the groups in that order; the first group stays first. Raises `ModuleNotFoundError`."""
    from scipy.cluster.hierarchy import leaves_list, linkage
    from scipy.spatial.distance import pdist

    count = len(matrix.groups)
    if count < 3 or not matrix.rows:
        return list(range(count))
    codes: dict[object, int] = {}
    vectors = [
        [codes.setdefault(group.state.trouble or _what(row.cells[number]), len(codes)) for row in matrix.rows]
        for number, group in enumerate(matrix.groups)
    ]
    tree = linkage(pdist(vectors, "hamming"), "average", optimal_ordering=count <= _MOST)
    order = [int(leaf) for leaf in leaves_list(tree)]
    if order.index(0) >= count / 2:
        order.reverse()  # the tree has no left and right of its own
    order.remove(0)
    return [0, *order]


def _what(finding: object) -> object:
    """The key by which two cells are the same."""
    if finding is None:
        return None
    return tuple(str(getattr(finding, name)) for name in ("kind", "installed", "weight"))
