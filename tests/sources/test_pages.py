"""Listings that are kept between runs."""

import json
import unittest
from pathlib import Path

from rabbet.core.needs.names import library_name
from rabbet.demo.stand_in import Manner, StandIn
from rabbet.net.http.client import HttpClient
from rabbet.net.http.credentials import Credentials
from rabbet.net.http.wire import Wire
from rabbet.python.formats.simple_index import parse_json
from rabbet.python.sources.kinds.index import IndexSource
from rabbet.python.sources.kinds.pages import Pages
from tests.formats.test_simple_index import ENTRIES, WHEEL

NAME = library_name("combframe")


class DictMemory(dict[str, bytes]):
    """Remembers for the time of a test, and counts how often."""

    times = 0

    def recall(self, key: str) -> bytes | None:
        """What was remembered."""
        return self.get(key)

    def remember(self, key: str, content: bytes) -> None:
        """Keep it."""
        self.times += 1
        self[key] = content


class Kept(unittest.TestCase):
    """What is kept of a page is what was read from it."""

    def test_as_it_was(self) -> None:
        page = json.dumps({"files": [{**WHEEL, **change} for change, _ in ENTRIES]}).encode()
        listing = parse_json(page, name=NAME, source="s", address="https://apiary.example/simple/combframe/")
        pages = Pages(DictMemory())
        pages.keep("combframe", listing, "", {})
        kept = pages.recall("combframe")
        assert kept is not None
        again = kept.listing(NAME, "s")
        self.assertEqual((again.by_version, again.rejected), (listing.by_version, listing.rejected))
        self.assertGreater(len(listing.files), 10)

    def test_silent(self) -> None:
        """An index that says nothing is asked again after the time that its entry gives."""
        client = HttpClient(Wire(), {}, Credentials((), {}, {}, Path("/nowhere")))
        for max_age, fresh_for, asked in ((None, 600, 1), (None, 0, 2), (0, 600, 2), (600, 0, 1)):
            memory = DictMemory()
            with StandIn(manner=Manner(max_age=max_age)) as index:
                for _ in range(2):
                    IndexSource("s", index.address, client, Pages(memory, fresh_for)).listing(NAME)
                self.assertEqual(len(index.requests), asked, (max_age, fresh_for))

    def test_renewed(self) -> None:
        """That a page is unchanged is noted in a few bytes, and counts for that page alone."""
        memory, client = DictMemory(), HttpClient(Wire(), {}, Credentials((), {}, {}, Path("/nowhere")))
        with StandIn(manner=Manner(max_age=600)) as index:
            for refresh, asked in ((False, 1), (False, 1), (True, 2), (True, 3), (False, 3)):
                listing = IndexSource("s", index.address, client, Pages(memory), refresh=refresh).listing(
                    NAME
                )
                self.assertIsNotNone(listing)
                self.assertEqual((len(index.requests), memory.times), (asked, asked))
        sizes = sorted(len(content) for content in memory.values())
        self.assertEqual(len(sizes), 2)
        self.assertLess(sizes[0], 250)
        pages = Pages(memory)
        page = pages.recall(f"{index.address}{NAME}/")
        assert page is not None
        self.assertTrue(page.fresh)
        other = parse_json(b'{"files": []}', name=NAME, source="s", address=index.address)
        pages.keep(f"{index.address}{NAME}/", other, "another digest", {})
        page = pages.recall(f"{index.address}{NAME}/")
        assert page is not None
        self.assertFalse(page.fresh)

    def test_untagged(self) -> None:
        """A page without tag and freshness is asked for each time; unchanged, it is not read again."""
        for tagged in (True, False):
            memory, client = DictMemory(), HttpClient(Wire(), {}, Credentials((), {}, {}, Path("/nowhere")))
            with self.subTest(tagged=tagged), StandIn(manner=Manner(tagged=tagged)) as index:
                listings = [
                    IndexSource("s", index.address, client, Pages(memory)).listing(NAME) for _ in range(3)
                ]
                self.assertEqual((len(index.requests), memory.times), (3, 1))
                self.assertEqual(listings[1:], listings[:2])
