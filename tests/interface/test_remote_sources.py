"""What a remote source says is only about itself, and never without end."""

import base64
import hashlib
import json
import time
import unittest
from pathlib import Path

from rabbet.core.needs.names import library_name
from rabbet.demo.files import build_file, metadata_of
from rabbet.demo.libraries import MadeUp
from rabbet.demo.stand_in import Manner, StandIn
from rabbet.errors import SourceFailed
from rabbet.net.http.client import HttpClient
from rabbet.net.http.credentials import Credentials
from rabbet.net.http.wire import Wire
from rabbet.python.formats.simple_index import NotAnIndexPage, parse_html
from tests.support.hostile import Hostile, Reply
from tests.support.program import ProgramCase

TALLYWAX = MadeUp(name="tallywax", version="1.0", code="x = 1\n")
HEAVY = MadeUp(name="tallywax", version="1.0", code="x = 1\n", needs=("skepio",))
SKEPIO = MadeUp(name="skepio", version="1.0", code="x = 1\n")
KIND = {"Content-Type": "application/vnd.pypi.simple.v1+json"}
FRONT = Reply(b'{"meta": {}, "projects": []}', headers=KIND)


def entry(release: MadeUp, **told: object) -> dict[str, object]:
    """A file as a page lists it."""
    digest = hashlib.sha256(build_file(release)).hexdigest()
    return {
        "filename": release.filename,
        "url": f"../../files/{release.filename}",
        "hashes": {"sha256": digest},
        "size": len(build_file(release)),
        **told,
    }


def index(*releases: MadeUp, **told: object) -> dict[str, Reply]:
    """An index of these, with what is told of each file."""
    replies = {f"/files/{release.filename}": Reply(build_file(release)) for release in releases}
    for release in releases:
        page = json.dumps({"meta": {}, "files": [entry(release, **told)]}).encode()
        replies[f"/simple/{release.name}/"] = Reply(page, headers=KIND)
    return replies


