"""Rules through the program: records appear, and whatever uses a lock says and does the right thing."""

import json
import os
import time
import tomllib
from datetime import UTC, datetime, timedelta
from pathlib import Path

from rabbet.demo.advisories import MILD, Flaw, record
from rabbet.demo.by_hand import put_there, site_of
from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from rabbet.demo.stand_in import Fault, Manner, StandIn
from tests.store.test_advisories import zipped
from tests.support.program import ProgramCase

FLAW = Flaw("a prepared file runs commands", introduced="1.0", fixed="1.2")


class Ruled(ProgramCase):
    """A project of which combframe needs tallywax; both have three releases."""

    def setUp(self) -> None:
        super().setUp()
        made = [
            MadeUp(name=name, version=version, code="x = 1\n", needs=needs, more=())
            for name, needs in (("combframe", ("tallywax",)), ("tallywax", ()))
            for version in ("1.0", "1.1", "1.2")
        ]
        write_files(self.root / "wheels", made)
        self.records = self.project / "advisories"
        self.records.mkdir()
        self.declaration = self.project / "pyproject.toml"
        self.begin("../wheels", "combframe")
        self.written = self.declaration.read_text()

    def rule(self, text: str) -> None:
        """State these rules in the declaration, in place of those of before."""
        self.declaration.write_text(f"{self.written}\n[tool.rabbet.rules]\n{text}\n")

    def appear(
        self, name: str = "HIVE-2026-0001", flaw: Flaw = FLAW, library: str = "tallywax", **more: object
    ) -> None:
        """Let a record appear."""
        (self.records / f"{name}.json").write_bytes(record(name, library, flaw, **more))

    def versions(self) -> dict[str, str]:
        """The versions in the lock."""
        lock = tomllib.loads((self.project / "pylock.toml").read_text())
        return {entry["name"]: entry["version"] for entry in lock["packages"]}

    def locked_at(self, version: str) -> None:
        """A lock and an environment with that release of tallywax, which nothing else holds there."""
        self.rabbet("declare", "--limit", f"tallywax=={version}", "--now")
        self.rabbet("retract", "--limit", "tallywax")
        self.rabbet("resolve")
        self.written = self.declaration.read_text()

    def broken(self, code: int = 1) -> list[tuple[str, str, bool]]:
        """What `rabbet rules` says: library, rule, whether it refuses."""
        found = self.rabbet("rules", "--json", code=code).json()["broken"]
        return [(one["name"], one["rule"], one["refuses"]) for one in found]


