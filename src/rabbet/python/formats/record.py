"""`RECORD`: the list of an installed library's files with hash and size (PEP 376, PEP 627)."""

import base64
import csv
import hashlib
import io
from binascii import a2b_base64
from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct

from rabbet.core.limits import LONGEST_LINE, MOST_ROWS

__all__ = ["STRONG", "RecordRow", "read_record", "with_record", "write_record"]

STRONG = ("sha256", "sha384", "sha512")  # hashes that a file can be known by
_SIZES = {name: hashlib.new(name).digest_size for name in STRONG}  # bytes
_MOST_DIGITS = 20  # of a size


class RecordRow(Struct, frozen=True):
    """One file: its path with forward slashes, the digest in hexadecimal digits, the size in bytes.

    Digest and size are `None` where the record leaves them out, as it does for itself; `algorithm` is what
    the digest was made by, as the record names it.
    """

    path: str
    digest: str | None = None
    size: int | None = None
    algorithm: str = ""

    @property
    def sha256(self) -> str | None:
        """The digest, if it is one of SHA-256."""
        return self.digest if self.algorithm == "sha256" else None


def read_record(text: str) -> tuple[RecordRow, ...]:
    """Read a `RECORD`. Raises `ValueError` for what is not one."""
    rows: list[RecordRow] = []
    try:
        for fields in csv.reader(io.StringIO(text, newline="")):
            if fields:
                rows.append(_row(*fields))
            if len(rows) > MOST_ROWS:
                raise ValueError(f"it lists more than {MOST_ROWS} files")
    except (csv.Error, TypeError) as error:
        raise ValueError(str(error)) from error
    return tuple(rows)


def _row(path: str, digest: str, size: str) -> RecordRow:
    if len(path) > LONGEST_LINE or "\0" in path:
        raise ValueError(f"'{path[:60]}…' can't be a place")
    if size and not (size.isascii() and size.isdecimal() and len(size) < _MOST_DIGITS):
        raise ValueError(f"'{size[:60]}' is not a size")
    algorithm, _, value = digest.partition("=")
    known = _hexadecimal(algorithm, value) if algorithm in STRONG else None
    return RecordRow(path, known, int(size) if size else None, algorithm)


def write_record(rows: Iterable[RecordRow]) -> str:
    """Write a `RECORD`, sorted by path."""
    output = io.StringIO(newline="")
    writer = csv.writer(output, lineterminator="\n")
    for row in sorted(rows, key=lambda row: row.path):
        digest = "" if row.digest is None else f"{row.algorithm}={_base64(row.digest)}"
        writer.writerow([row.path, digest, "" if row.size is None else row.size])
    return output.getvalue()


def with_record(contents: Mapping[str, bytes], info: str) -> Iterator[tuple[str, bytes]]:
    """The files of a wheel sorted by their places, and behind them their `RECORD`, in the folder `info`."""
    rows = [
        RecordRow(place, hashlib.sha256(body).hexdigest(), len(body), "sha256")
        for place, body in contents.items()
    ]
    record = write_record([*rows, RecordRow(f"{info}/RECORD")])
    yield from sorted(contents.items())
    yield f"{info}/RECORD", record.encode()


def _hexadecimal(algorithm: str, value: str) -> str:
    """A record's digest: base64 without padding, or hexadecimal digits, which some builders write."""
    size = _SIZES[algorithm]
    if len(value) == 2 * size:
        digest = bytes.fromhex(value)
    else:
        plain = value.replace("-", "+").replace("_", "/") + "=" * (-len(value) % 4)
        digest = a2b_base64(plain, strict_mode=True)  # a fifth of the time of `b64decode`
    if len(digest) != size:
        raise ValueError(f"'{value[:60]}' is not a digest of {algorithm}")
    return digest.hex()


def _base64(digest: str) -> str:
    return base64.urlsafe_b64encode(bytes.fromhex(digest)).rstrip(b"=").decode()
