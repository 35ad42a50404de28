"""Records in folders and archives, read once into an index; damaged, hostile and huge ones."""

import io
import json
import os
import tarfile
import tempfile
import unittest
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from packaging.version import Version

from rabbet.core.needs.names import library_name
from rabbet.core.rules.advisory import affects
from rabbet.demo.advisories import EXAMPLE, many_records
from rabbet.errors import CannotWrite, SourceFailed
from rabbet.store.advisory_index import AdvisoryIndex, IndexFacts
from rabbet.store.advisory_records import records_in, state_of_records
from tests.formats.test_osv import BROKEN, SILENT

TALLYWAX = library_name("tallywax")


def zipped(contents: dict, method: int = zipfile.ZIP_DEFLATED) -> bytes:
    """An archive of these files."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", method) as archive:
        for name, content in contents.items():
            archive.writestr(name, content)
    return buffer.getvalue()


def tarred(contents: dict, mode: str = "w:gz") -> bytes:
    """The same as a tar archive."""
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode=mode) as archive:
        for name, content in contents.items():
            member = tarfile.TarInfo(name)
            member.size = len(content)
            archive.addfile(member, io.BytesIO(content))
    return buffer.getvalue()


class Index(unittest.TestCase):
    """What is found of a library, whatever the records lie in."""

    def setUp(self) -> None:
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="rabbet-test-")))
        self.index = AdvisoryIndex(self.root / "store" / "index.sqlite")

    def read(self, place: Path) -> IndexFacts:
        """The facts of an index that is made from a place."""
        return self.index.write(records_in(place), state="x", written=0.0)

    def put(self, name: str, content: bytes) -> Path:
        """A file below the root."""
        place = self.root / name
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(content)
        return place

    def test_places(self) -> None:
        """A folder with others inside, archives of each kind, a single file: the same advisories."""
        for name, content in EXAMPLE.items():
            self.put(f"folder/2026/{name}", content)
        self.put("folder/.git/HIVE-9.json", EXAMPLE["APIARY-7.json"])
        self.put("folder/README.md", b"not a record")
        places = [
            self.root / "folder",
            self.put("deflated.zip", zipped(EXAMPLE)),
            self.put("stored", zipped(EXAMPLE, zipfile.ZIP_STORED)),
            self.put("records.tgz", tarred(EXAMPLE)),
            self.put("records.tar", tarred(EXAMPLE, "w")),
        ]
        for place in places:
            with self.subTest(place.name):
                facts = self.read(place)
                self.assertEqual((facts.records, facts.broken, facts.newest[:10]), (3, 0, "2026-05-01"))
                found = self.index.about([TALLYWAX, library_name("skepio")])
                self.assertEqual([*found], [TALLYWAX])
                self.assertEqual(sorted(one.id for one in found[TALLYWAX]), ["APIARY-7", "HIVE-2026-0001"])
        self.assertEqual(self.read(self.put("one.json", EXAMPLE["APIARY-7.json"])).records, 1)

    def test_bad_ones_cost_themselves(self) -> None:
        """Among hundreds of records, in a folder and in archives."""
        good = dict(many_records(300))
        bad = {f"bad-{number}.json": content for number, content in enumerate(BROKEN.values())}
        silent = {f"silent-{number}.json": content for number, content in enumerate(SILENT.values())}
        contents = {**bad, **good, **silent}
        for name, content in contents.items():
            self.put(f"folder/{name}", content)
        os.mkfifo(self.root / "folder" / "pipe.json")
        (self.root / "folder" / "gone.json").symlink_to("nowhere")
        broken = bytearray(zipped(contents))
        at = broken.index(b"MADE-2026-200.json") + 40  # inside its packed content
        broken[at] ^= 0xFF
        for place, more in (
            (self.root / "folder", 2),
            (self.put("all.zip", zipped(contents)), 0),
            (self.put("all.tar.gz", tarred(contents)), 0),
            (self.put("damaged.zip", bytes(broken)), 1),
        ):
            with self.subTest(place.name):
                facts = self.read(place)
                self.assertEqual(facts.broken, len(BROKEN) + more)
                self.assertEqual(facts.records, len(good) + len(silent) - (place.name == "damaged.zip"))
                self.assertEqual(len(facts.named), min(20, facts.broken))
                self.assertTrue(all(text.isprintable() for text in facts.named), facts.named)

    def test_archives_that_are_none(self) -> None:
        """What can't be read at all is a failure of the place; the index of before stays."""
        self.read(self.put("one.json", EXAMPLE["APIARY-7.json"]))
        whole = zipped(EXAMPLE)
        huge = tarred({f"{number}.json": b"{" + b" " * 900_000 for number in range(20)})
        cases = {
            "cut.zip": whole[: len(whole) // 2],
            "cut.tgz": tarred(EXAMPLE)[:200],
            "lying.zip": whole[:-22] + b"PK\x05\x06" + b"\xff" * 18,
            "nothing": b"PK\x03\x04",
        }
        for name, content in cases.items():
            with self.subTest(name), self.assertRaises(SourceFailed):
                self.read(self.put(name, content))
        with self.assertRaises(SourceFailed):
            self.read(self.root / "not there")
        self.assertEqual(len(self.index.about([TALLYWAX])[TALLYWAX]), 1)
        self.assertEqual(self.read(self.put("huge.tgz", huge)).broken, 20)

    def test_damage(self) -> None:
        """An index that is damaged, empty or of another form is as if there were none."""
        for content in (b"", b"the bees", os.urandom(9000)):
            self.read(self.put("one.json", EXAMPLE["APIARY-7.json"]))
            (self.root / "store" / "index.sqlite").write_bytes(content)
            self.assertEqual((self.index.facts(), self.index.about([TALLYWAX])), (None, {}))
        self.put("in the way", b"")
        with self.assertRaises(CannotWrite):
            AdvisoryIndex(self.root / "in the way" / "index").write([], state="", written=0.0)

    def test_many_at_once(self) -> None:
        """Writers and readers: each reader finds a whole index."""
        place = self.put("all.zip", zipped(dict(many_records(60))))
        self.read(place)
        names = [library_name(f"hive-{number}") for number in range(21)]

        def work(number: int) -> int:
            if number % 4 == 0:
                AdvisoryIndex(self.root / "store" / "index.sqlite").write(
                    records_in(place), state="x", written=0.0
                )
            return sum(map(len, AdvisoryIndex(self.root / "store" / "index.sqlite").about(names).values()))

        with ThreadPoolExecutor(8) as pool:
            self.assertEqual({*pool.map(work, range(40))}, {60})

    def test_against_the_records(self) -> None:
        """The index says of each release what reading all records says."""
        contents = dict(many_records(200))
        self.read(self.put("all.zip", zipped(contents)))
        for number in range(0, 67, 3):
            name = library_name(f"hive-{number}")
            for version in map(Version, ("1.0", "1.5", "2.0", "2.4", "2.10")):
                expected = set()
                for content in contents.values():
                    told = json.loads(content)
                    entry = told["affected"][0]
                    low, high = (next(iter(event.values())) for event in entry["ranges"][0]["events"])
                    inside = Version(low) <= version < Version(high) or str(version) in entry.get(
                        "versions", ()
                    )
                    if entry["package"]["name"] == name and inside:
                        expected.add(told["id"])
                found = {one.id for one in self.index.about([name]).get(name, ()) if affects(one, version)}
                self.assertEqual(found, expected, (name, version))

    def test_state(self) -> None:
        """It differs when a file is added, removed, changed or put in another's place."""
        folder = self.root / "folder"
        for name, content in EXAMPLE.items():
            self.put(f"folder/deep/{name}", content)
        (folder / "gone.json").symlink_to("nowhere")
        seen = [state_of_records(folder).digest]
        changes = (
            lambda: self.put("folder/deep/new.json", b"{}"),
            lambda: self.put("folder/deep/new.json", b"{} "),
            (folder / "deep" / "new.json").unlink,
            lambda: (folder / "deep").rename(folder / "deeper"),
        )
        for change in changes:
            change()
            seen.append(state_of_records(folder).digest)
        self.put("folder/README.md", b"")
        self.assertEqual(state_of_records(folder).digest, seen[-1])
        self.assertEqual(len({*seen}), len(seen) - (seen[3] == seen[0]))