class Story(Ruled):
    """A record appears for what is locked and installed."""

    def test_a_record_appears(self) -> None:
        self.locked_at("1.1")
        self.rule('advisories = ["advisories"]\nseverity = 7\nstops = ["run"]')
        self.rabbet("rules")
        self.rabbet("drift")
        self.rabbet("run", "python", "-c", "")
        self.rabbet("census", "record", "--label", "loft", "--to", "loft.json")
        self.rabbet("census", "check", "--rules", "--from", "loft.json")
        before = (self.project / "pylock.toml").read_text()
        self.appear()
        self.appear("APIARY-7", aliases=("HIVE-2026-0001",), day=1)
        found = self.rabbet("rules", "--json", code=1).json()
        (broken,) = found["broken"]
        self.assertEqual(broken["brought"], ["combframe", "tallywax"])
        self.assertEqual((broken["locked"], broken["installed"]), (True, True))
        known = broken["vulnerability"]
        self.assertEqual((known["aliases"], known["score"], known["mended"]), (["APIARY-7"], 9.8, "1.2"))
        self.assertEqual([(move["name"], move["after"]) for move in found["moves"]], [("tallywax", "1.2")])
        finding = self.findings()["rule", "tallywax"]
        self.assertEqual((finding["weight"], finding["rule"]["id"]), ("breaks", "HIVE-2026-0001"))
        self.assertEqual(finding["mend"], "rabbet resolve --mend && rabbet recreate")
        self.rabbet("drift", "--silent", code=1)
        self.assertIn("1 broken", self.rabbet("status").out)
        self.assertIn("HIVE-2026-0001", self.rabbet("run", "python", "-c", "", code=1).err)
        self.rabbet("recreate")
        self.assertIn("HIVE-2026-0001", self.rabbet("recreate", "--strict", code=1).err)
        check = self.rabbet("census", "check", "--rules", "--from", "loft.json", code=1).out
        self.assertRegex(check, "tallywax 1.1: HIVE-2026-0001.*published 2026-01-01.*loft")
        self.rabbet("census", "check", "--from", "loft.json")
        self.assertIn("loft", self.rabbet("census", "show", "--rules", "--from", "loft.json").out)
        self.assertIn("--mend", self.rabbet("resolve", code=1).out)
        self.assertIn("--mend", self.rabbet("resolve", "--verify", code=1).out)
        self.assertEqual((self.project / "pylock.toml").read_text(), before)
        self.assertIn("HIVE-2026-0001", self.rabbet("resolve", "--mend", code=1).out)
        self.assertEqual((self.project / "pylock.toml").read_text(), before)
        (self.project / "before.toml").write_text(before)
        self.rabbet("resolve", "--mend", "--yes")
        self.assertEqual(self.versions(), {"combframe": "1.2", "tallywax": "1.2"})
        self.assertIn("Closes: tallywax 1.1", self.rabbet("compare", "before.toml", "pylock.toml").out)
        self.rabbet("recreate", "--strict")
        self.rabbet("drift")
        self.rabbet("rules")
        self.assertIn("nothing to mend", self.rabbet("resolve", "--mend").out)

    def test_by_hand(self) -> None:
        """What was put there by hand is judged as well; the lock itself breaks nothing."""
        self.rabbet("resolve", "--now")
        self.rule('advisories = ["advisories"]\nlicences = { allow = ["MIT"], unknown = "note" }')
        self.appear("HIVE-2026-0009", library="skepio", flaw=Flaw())
        self.rabbet("rules")
        put_there(site_of(self.project / ".venv"), "skepio", "0.3", installer="handy", asked=True)
        self.assertEqual(self.findings()["rule", "skepio"]["installed"], "0.3")
        self.assertIn(("skepio", "advisories", True), self.broken())
        self.assertIn("To mend: rabbet recreate", self.rabbet("rules", code=1).out)

    def test_accepting(self) -> None:
        """By an option, until a day; then it counts again, and at once when it is taken back."""
        self.locked_at("1.1")
        self.rule('advisories = ["advisories"]')
        self.appear()
        day = datetime.now(UTC).date()
        for wrong in (
            (),
            ("--reason", "unused"),
            ("--until", str(day)),
            ("--reason", " ", "--until", "soon"),
        ):
            self.rabbet("rules", "--accept", "HIVE-2026-0001", *wrong, code=2)
        accept = ("rules", "--accept", "HIVE-2026-0001", "--reason", "its reader is unused", "--until")
        self.rabbet(*accept, str(day - timedelta(days=1)))
        self.assertEqual(self.broken(), [("tallywax", "advisories", True)])
        self.assertIn("its acceptance ended", self.rabbet("rules", code=1).out)
        self.rabbet(*accept, str(day + timedelta(days=1)))
        self.assertEqual(self.broken(0), [("tallywax", "advisories", False)])
        bill = json.loads(self.rabbet("export", "bill").out)
        self.assertIn("its reader is unused", bill["vulnerabilities"][0]["analysis"]["detail"])
        self.rabbet("rules", "--judge-again", "HIVE-2026-0001")
        self.rabbet("rules", code=1)
        self.rabbet("rules", "--judge-again", "HIVE-2026-0001", code=2)

    def test_no_way_out(self) -> None:
        """Where every release is refused: the sentences name the rule, and accepting is the last way."""
        self.rule('advisories = ["advisories"]')
        self.appear(flaw=Flaw())
        error = self.rabbet("resolve", code=4).err
        self.assertIn("refused by the rule advisories: HIVE-2026-0001, severity 9.8", error)
        self.assertRegex(error.splitlines()[-1], "or .*rabbet rules --accept HIVE-2026-0001")
        self.rabbet("declare", "--plan", "tallywax", code=4)

    def test_bill(self) -> None:
        """The standard's own place for vulnerabilities, valid by its schema."""
        from cyclonedx.schema import SchemaVersion
        from cyclonedx.validation.json import JsonStrictValidator

        self.locked_at("1.1")
        self.rule('advisories = ["advisories"]')
        self.appear(aliases=("APIARY-7",))
        text = self.rabbet("export", "bill").out
        self.assertIsNone(JsonStrictValidator(SchemaVersion.V1_6).validate_str(text))
        (told,) = json.loads(text)["vulnerabilities"]
        self.assertEqual(told["affects"], [{"ref": "pkg:pypi/tallywax@1.1"}])
        self.assertEqual((told["ratings"][0]["score"], told["ratings"][0]["method"]), (9.8, "CVSSv31"))