class RemoteSources(ProgramCase):
    """A project that needs tallywax, from servers that are not what they should be."""

    def declare(self, *addresses: str, needs: str = "tallywax") -> None:
        """Write the declaration."""
        sources = "".join(
            f'[[tool.rabbet.sources]]\nname = "s{number}"\nurl = "{address}"\n'
            for number, address in enumerate(addresses)
        )
        text = f'[project]\nname = "hivescale"\nrequires-python = ">=3.11"\ndependencies = ["{needs}"]\n'
        (self.project / "pyproject.toml").write_text(text + sources)

    def test_told_of_files(self) -> None:
        """What a page can't truly say of a file leads to no lock; what is not true of it neither."""
        cases: list[tuple[dict[str, object], int, str]] = [
            ({"url": "file:///etc/passwd"}, 4, "neither https: nor http:"),
            ({"url": "http://["}, 4, "its address is not valid"),
            ({"hashes": {"sha256": "ab"}}, 4, "not 64 hexadecimal digits"),
            ({"hashes": {"sha256": "ab" * 32}, "size": None}, 6, "is not what the source's listing says"),
            ({"hashes": {}, "size": 5, "core-metadata": True}, 6, "is larger than its source says"),
            ({"size": 5}, 4, "more than 5 bytes of it came"),
        ]
        for told, code, words in cases:
            with self.subTest(told):
                replies = index(TALLYWAX, **told)
                replies[f"/files/{TALLYWAX.filename}.metadata"] = Reply(metadata_of(TALLYWAX).encode())
                replies[f"/files/{TALLYWAX.filename}"].headers = {"Content-Length": "", "Connection": "close"}
                with Hostile(replies) as server:
                    self.declare(f"{server.origin}/simple/")
                    self.assertIn(words, self.rabbet("resolve", code=code).err)
                    self.assertFalse((self.project / "pylock.toml").exists())

    def test_metadata_of_another_source(self) -> None:
        """What one source told of a wheel counts for it alone; what the wheel says, for all."""
        offered = {"core-metadata": True}
        honest, lying = index(TALLYWAX, **offered), index(TALLYWAX, **offered) | index(SKEPIO, **offered)
        for replies, told in ((honest, TALLYWAX), (lying, HEAVY)):
            replies[f"/files/{TALLYWAX.filename}.metadata"] = Reply(metadata_of(told).encode())
        lying[f"/files/{SKEPIO.filename}.metadata"] = Reply(metadata_of(SKEPIO).encode())
        with Hostile(lying) as liar, Hostile(honest) as other:
            self.declare(f"{liar.origin}/simple/")
            self.rabbet("resolve")
            self.assertEqual(set(self.locked()), {"tallywax", "skepio"}, "nobody can know better yet")
            error = self.rabbet("recreate", code=6).err
            self.assertIn("it does not need skepio", error)
            (self.project / "pylock.toml").unlink()
            self.declare(f"{other.origin}/simple/")
            self.rabbet("resolve")
            self.assertEqual(set(self.locked()), {"tallywax"})
            self.rabbet("recreate")
            self.declare(f"{liar.origin}/simple/")
            self.rabbet("resolve", "--raise-all")
            self.assertEqual(set(self.locked()), {"tallywax"}, "the wheel itself was seen")

    def test_traffic(self) -> None:
        """What was asked of a host is counted as the host itself counts it; only `--verbose` tells it."""
        with Hostile(index(TALLYWAX)) as server:
            self.declare(f"{server.origin}/simple/")
            told = json.loads(self.rabbet("resolve", "--verbose", "--json").out)["traffic"]
            (one,) = told
            bodies = sum(len(server.replies[path].body) for path in {path for path, _ in server.sent})
            counted = (one["host"], one["requests"], one["unchanged"], one["received"])
            self.assertEqual(counted, (server.origin, len(server.sent), 0, bodies))
            self.assertIn(f"asked {server.origin}: 1 request, ", self.rabbet("recreate", "--verbose").err)
            self.assertNotIn("asked", self.rabbet("resolve", "--raise-all", "--fresh-listings").err)
            self.assertNotIn("traffic", json.loads(self.rabbet("resolve", "--json").out))

    def test_never_moves_in_silence(self) -> None:
        """A locked library comes from its source or not at all; to move it is a wish of its own."""
        with Hostile(index(TALLYWAX)) as first, Hostile({}) as second:
            self.declare(f"{second.origin}/simple/", f"{first.origin}/simple/")
            self.rabbet("resolve")
            for begins, page in ((second, first.replies["/simple/tallywax/"]), (first, Reply(status=404))):
                begins.replies.update(index(TALLYWAX))
                first.replies["/simple/tallywax/"] = page
                path = self.project / "pyproject.toml"
                path.write_text(path.read_text().replace('tallywax"', 'tallywax>=1"'))
                lock = (self.project / "pylock.toml").read_text()
                error = self.rabbet("resolve", code=5).err
                self.assertIn("tallywax is locked from the source 's1'", error)
                self.assertEqual((self.project / "pylock.toml").read_text(), lock)
            self.rabbet("resolve", "--raise", "tallywax")
            self.assertIn(second.origin, (self.project / "pylock.toml").read_text())

    def test_claimed_by_two(self) -> None:
        """What two sources claim comes from the first one alone, also where that has nothing."""
        full = {"/simple/": FRONT, **index(TALLYWAX)}
        with Hostile({"/simple/": FRONT}) as first, Hostile(full) as second:
            self.declare(f"{first.origin}/simple/", f"{second.origin}/simple/")
            path = self.project / "pyproject.toml"
            path.write_text(path.read_text().replace('/simple/"\n', '/simple/"\nonly = ["tally*"]\n'))
            for command in (["resolve"], ["lookup", "tallywax"]):
                self.assertIn("'s0' claims tallywax", self.rabbet(*command, code=4).err)
            self.assertLessEqual({path for path, _ in second.sent}, {"/simple/"})
            first.replies.update(index(TALLYWAX))
            self.rabbet("resolve", "--fresh-listings")
            self.assertIn(first.origin, (self.project / "pylock.toml").read_text())

    def test_credentials(self) -> None:
        """They go where the user said, whatever a project calls that, and into nothing that is kept."""
        home = self.root / "home" / ".netrc"
        home.write_text("default login drone password honey\n")
        home.chmod(0o600)
        secret = "b e/e#@:%"
        with Hostile({}) as files, Hostile({}) as server:
            server.replies.update(index(TALLYWAX, url=f"{files.origin}/files/{TALLYWAX.filename}"))
            files.replies.update(index(TALLYWAX))
            self.declare(f"{server.origin}/simple/")
            own = {"RABBET_SOURCE_S0_USERNAME": "drone", "RABBET_SOURCE_S0_PASSWORD": "honey"}
            self.rabbet("resolve", RABBET_SOURCE_S0_ORIGIN=files.origin, **own)
            self.assertEqual(
                {request for _, request in server.sent}, {None}, "a project may call its source as it likes"
            )
            server.sent.clear()
            settings = self.root / "home" / "config" / "rabbet" / "settings.toml"
            settings.parent.mkdir(parents=True)
            for named, variables in ((f'[origins]\nours = "{server.origin}"\n', {}), ("", own)):
                settings.write_text(named)
                origin = {"RABBET_SOURCE_S0_ORIGIN": server.origin} if variables else {}
                files.sent.clear()
                server.sent.clear()
                self.rabbet("resolve", "--raise-all", **variables, **origin)
                self.rabbet("recreate", "--fresh", **variables, **origin)
                self.assertLessEqual({request for _, request in files.sent}, {None}, "a page named this host")
                self.assertEqual(
                    {request for _, request in server.sent},
                    {"Basic " + base64.b64encode(b"drone:honey").decode()},
                )
            server.replies.update(index(TALLYWAX))
            quoted = "b%20e%2Fe%23%40%3A%25"
            self.declare(server.origin.replace("//", f"//queen:{quoted}@") + "/simple/")
            server.sent.clear()
            self.rabbet("resolve", "--raise-all", "--fresh-listings")
            self.rabbet("recreate", "--fresh")
            expected = "Basic " + base64.b64encode(f"queen:{secret}".encode()).decode()
            self.assertEqual({request for _, request in server.sent}, {expected})
        kept = [self.project / "pylock.toml", *(self.root / "store").rglob("*")]
        for path in kept:
            if path.is_file():
                self.assertNotIn(b"queen", path.read_bytes(), path)
            elif path.is_dir() and "tree" not in path.parts:
                self.assertEqual(path.stat().st_mode & 0o077, 0, path)

    def test_addresses_that_hide_a_secret(self) -> None:
        """An address that can't be read says why, and not what it holds."""
        for address in (
            "https://bee:ho ney@h/",
            "https://bee:ho#ney@h/",
            "https://bee:1/ney@h/",
            "https://bee:\\n@h/",
        ):
            with self.subTest(address):
                self.declare(address)
                error = self.rabbet("resolve", code=3).err
                self.assertNotRegex(error, "ney|bee")
                self.assertIn("tool.rabbet.sources[0].url", error)
        error = self.rabbet("resolve", code=3, RABBET_SOURCE="http://[").err
        self.assertIn("url", error)

    def test_direct_addresses(self) -> None:
        """Fragments, queries, escapes and markers of a declared address are read right."""
        local = MadeUp(name="tallywax", version="1.0+hive", code="x = 1\n")
        digest = hashlib.sha256(build_file(local)).hexdigest()
        there = "/files/tallywax-1.0%2Bhive-py3-none-any.whl"
        (self.project / "wheels").mkdir()
        with Hostile({}) as server:
            for query in ("", "?key=1"):
                server.replies[there + query] = Reply(build_file(local))
                self.declare("wheels", needs=f"tallywax @ {server.origin}{there}{query}#sha256={digest}")
                self.rabbet("resolve", "--raise-all")
                self.assertEqual(self.locked(), {"tallywax": "1.0+hive"})
                self.rabbet("recreate", "--fresh")
            for mark, code in (
                ("sha256=" + "ab" * 32, 6),
                ("sha256=x", 3),
                ("md5=" + "ab" * 16, 3),
                ("egg=x", 3),
            ):
                with self.subTest(mark):
                    self.declare("wheels", needs=f"tallywax @ {server.origin}{there}#{mark}")
                    self.rabbet("resolve", "--raise-all", code=code)
            server.replies.update(index(TALLYWAX))
            self.declare(
                f"{server.origin}/simple/", needs=f"tallywax @ {server.origin}{there} ; os_name == 'nt'"
            )
            path = self.project / "pyproject.toml"
            path.write_text(
                path.read_text().replace('= ["tallywax', '= ["tallywax; os_name != \'nt\'", "tallywax')
            )
            self.rabbet("declare", "--target", "linux-x86_64", "windows-x86_64")
            self.rabbet("resolve", "--raise-all")
            lock = (self.project / "pylock.toml").read_text()
            self.assertIn('version = "1.0"', lock)
            self.assertIn('version = "1.0+hive"', lock)

    def test_address_under_an_extra(self) -> None:
        """What an extra needs from an address comes from there, or the extra can't be had."""
        need = "skepio @ https://apiary.example/skepio-2.0-py3-none-any.whl ; extra == 'net'"
        extra = MadeUp(name="tallywax", version="1.0", code="x = 1\n", needs=(need,), extras=("net",))
        with StandIn([extra, SKEPIO], manner=Manner()) as server:
            self.declare(server.address, needs="tallywax[net]")
            self.assertIn("does not declare", self.rabbet("resolve", code=4).err)
            self.declare(server.address)
            self.rabbet("resolve")
            self.assertEqual(self.locked(), {"tallywax": "1.0"})


