"""`RECORD`: the list of an installed library's files with hash and size (PEP 376, PEP 627)."""

import base64
import csv
import io
from collections.abc import Iterable
from dataclasses import dataclass

__all__ = ["RecordRow", "read_record", "write_record"]


@dataclass(frozen=True, slots=True)
class RecordRow:
    """One file: its path with forward slashes, its sha256 in hexadecimal digits, its size in bytes.

    Hash and size are `None` where the record leaves them out, as it does for itself.
    """

    path: str
    sha256: str | None = None
    size: int | None = None


def read_record(text: str) -> tuple[RecordRow, ...]:
    """Read a `RECORD`. Raises `ValueError` for what is none."""
    rows = []
    try:
        for fields in csv.reader(io.StringIO(text, newline="")):
            if fields:
                path, digest, size = fields
                rows.append(RecordRow(path, _hexadecimal(digest), int(size) if size else None))
    except csv.Error as error:
        raise ValueError(str(error)) from error
    return tuple(rows)


def write_record(rows: Iterable[RecordRow]) -> str:
    """Write a `RECORD`, sorted by path."""
    output = io.StringIO(newline="")
    writer = csv.writer(output, lineterminator="\n")
    for row in sorted(rows, key=lambda row: row.path):
        digest = "" if row.sha256 is None else "sha256=" + _base64(row.sha256)
        writer.writerow([row.path, digest, "" if row.size is None else row.size])
    return output.getvalue()


def _hexadecimal(digest: str) -> str | None:
    """A record's digest is base64 without padding; other algorithms than sha256 are not looked at."""
    algorithm, _, value = digest.partition("=")
    if algorithm != "sha256":
        return None
    return base64.urlsafe_b64decode(value + "=" * (-len(value) % 4)).hex()


def _base64(digest: str) -> str:
    return base64.urlsafe_b64encode(bytes.fromhex(digest)).rstrip(b"=").decode()
