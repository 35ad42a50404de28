"""Metadata of remote wheels without a metadata file beside them, and of source archives."""

import io
import tarfile
import unittest
import zipfile
from pathlib import Path

from rabbet.core.limits import MOST_METADATA
from rabbet.demo.files import build_file, metadata_of
from rabbet.demo.libraries import RELEASES
from rabbet.demo.stand_in import Manner, StandIn
from rabbet.net.http.client import HttpClient
from rabbet.net.http.credentials import Credentials
from rabbet.net.http.wire import Wire
from rabbet.python.formats.metadata import MetadataBroken
from rabbet.python.sources.files.archive_metadata import RemoteWheels, sdist_metadata_in

WHEEL = next(release for release in RELEASES if not release.sdist)
SIZE = len(build_file(WHEEL))
# the size that a listing tells, in turn → the requests that are made for it
ASKED = [
    (SIZE, ["HEAD", "GET"]),
    (SIZE, ["GET"]),
    (None, ["HEAD", "GET"]),
    (SIZE - 9, ["GET", "HEAD", "GET"]),
    (SIZE + 10**6, ["GET", "HEAD", "GET"]),
]


class Remote(unittest.TestCase):
    """Read by ranges."""

    def test_sizes(self) -> None:
        """A host that offers ranges is asked once whether it does; a size that is wrong does no harm."""
        with StandIn(manner=Manner(metadata_files=False)) as index:
            remote = RemoteWheels(HttpClient(Wire(), {}, Credentials((), {}, {}, Path("/nowhere"))))
            address = index.address.removesuffix("simple/") + f"files/{WHEEL.filename}"
            for size, methods in ASKED:
                with self.subTest(size=size):
                    index.requests.clear()
                    self.assertEqual(remote.metadata(address, size), metadata_of(WHEEL).encode())
                    self.assertEqual([request.split()[0] for request in index.requests], methods)


def packed(*members: tuple[str, bytes]) -> bytes:
    """A source archive with these files."""
    content = io.BytesIO()
    with tarfile.open(fileobj=content, mode="w:gz") as archive:
        for name, text in members:
            member = tarfile.TarInfo(name)
            member.size = len(text)
            archive.addfile(member, io.BytesIO(text))
    return content.getvalue()


def zipped(*members: tuple[str, bytes]) -> bytes:
    """The same in the other form."""
    content = io.BytesIO()
    with zipfile.ZipFile(content, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in members:
            archive.writestr(name, text)
    return content.getvalue()


TOLD = ("hive-1.0/PKG-INFO", b"Name: hive\n")
INNER = ("hive-1.0/hive.egg-info/PKG-INFO", b"Name: other\n")
LARGE = ("hive-1.0/honey.bin", bytes(100_000))
# file name, content → the metadata, or what is wrong
ARCHIVES = [
    ("hive-1.0.tar.gz", packed(LARGE, INNER, TOLD), TOLD[1]),
    ("hive-1.0.zip", zipped(LARGE, INNER, TOLD), TOLD[1]),
    ("hive-1.0.tar.gz", packed(INNER), "holds no PKG-INFO"),
    ("hive-1.0.zip", zipped(INNER), "holds 0 files"),
    ("hive-1.0.zip", zipped(TOLD, ("other-1.0/PKG-INFO", b"")), "holds 2 files"),
    ("hive-1.0.zip", zipped(("hive-1.0/PKG-INFO", bytes(MOST_METADATA + 1))), "larger than any metadata"),
    ("hive-1.0.tar.gz", packed(TOLD)[:40], "not a readable archive"),
    ("hive-1.0.tar.gz", b"honey", "not a readable archive"),
    ("hive-1.0.tar.gz", packed(("hive-1.0/honey.bin", bytes(2_000_000)), TOLD), "unpacks to more than"),
]


class SourceArchives(unittest.TestCase):
    """Read as a stream, up to a bound."""

    def test_archives(self) -> None:
        for number, (filename, content, expected) in enumerate(ARCHIVES):
            with self.subTest(number=number, filename=filename):
                if isinstance(expected, bytes):
                    found = sdist_metadata_in(io.BytesIO(content), filename, most=1_000_000)
                    self.assertEqual(found, expected)
                    continue
                with self.assertRaisesRegex(MetadataBroken, expected):
                    sdist_metadata_in(io.BytesIO(content), filename, most=1_000_000)
