"""Metadata of remote wheels that have no metadata file beside them."""

import unittest
from pathlib import Path

from rabbet.demo.files import build_file, metadata_of
from rabbet.demo.libraries import RELEASES
from rabbet.demo.stand_in import Manner, StandIn
from rabbet.sources.archive_metadata import RemoteWheels
from rabbet.sources.credentials import Credentials
from rabbet.sources.http import HttpClient

WHEEL = next(one for one in RELEASES if not one.sdist)
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
            remote = RemoteWheels(HttpClient({}, Credentials((), {}, Path("/nowhere"))))
            address = index.address.removesuffix("simple/") + f"files/{WHEEL.filename}"
            for size, methods in ASKED:
                with self.subTest(size=size):
                    index.requests.clear()
                    self.assertEqual(remote.metadata(address, size), metadata_of(WHEEL).encode())
                    self.assertEqual([one.split()[0] for one in index.requests], methods)