class Bounds(unittest.TestCase):
    """Amounts and waits have an end."""

    def test_slow_answers(self) -> None:
        """Neither an answer that never begins, nor one that comes byte by byte, keeps anybody."""
        slow = Reply(b"x" * 500, piece=1, pause=0.05)
        with Hostile({"/body": slow, "/head": Reply(b"x", late=20)}) as server:
            for path in ("/body", "/head"):
                client = HttpClient(Wire(0.5), {}, Credentials((), {}, {}, Path("/nowhere")))
                begun = time.monotonic()
                with self.subTest(path), self.assertRaises(SourceFailed):
                    client.get(server.origin + path)
                self.assertLess(time.monotonic() - begun, 15)

    def test_names_that_stand_for_many_machines(self) -> None:
        """A page whose names multiply is refused before they are taken apart."""
        parts = "-".join(".".join(f"{letter}{{0}}x{number}" for number in range(5)) for letter in "abc")
        links = "".join(f"<a href='x-1-{parts.format(number)}.whl'>x</a>" for number in range(3000))
        with self.assertRaises(NotAnIndexPage):
            parse_html(
                f"<html>{links}".encode(),
                name=library_name("x"),
                source="s",
                address="https://x.example/",
            )
        more = "-".join(".".join(f"{letter}{number}" for number in range(9)) for letter in "abc")
        page = f"<html><a href='x-1-{more}.whl'>x</a>".encode()
        listing = parse_html(page, name=library_name("x"), source="s", address="https://x.example/")
        self.assertEqual((len(listing.files), len(listing.rejected)), (0, 1))