class Choosing(Ruled):
    """Rules leave fewer releases to choose from; what is locked stays until it is mended."""

    def test_advisories(self) -> None:
        """The newest that is allowed; one below the severity only notes."""
        self.rule('advisories = ["advisories"]\nseverity = 4')
        self.appear(flaw=Flaw(introduced="1.2"))
        self.appear("HIVE-2026-0002", Flaw(vector=MILD), "combframe")
        self.rabbet("resolve")
        self.assertEqual(self.versions(), {"combframe": "1.2", "tallywax": "1.1"})
        self.assertEqual(self.broken(0), [("combframe", "advisories", False)])
        self.assertIn("1.2: refused by the rule advisories", self.rabbet("explain", "tallywax").out)
        self.assertIn("refused by the rule advisories", self.rabbet("lookup", "tallywax").out)
        self.assertIn("1.2     refused by the rule", self.rabbet("explain", "--held-back").out)

    def test_age(self) -> None:
        """By the index's times, which the lock notes then; a source without times is named."""
        self.rule('age = "14d"')
        self.assertIn("its source tells no time", self.rabbet("resolve", code=4).err)
        self.rule("")
        self.rabbet("resolve", "--now")
        self.rule('age = { least = "14d", libraries = ["*"] }')
        self.assertIn("doesn't tell yet", self.rabbet("rules", code=1).out)
        self.rabbet("recreate", "--strict", code=1)
        self.rabbet("resolve")
        self.rabbet("rules")
        index = self.serve(StandIn())
        days = (datetime.now(UTC) - datetime(2025, 3, 11, tzinfo=UTC)).days
        self.written = self.written.replace("../wheels", index.address)
        self.rule(f'age = "{days - 1}d"')
        self.rabbet("resolve", "--raise-all")
        self.assertEqual(self.versions()["tallywax"], "1.1")
        self.assertIn("upload-time = 2025-03-11T12:00:00Z", (self.project / "pylock.toml").read_text())
        self.assertIn("and the rule age wants", self.rabbet("explain", "tallywax").out)
        self.rule(f'age = {{ least = "{days - 1}d", libraries = ["tally*"] }}')
        self.rabbet("resolve", "--raise", "tallywax")
        self.assertEqual(self.versions()["tallywax"], "1.2")
        self.rule(f'age = "{days - 1}d"')
        self.assertEqual(self.broken(), [("tallywax", "age", True)])
        self.rabbet("resolve", code=1)
        self.assertEqual(self.versions()["tallywax"], "1.2")
        self.rabbet("resolve", "--mend", "--yes")
        self.assertEqual(self.versions()["tallywax"], "1.1")

    def test_from(self) -> None:
        """Only from a certain source, no source archives, no addresses, nothing yanked."""
        write_files(self.root / "hive", [MadeUp(name="tallywax", version="1.0", code="x = 1\n")])
        self.written += '\n[[tool.rabbet.sources]]\nname = "hive"\nurl = "../hive"\n'
        name = tomllib.loads(self.written)["tool"]["rabbet"]["sources"][0]["name"]
        self.rule(f'from.only.tallywax = ["{name}"]')
        self.rabbet("resolve")
        self.rule('from.only."tally*" = ["hive"]')
        self.assertEqual(self.broken(), [("tallywax", "from", True)])
        self.assertIn("may come from 'hive'", self.rabbet("resolve", code=1).out)
        self.assertIn("may come from 'hive'", self.rabbet("resolve", "--raise-all", code=4).err)
        wheel = next((self.root / "wheels").glob("tallywax-1.1*"))
        self.rule("from.addresses = false")
        self.rabbet("declare", f"tallywax @ {wheel.as_uri()}")
        self.assertIn("comes from an address", self.rabbet("resolve", "--raise-all", code=4).err)
        source = MadeUp(name="queenmark", version="1.0", sdist=True, code="x = 1\n", metadata_version="2.2")
        write_files(self.root / "wheels", [source])
        self.rabbet("retract", "tallywax")
        self.rabbet("declare", "queenmark", "--build-from-source", "queenmark")
        self.declaration.write_text(self.declaration.read_text().replace("addresses", "builds"))
        self.assertIn("has to be built", self.rabbet("resolve", "--raise-all", code=4).err)

    def test_licences(self) -> None:
        """Judged by the metadata of what is locked; they move nothing."""
        self.rabbet("resolve")
        self.rule('licences = ["MIT"]')
        self.assertEqual(self.broken(), [("combframe", "licences", True), ("tallywax", "licences", True)])
        self.assertIn("No move of versions", self.rabbet("rules", code=1).out)
        self.assertIn("No move of versions", self.rabbet("resolve", "--mend", code=1).out)
        self.rule('licences = { allow = ["MIT"], unknown = "note", except = { tallywax = "ours" } }')
        self.assertEqual(self.broken(0), [("combframe", "licences", False)])

    def test_wrong_rules(self) -> None:
        """Each is named, with what it should be."""
        wrong = {
            "severity = 11": "score from 0 to 10",
            'severity = "high"': "must be a number",
            'age = "soon"': "not a time",
            "age = 3": "must be",
            'licences = ["our own"]': "not an SPDX expression",
            'stops = ["drift"]': "not one of",
            'accept = [{ id = "X" }]': "reason",
            'accept = [{ id = "X", reason = "y", until = "soon" }]': "must be a day",
            'from = { only = { "a b" = ["x"] } }': "name or pattern",
            'licences = { allow = ["MIT"], except = { tallywax = " " } }': "must give a reason",
            'stale-after = "1y"': "not a time",
            "severty = 3": "not known here",
            'shared = ""': "is empty",
            'advisories = ["https://"]': "address",
        }
        for text, told in wrong.items():
            with self.subTest(text):
                self.rule(text)
                self.assertIn(told, self.rabbet("rules", code=3).err)
        self.rule('accept = [{ id = "X", reason = "y", until = 2027-01-01 }]\nage = "0d"')
        self.rabbet("rules")


