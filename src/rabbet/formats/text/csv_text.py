"""Tables as comma-separated values (RFC 4180), for spreadsheets and other programs."""

import csv
import io
from collections.abc import Iterable, Sequence

from rabbet.core.shown_text import visible

__all__ = ["csv_lines"]


def csv_lines(headings: Sequence[str], rows: Iterable[Sequence[str]]) -> list[str]:
    """A table, a line a row: each cell is one line, and none that a spreadsheet takes for a formula."""
    output = io.StringIO(newline="")
    writer = csv.writer(output, lineterminator="\n")
    writer.writerows([map(_plain, row) for row in (headings, *rows)])
    return output.getvalue().splitlines()


def _plain(cell: str) -> str:
    return visible(f"'{cell}" if cell[:1] in "=+-@" and len(cell) > 1 else cell)