class Places(Ruled):
    """Where rules and records come from."""

    def test_address(self) -> None:
        """Asked again only for what changed, and used without network; too old ones are refused."""
        manner = Manner()
        index = self.serve(
            StandIn(
                manner=manner, more={"/all.zip": zipped({"one.json": record("HIVE-1", "tallywax", FLAW)})}
            )
        )
        self.locked_at("1.1")
        place = index.address.replace("/simple/", "/all.zip")
        self.rule(f'advisories = ["{place}"]\nstale-after = "2h"')
        self.assertIn("not known on this machine", self.rabbet("rules", "--offline", code=5).err)
        self.assertIn("can't be told", self.rabbet("drift", code=1, RABBET_OFFLINE="1").out)
        self.assertEqual(self.broken(), [("tallywax", "advisories", True)])
        asked = len(index.requests)
        for command in (("rules",), ("drift",), ("resolve",), ("rules", "--offline")):
            self.rabbet(*command, code=1)
        self.assertEqual(len(index.requests), asked)
        self.rabbet("rules", "--fresh-listings", code=1)
        self.assertEqual([line for line in index.requests[asked:] if "all.zip" in line], ["HEAD /all.zip"])
        manner.faults["/all.zip"] = Fault.BROKEN
        self.assertIn("all.zip", self.rabbet("rules", "--fresh-listings", code=5).err)
        manner.faults["/all.zip"] = Fault.NONSENSE
        self.assertIn("can't be read", self.rabbet("rules", "--fresh-listings").out)
        del manner.faults["/all.zip"]
        self.rabbet("rules", "--fresh-listings", code=1)
        self.grow_old(3)
        self.assertIn("too old", self.rabbet("rules", "--offline", code=1).out.lower())
        for command in (("resolve", "--offline"), ("recreate", "--strict")):
            self.assertIn("too old", self.rabbet(*command, code=5).err)
        self.assertEqual(self.findings()["rule", "hivescale"]["reason"], "rules-unknown")
        self.assertIn("not known", self.rabbet("status").out)
        self.rabbet("resolve", code=1)

    def grow_old(self, hours: float) -> None:
        """Let what was asked lie so many hours back."""
        import sqlite3

        import msgspec

        for file in (self.root / "store").glob("*/advisories/*.sqlite"):
            with sqlite3.connect(file) as opened:
                (content,) = opened.execute("SELECT content FROM facts").fetchone()
                told = msgspec.msgpack.decode(content)
                told["checked"] = time.time() - hours * 3600
                opened.execute("UPDATE facts SET content = ?", (msgspec.msgpack.encode(told),))

    def test_stale_folder(self) -> None:
        """Of a folder the newest file tells the age."""
        self.locked_at("1.1")
        self.rule('advisories = ["advisories"]\nstale-after = "2d"')
        self.appear(flaw=Flaw(fixed="1.0"))
        self.rabbet("rules")
        old = time.time() - 3 * 86400
        for place in (self.records, *self.records.iterdir()):
            os.utime(place, (old, old))
        self.assertIn("3 days", self.rabbet("rules", code=1).out)

    def test_shared(self) -> None:
        """A team's file counts as well, by path or address; the lock notes its digest."""
        index = self.serve(StandIn(more={"/rules.toml": b"severity = 9.0\nadvisories = []\n"}))
        self.locked_at("1.1")
        self.appear()
        shared = self.root / "team" / "rules.toml"
        shared.parent.mkdir()
        shared.write_text(
            'advisories = ["../hivescale/advisories"]\nlicences = { allow = ["MIT"], unknown = "note" }\n'
        )
        self.declaration.write_text(
            self.written.replace("[tool.rabbet]", "") + '\n[tool.rabbet]\nrules = "../team/rules.toml"\n'
        )
        self.assertIn(("tallywax", "advisories", True), self.broken())
        self.rabbet("resolve", "--mend", "--yes")
        noted = tomllib.loads((self.project / "pylock.toml").read_text())["tool"]["rabbet"]["rules"]
        self.assertRegex(noted[0], "^sha256:")
        shared.write_text(shared.read_text() + "severity = 3\n")
        self.rabbet("resolve", "--verify", code=1)
        self.rabbet("resolve")
        self.rabbet("resolve", "--verify")
        self.rabbet("rules", "--accept", "HIVE-2026-0001", "--reason", "unused", "--until", "2099-01-01")
        self.assertIn('shared = "../team/rules.toml"', self.declaration.read_text())
        self.rule(
            f'shared = "{index.address.replace("/simple/", "/rules.toml")}"\nadvisories = ["advisories"]'
        )
        self.rabbet("recreate")
        self.rabbet("rules")
        self.rabbet("rules", "--offline")
        self.rule('shared = "../nowhere.toml"')
        self.assertIn("not there", self.rabbet("rules", code=5).err)
        shared.write_text("severty = 3")
        self.rule('shared = "../team/rules.toml"')
        self.rabbet("rules", code=3)

    def test_settings(self) -> None:
        """The user's own rules count for all projects; a project can't except itself from them."""
        self.locked_at("1.1")
        settings = Path(self.variables["XDG_CONFIG_HOME"]) / "rabbet" / "settings.toml"
        settings.parent.mkdir(parents=True)
        settings.write_text(f'[rules]\nadvisories = ["{self.records}"]\n')
        self.rabbet("resolve")
        self.appear()
        self.assertEqual(self.broken(), [("tallywax", "advisories", True)])
        self.rabbet("resolve", code=1)
        accepted = '{ id = "HIVE-2026-0001", reason = "unused", until = "2099-01-01" }'
        self.rule(f"severity = 9.9\naccept = [{accepted}]")
        self.assertEqual(self.broken(), [("tallywax", "advisories", True)])
        settings.write_text(f'[rules]\nadvisories = ["{self.records}"]\naccept = [{accepted}]\n')
        self.assertEqual(self.broken(0), [("tallywax", "advisories", False)])
        self.rabbet("resolve")
        self.assertNotIn("rules", tomllib.loads((self.project / "pylock.toml").read_text())["tool"]["rabbet"])
