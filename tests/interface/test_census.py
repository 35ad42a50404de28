"""The team's machines: recorded without secrets, shared through git, shown against the lock."""

import getpass
import http.client
import json
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

from rabbet.demo.by_hand import put_there, site_of
from rabbet.demo.stand_in import StandIn
from tests.support import PATIENCE
from tests.support.program import ProgramCase

GIT = (
    "git",
    "-c",
    "user.name=bee",
    "-c",
    "user.email=bee@apiary.example",
    "-c",
    "protocol.file.allow=always",
)
HOSTILE = {
    "garbage": "{",
    "future": '{"bomFormat": "CycloneDX", "metadata": {"timestamp": "9999-12-31T23:59:59Z"}}',
    "names": '{"bomFormat": "CycloneDX", "components": [{"purl": "pkg:pypi/%1b%5b31m@1"}]}',
    "markup": '{"bomFormat": "CycloneDX", "metadata": {"properties": [{"name": "rabbet:label",'
    ' "value": "=cmd()<script>\\u001b[2J"}]}, "components": [{"purl": "pkg:pypi/skepio@1.0%2Bx"}]}',
    "deep": '{"bomFormat": "CycloneDX", "components": [' + '{"components": [' * 200 + "]}" * 200 + "]}",
    "absurd": '{"bomFormat": "CycloneDX", "components": [{"purl": "pkg:pypi/x@' + "9" * 5000 + '"}]}',
}


class Census(ProgramCase):
    """Three machines: copies of one project, with one remote in a folder."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())
        self.remote = self.root / "team.git"
        self.git(self.root, "init", "--quiet", "--bare", str(self.remote))
        self.begin(self.index.address, "nectarplot", "tallywax==1.1")
        self.rabbet("resolve")
        self.git(self.project, "init", "--quiet")
        self.commit("one")
        self.git(self.project, "remote", "add", "origin", str(self.remote))

    def git(self, folder: Path, *arguments: str, given: bytes = b"") -> str:
        done = subprocess.run([*GIT, *arguments], cwd=folder, input=given, capture_output=True, check=True)
        return done.stdout.decode()

    def commit(self, message: str) -> None:
        self.git(self.project, "add", "pyproject.toml", "pylock.toml")
        self.git(self.project, "commit", "--quiet", "--message", message)

    def check_pushed(self, *secrets: str) -> None:
        """No object of the remote, and no name of a ref, holds any of these."""
        listed = self.git(self.remote, "cat-file", "--batch-all-objects", "--batch-check=%(objectname)")
        pushed = subprocess.run(
            [*GIT, "cat-file", "--batch"],
            cwd=self.remote,
            input=listed.encode(),
            capture_output=True,
            check=True,
        ).stdout
        pushed += self.git(self.remote, "for-each-ref").encode()
        self.assertIn(b"rabbet@localhost", pushed)
        for secret in secrets:
            self.assertNotIn(secret.encode(), pushed)

    def test_team(self) -> None:
        """One as locked, one behind, one with something installed by hand."""
        self.rabbet("census", code=2)
        self.rabbet("recreate")
        for name in ("behind", "by-hand"):
            self.git(self.root, "clone", "--quiet", str(self.project), name)
            self.git(self.root / name, "remote", "set-url", "origin", str(self.remote))
            self.rabbet("recreate", folder=self.root / name)
        self.rabbet("declare", "--exactly", "tallywax==1.2")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.commit("two")
        by_hand = self.root / "by-hand"
        self.git(by_hand, "pull", "--quiet", str(self.project))
        self.rabbet("recreate", folder=by_hand)
        for name, version in (("swarmcast", "1.1"), ("combframe", "1.5")):
            put_there(site_of(by_hand / ".venv"), name, version, installer="handy", asked=name == "swarmcast")
        for name in ("hivescale", "behind", "by-hand"):
            self.rabbet("census", "send", "--label", name, folder=self.root / name)
        collected = self.rabbet("census", "collect", "--json").json()
        self.assertEqual((collected["inventories"], collected["machines"]), (3, 3))
        told = self.rabbet("census", "show").out
        self.assertRegex(told, r"combframe +\. .*1\.5 !")
        self.assertRegex(told, r"tallywax +\. .*1\.1 !")
        groups = {group["labels"][0]: group for group in self.groups()}
        self.assertEqual([group["labels"] for group in groups.values()], [[label] for label in groups])
        expected = {
            "hivescale": (None, 0, None, set()),
            "behind": ("breaks", 1, "rabbet recreate", {"hivescale"}),
            "by-hand": ("breaks", 0, "rabbet recreate", {"nectarplot", "swarmcast"}),
        }
        for label, wanted in expected.items():
            group = groups[label]
            broken = {name for finding in group["findings"] for name in finding["breaks"]}
            self.assertEqual((group["weight"], group["behind"], group["mend"], broken), wanted)
        by_hand_there = [
            finding["name"] for finding in groups["by-hand"]["findings"] if finding["installation"]
        ]
        self.assertEqual(by_hand_there, ["combframe", "swarmcast"])
        self.rabbet("census", "check", "--allow", "2")
        self.rabbet("census", "check", code=1)
        machine = self.rabbet("census", "show", "--machine", "by-hand", "--json").json()
        self.assertIn(
            ("surplus", "swarmcast"), [(finding["kind"], finding["name"]) for finding in machine["findings"]]
        )
        self.assertIn("--machine behind", self.rabbet("census", "show", "--machine", "behin", code=2).err)
        self.assertRegex(self.rabbet("census", "show", "--csv").out, "\ncombframe,.,.*1.5 !")
        compared = self.rabbet("compare", "machine:behind", "machine:by-hand", "--json").json()
        raised = [tuple(difference.values())[:4] for difference in compared["differences"]]
        self.assertIn(("raised", "tallywax", ["1.1"], ["1.2"]), raised)
        self.rabbet("drift", "--against", "machine:hivescale")
        self.assertIn("machine:behind", self.rabbet("compare", "machine:behin", code=2).err)
        self.assertNotIn("census", self.git(self.project, "branch", "--all"))
        found = self.rabbet("census", "show", "--json", "--from", str(by_hand / ".venv")).json()
        self.assertEqual(found["machines"], 4)
        self.check_database()

    def check_database(self) -> None:
        """The same machines by a database; what it can't take, or has damaged, is told."""
        database = {"RABBET_CENSUS": f"sqlite:///{self.root / 'census.db'}"}
        for name in ("hivescale", "behind"):
            self.rabbet("census", "send", "--label", name, folder=self.root / name, **database)
        weights = [group["weight"] for group in self.groups(**database)]
        self.assertCountEqual(weights, [None, "breaks"])
        self.assertIn("1.1", self.rabbet("census", "show", "--library", "tallywax", **database).out)
        self.assertIn("tallywax", self.rabbet("compare", "machine:behind", **database).out)
        self.rabbet("compare", "machine:by-hand", code=2, **database)
        full, new = ["prlimit", "--fsize=0"], {"RABBET_CENSUS": "sqlite:///new.db"}
        error = self.rabbet("census", "send", "--label", "x", before=full, code=5, **new).err
        self.assertRegex(error, "can't be set up\n  because .*disk")
        with closing(sqlite3.connect(self.root / "census.db")) as opened, opened:
            opened.execute("UPDATE rabbet_state SET content = 7 WHERE id = 2")
        for arguments, code in ((["show"], 0), (["check"], 1), (["show", "--since", "2026-05-01"], 0)):
            (unread,) = self.rabbet("census", *arguments, "--json", code=code, **database).json()["unread"]
            self.assertIn("behind", unread["what"])

    def test_apart(self) -> None:
        """Projects of one repository, and variants, have machines of their own; the last that came counts."""
        shelf = self.root / "shelf"  # a repository whose projects lie in folders
        shelf.mkdir()
        self.git(shelf, "init", "--quiet")
        self.git(shelf, "remote", "add", "origin", str(self.remote))
        hives, scales = (shelf / "tools" / name for name in ("hives", "scales"))
        for folder in (hives, scales):
            folder.mkdir(parents=True)
            declared = (self.project / "pyproject.toml").read_text().replace("hivescale", folder.name)
            (folder / "pyproject.toml").write_text(f"{declared}\n[tool.rabbet.variants.old]\n")
            for variant in ([], ["--variant", "old"]):
                self.rabbet("resolve", *variant, folder=folder)
                self.rabbet("recreate", *variant, folder=folder)
        self.git(shelf, "add", "tools/hives/pyproject.toml", "tools/hives/pylock.toml")
        self.git(shelf, "commit", "--quiet", "--message", "one")
        put_there(site_of(hives / ".venv-old"), "skepio", "0.4", installer="handy")
        for url in ("", f"sqlite:///{self.root / 'census.db'}"):
            named = {"RABBET_CENSUS": url}
            for folder, *variant in ((hives,), (hives, "--variant", "old"), (scales,)):
                self.rabbet("census", "send", "--label", "loft", *variant, folder=folder, **named)
            for folder in (hives, scales):
                url or self.rabbet("census", "collect", folder=folder)
                (group,) = self.groups(folder=folder, **named)
                self.assertEqual((group["labels"], group["weight"]), (["loft"], None))
            told = self.rabbet("census", "--variant", "old", folder=hives, **named).out
            self.assertRegex(told, r"skepio +\+0\.4 !")
        self.rabbet("declare", "--exactly", "tallywax==1.2", folder=hives)
        self.rabbet("resolve", folder=hives)
        self.assertEqual([group["behind"] for group in self.groups(folder=hives)], [1])
        declared = hives / "pyproject.toml"
        expected = '[tool.rabbet.census.expect]\nbehind = 0\nlibraries = ["tallywax>=1.2"]\n'
        declared.write_text(f"{declared.read_text()}\n{expected}")
        told = self.rabbet("census", "check", code=1, folder=hives).out
        self.assertIn("lock revision: 1 lock revisions behind, and at most 0 are expected: on loft\n", told)
        self.assertIn("tallywax 1.1: tallywax>=1.2 is expected: on loft\n", told)
        self.assertIn("0 without findings", told)
        declared.write_text(declared.read_text().replace("behind = 0", "behind = 1").replace("=1.2", "=1.1"))
        self.assertIn("1 only differs", self.rabbet("census", "check", folder=hives).out)
        compared = self.rabbet("compare", "git:HEAD", "--json", folder=hives).json()["differences"]
        self.assertEqual(
            [(finding["kind"], finding["name"]) for finding in compared], [("raised", "tallywax")]
        )

    def groups(self, folder: Path | None = None, **variables: str) -> list[dict]:
        """The groups of machines that the census shows."""
        return self.rabbet("census", "show", "--json", folder=folder, **variables).json()["groups"]

    def test_clocks(self) -> None:
        """What came last counts, whatever its clock says; one that goes ahead is told."""
        self.rabbet("recreate")
        put_there(self.site, "skepio", "0.4", installer="handy")
        self.rabbet("census", "record", "--label", "loft", "--to", "loft.json")
        recorded = (self.project / "loft.json").read_text()
        told = re.sub('"timestamp": ".*?"', '"timestamp": "2939-05-01T12:00:00Z"', recorded)
        self.push_census("loft", told)
        self.rabbet("census", "collect")
        for arguments in ([], ["--library", "skepio"], ["--since", "2026-05-01"], ["check", "--allow", "1"]):
            (ahead,) = self.rabbet("census", *arguments, "--json").json()["ahead"]
            self.assertEqual(ahead["label"], "loft")
        self.rabbet("recreate")
        self.rabbet("census", "send", "--label", "loft")
        self.rabbet("census", "collect")
        found = self.rabbet("census", "--json").json()
        self.assertEqual([group["weight"] for group in found["groups"]], [None])
        self.assertEqual((found["unread"], found["ahead"]), ([], []))
        self.assertRegex(
            self.rabbet("census", "--library", "skepio").out, r"2939-05-01 +loft +0\.4\n.*loft +-\n"
        )

    def push_census(self, label: str, content: str) -> None:
        """Put an inventory into the remote, alone under its label."""
        blob = self.git(self.remote, "hash-object", "-w", "--stdin", given=content.encode()).strip()
        tree = self.git(self.remote, "mktree", given=f"100644 blob {blob}\t000009.json\n".encode()).strip()
        commit = self.git(self.remote, "commit-tree", tree, "-m", "x").strip()
        self.git(self.remote, "update-ref", f"refs/rabbet/machines/hivescale/{label}", commit)

    def test_nobody_travels(self) -> None:
        """What is pushed tells neither who sends it, nor from which host, folder and time zone."""
        secret = {
            "GIT_AUTHOR_NAME": "Ada Drone",
            "GIT_AUTHOR_EMAIL": "ada@hive.example",
            "TZ": "Asia/Kathmandu",
        }
        secret |= {
            "GIT_COMMITTER_NAME": "Ada Drone",
            "GIT_COMMITTER_EMAIL": "ada@hive.example",
            "EMAIL": "ada@home",
        }
        (self.root / "home" / ".gitconfig").write_text("[user]\nname = Bo Drone\n[author]\nname = Cy Drone\n")
        self.rabbet("recreate")
        self.rabbet("census", "send", **secret)
        self.check_pushed("Drone", "ada@", "+0545", str(self.root), str(Path.home()), socket.gethostname())

    def test_habit(self) -> None:
        """Sent after each `recreate`, if that is declared; what became of machines is told by day."""
        declared = self.project / "pyproject.toml"  # as if it came with a clone
        declared.write_text(f'{declared.read_text()}\n[tool.rabbet.census]\nevery = "recreate"\n')
        told = self.rabbet("recreate").err
        self.assertIn("Nothing was sent. To agree to that: rabbet census send --every recreate\n", told)
        self.assertRegex(
            self.rabbet("status").out, "(?m)^census +asked for +to agree: rabbet census send --ev"
        )
        self.assertIn("says so already", self.rabbet("census", "send", "--every", "recreate").out)
        self.rabbet("recreate", "--fresh")
        waiting = time.monotonic() + 60
        while not self.git(self.remote, "for-each-ref") and time.monotonic() < waiting:
            time.sleep(0.2)
        self.rabbet("census", "collect")
        self.assertEqual([group["weight"] for group in self.groups()], [None])
        self.assertRegex(self.rabbet("status").out, r"(?m)^census +sent +\S+ +origin$")
        put_there(self.site, "skepio", "0.4", installer="handy")
        self.rabbet("census", "send")
        told = self.rabbet("census", "show", "--since", "2026-01-01").out
        self.assertRegex(told, r"as locked\n.* breaks skepio; by hand: skepio\n")
        self.assertIn("2 changes on 1 machine", told)
        self.assertIn("0 changes", self.rabbet("census", "show", "--since", "2999-01-01").out)
        self.rabbet("census", "show", "--since", "yesterday", code=2)
        self.assertTrue(self.rabbet("census", "send", "--every", "never").out.endswith("is changed.\n"))
        self.assertNotIn("every", (self.project / "pyproject.toml").read_text())
        self.git(self.project, "remote", "remove", "origin")
        self.rabbet("census", "send", code=5)
        self.assertRegex(self.rabbet("status").out, "census +not sent .*there is no remote to share")
        self.assertIsNone(self.rabbet("status", "--json").json()["census"]["agreed"])

    def test_left_out(self) -> None:
        """Names that the declaration leaves out go nowhere; that something is left out is told."""
        declared = self.project / "pyproject.toml"
        wanted = '["skep*", "*.pth", "tallywax*"]'
        declared.write_text(f"{declared.read_text()}\n[tool.rabbet.census]\nleave-out = {wanted}\n")
        self.rabbet("recreate")
        put_there(self.site, "skepio", "0.4", installer="handy")
        (self.site / "buzz.pth").write_text("import combframe\n")
        self.site.joinpath("tallywax.py").unlink()
        self.rabbet("census", "record", "--deep", "--to", "x.json")
        text = (self.project / "x.json").read_text()
        for name in ("skepio", "buzz", "tallywax.py"):
            self.assertNotIn(name, text)
        self.assertIn("pkg:pypi/tallywax@1.1", text)
        machine = self.rabbet("census", "show", "--from", "x.json", "--machine", self.label(), "--json")
        told = [
            (finding["kind"], finding["name"], finding["reason"], finding["file"])
            for finding in machine.json()["findings"]
        ]
        self.assertIn(("surplus", "(left out)", "left-out", None), told)
        self.assertIn(("missing", "tallywax", None, "(left out)"), told)
        declared.write_text(declared.read_text().replace(wanted, "7"))
        self.assertIn("tool.rabbet.census.leave-out", self.rabbet("census", "record", code=3).err)

    def label(self) -> str:
        """What this machine is called."""
        return str(self.rabbet("census", "record", "--json").json()["label"])

    def test_recorded(self) -> None:
        """Nothing tells of the user, the host and their folders; the label is made up, and stays."""
        self.rabbet("recreate")
        put_there(self.site, "hivewire", "2.0", installer="handy")
        first = self.rabbet("census", "record", "--deep", "--json").json()
        text = (self.project / first["file"]).read_text()
        for secret in (str(self.root), str(Path.home()), socket.gethostname(), f"/{getpass.getuser()}/"):
            self.assertNotIn(secret, text)
        self.assertRegex(first["label"], r"[a-z]+-[a-z]+-[0-9]{3}\Z")
        self.assertEqual(self.rabbet("census", "record", "--json").json()["label"], first["label"])
        combframe = next(
            component for component in json.loads(text)["components"] if component["name"] == "combframe"
        )
        self.assertIn("combframe.py", [component["name"] for component in combframe["components"]])
        self.rabbet("census", "record", "--to", "x.json", "--label", "orchard-laptop")
        found = self.rabbet("census", "show", "--from", "x.json", "--json").json()
        self.assertEqual([group["weight"] for group in found["groups"]], ["differs"])
        (self.project / "list.txt").write_text("combframe==2.1\nnectarplot==1.9\n")
        (self.project / "broken.json").write_text("{")
        for bad in ("broken.json", "no such", ".."):
            found = self.rabbet("census", "show", "--from", bad, "list.txt", "--json").json()
            self.assertEqual([entry["what"] for entry in found["unread"]], [bad])
            (group,) = found["groups"]
            broken = {name for finding in group["findings"] for name in finding["breaks"]}
            self.assertEqual(broken, {"combframe", "hivescale"})
            self.rabbet("census", "check", "--allow", "1", "--from", bad, "list.txt", code=1)
        self.assertIn("broken.json", self.rabbet("census", "--from", "broken.json", code=3).err)
        system = '{"name": "rabbet:platform", "value": "moon-6502"}'
        told = text.replace('"properties": [', f'"properties": [{system},', 1)
        (self.project / "moon.json").write_text(told)
        both = ["--from", "list.txt", "moon.json"]
        self.assertRegex(
            self.rabbet("census", "show", *both).out, r"(?m)^nectarplot +(\? .*1\.9|.*1\.9.* \?)"
        )
        self.assertIn("?", self.rabbet("census", "show", "--csv", *both).out)
        told = self.rabbet("census", "check", "--allow", "1", *both, code=1).out
        self.assertIn("'moon-6502'", told)
        for arguments in (
            ["record", "--label", "../x"],
            ["show", "--deep"],
            ["collect", "--csv"],
            ["record", "--allow", "0"],
            ["send", "--every", "recreate", "--database", "sqlite:///x.db"],
            ["send", "--deep", "--database", "sqlite:///x.db"],
            ["show", "--csv", "--picture", "x.png"],
            ["show", "--library", "combframe", "--since", "2026-05-01"],
            ["show", "--library", "combframe", "--heard-since", "30d"],
        ):
            self.rabbet("census", *arguments, code=2)

    def test_nothing_is_lost(self) -> None:
        """Senders of one label take turns; what a remote refuses is told; strangers' words are harmless."""
        self.rabbet("recreate")

        def send(_: int) -> object:
            return self.rabbet("census", "send", "--label", "loft")

        with ThreadPoolExecutor(5) as pool:
            list(pool.map(send, range(5)))
        self.rabbet("census", "send", "--label", "loft")
        kept = self.git(self.remote, "ls-tree", "--name-only", "refs/rabbet/machines/hivescale/loft").split()
        self.assertGreaterEqual(len(kept), 1)
        for name, content in HOSTILE.items():
            self.push_census(name, content)
        self.rabbet("census", "collect")
        for arguments in (["show"], ["show", "--csv"], ["show", "--json"], ["show", "--library", "skepio"]):
            told = self.rabbet("census", *arguments).out
            self.assertNotIn("\x1b", told)
            self.assertNotIn("=cmd", told)
        self.assertIn("Can't be read: garbage", self.rabbet("census").out)
        evil = self.project / "evil"  # it may have come with a clone
        self.git(self.project, "init", "--quiet", "--bare", "evil")
        (evil / "hooks" / "post-receive").write_text(f"#!/bin/sh\ntouch {self.root}/ran\n")
        (evil / "hooks" / "post-receive").chmod(0o755)
        for remote in ("nowhere", "evil", "./evil", str(evil), f"--receive-pack=touch {self.root}/ran"):
            self.rabbet("census", "send", f"--remote={remote}", code=5)
        self.assertFalse((self.root / "ran").exists())
        shutil.rmtree(self.remote / "objects")
        self.assertIn("git ls-remote", self.rabbet("census", "send", code=5).err)
        self.git(self.root, "init", "--quiet", "--bare", str(self.remote))
        (self.remote / "hooks" / "pre-receive").write_text("#!/bin/sh\necho not here >&2; exit 1\n")
        (self.remote / "hooks" / "pre-receive").chmod(0o755)
        self.assertIn("can't be shared", self.rabbet("census", "send", code=5).err)
        self.git(self.project, "remote", "remove", "origin")
        self.rabbet("census", "collect", code=5)

    def page_of(self, place: tuple[str, int], until: int) -> bytes:
        """What the server answers with a status, as soon as it has a connection free."""
        for _ in range(100):
            with closing(http.client.HTTPConnection(*place, timeout=PATIENCE)) as asking:
                try:
                    asking.request("GET", "/")
                    answer = asking.getresponse()
                except OSError:
                    time.sleep(0.1)
                    continue
                self.assertEqual(answer.status, until)
                return answer.read()
        return self.fail("no connection became free")

    def test_over_time(self) -> None:
        """Forgotten, renamed, silent, and what is new: by git, and by a database."""
        self.rabbet("recreate")
        self.rabbet("census", "record", "--label", "barn", "--to", "barn.json")
        old = re.sub(
            r'"timestamp": ".*?"',
            '"timestamp": "2020-05-01T12:00:00Z"',
            (self.project / "barn.json").read_text(),
        )
        database = {"RABBET_CENSUS": f"sqlite:///{self.root / 'census.db'}"}
        self.push_census("barn", old)
        for named in ({}, database):
            with self.subTest(named):
                self.check_over_time(**named)

    def check_over_time(self, **named: str) -> None:
        """With what is collected, or with the machines of a database."""

        def ask(*arguments: str, code: int = 0) -> dict:
            named or self.rabbet("census", "collect")
            return self.rabbet("census", *arguments, "--json", code=code, **named).json()

        def labels() -> list[str]:
            return sorted(label for group in ask("show")["groups"] for label in group["labels"])

        self.rabbet("recreate")
        self.rabbet("census", "send", "--label", "loft", **named)
        self.assertEqual([one["label"] for one in ask("news", "--since", "1d")["added"]], ["loft"])
        self.assertEqual(ask("news")["broke"], [])
        put_there(self.site, "combframe", "1.5", installer="handy")
        self.rabbet("census", "send", "--label", "loft", **named)
        told = self.root / "told.json"
        told.unlink(missing_ok=True)
        broke = ask("news", "--since", "last", "--tell", f"tee '{told}'", code=1)["broke"]
        self.assertEqual([(one["label"], one["about"]) for one in broke], [("loft", ["combframe"])])
        self.assertEqual(json.loads(told.read_text())["broke"], broke)
        told.unlink()
        self.assertTrue(
            self.rabbet("census", "news", "--tell", f"tee '{told}'", **named).out.startswith("Nothing is new")
        )
        self.assertFalse(told.exists())
        self.rabbet("census", "news", "--since", "9d", "--tell", "false", code=7, **named)
        self.rabbet("census", "news", "--since", "9d", "--tell", "no-such-command", code=2, **named)
        ask("check", code=1)
        ask("check", "--allow", "1")
        self.assertEqual([week["breaking"] for week in ask("trend")["weeks"]], [1])
        self.assertRegex(self.rabbet("census", "trend", **named).out, r"\d of \d machines? as locked on")
        if named:
            self.rabbet("census", "trend", "--since", "9d", "--picture", "trend.png", **named)
            self.assertTrue((self.project / "trend.png").read_bytes().startswith(b"\x89PNG"))
        else:
            self.assertEqual([week["silent"] for week in ask("trend")["weeks"]], [1])
            self.assertEqual(ask("show", "--heard-since", "2021-01-01")["silent"][0]["label"], "barn")
            self.assertEqual(ask("check", "--heard-since", "30d", code=1)["silent"][0]["label"], "barn")
            self.assertEqual(labels(), ["barn", "loft"])
            ask("rename", "loft", "barn", code=2)
        ask("rename", "loft", "../loft", code=2)
        ask("rename", "nobody", "shed", code=2)
        ask("rename", "loft", "LOFT", code=2)
        ask("forget", "*", "--yes", code=2)
        ask("rename", "loft", code=2)
        self.assertEqual(ask("rename", "loft", "shed")["renamed"], "shed")
        self.rabbet("census", "send", "--label", "loft", **named)
        self.assertLessEqual({"loft", "shed"}, set(labels()))
        self.check_tags(**named)
        ask("forget", "loft", code=1)
        ask("forget", "Loft", "--yes")
        ask("forget", "loft", "--yes", code=2)
        self.assertEqual(labels(), ["shed"] if named else ["barn", "shed"])
        ask("show", "--yes", code=2)
        ask("show", "--tell", "true", code=2)

    def check_tags(self, **named: str) -> None:
        """Declared ones and those of the command choose machines in each view; private ones never leave."""

        def ask(*arguments: str, code: int = 0) -> dict:
            return self.rabbet("census", *arguments, "--json", code=code, **named).json()

        declared = self.project / "pyproject.toml"
        kept = declared.read_text()
        declared.write_text(f"{kept}\n[tool.rabbet.census.tags]\nrole = 'dev'\nsite = 'meadow'\n")
        private = ["--private-tag", "owner=ada"]
        self.rabbet("census", "send", "--label", "loft", *private, code=0 if named else 2, **named)
        self.rabbet("census", "send", "--label", "loft", "--tag", "role=ci", "team=wax", **named)
        named or self.rabbet("census", "collect")
        declared.write_text(kept)
        tags = {"role": "ci", "site": "meadow", "team": "wax"}
        self.assertEqual(ask("show", "--machine", "loft")["tags"], tags)
        chosen = ["--where", "role=ci", "role=dev", "--where", "team=wax"]
        self.assertEqual([group["labels"] for group in ask("show", *chosen)["groups"]], [["loft"]])
        self.assertEqual(ask("check", *chosen, "--allow", "1")["machines"], 1)
        self.assertEqual([one["label"] for one in ask("news", *chosen, code=1)["added"]], ["loft"])
        changes = ask("show", "--library", "combframe", *chosen)["changes"]
        self.assertEqual({change["machine"] for change in changes}, {"loft"})
        for wrong in (["show", "--where", "x"], ["send", "--tag", "X=1"], ["collect", "--where", "a=b"]):
            ask(*wrong, code=2)
        self.assertIn("no machine", self.rabbet("census", "show", "--where", "team=x", code=2, **named).err)

    def check_made_once(self, place: tuple[str, int]) -> None:
        """A browser that has the newest page is told so, until another machine has come."""

        def ask(known: str) -> tuple[int, str, bytes]:
            with closing(http.client.HTTPConnection(*place, timeout=PATIENCE)) as asking:
                asking.request("GET", "/", headers={"If-None-Match": known})
                answer = asking.getresponse()
                return answer.status, answer.headers["ETag"], answer.read()

        status, etag, content = ask("")
        self.assertEqual((status, b"barn" in content), (200, False))
        self.assertEqual(ask(etag), (304, etag, b""))
        self.rabbet("census", "send", "--label", "barn")
        self.rabbet("census", "collect")
        status, other, content = ask(etag)
        self.assertEqual((status, b"barn" in content), (200, True))
        self.assertNotEqual(etag, other)

    def test_serve(self) -> None:
        """The page, live: for the loopback's own names, read-only, with headers that keep it to itself."""
        self.rabbet("recreate")
        self.rabbet("census", "send", "--label", "loft")
        self.rabbet("census", "collect")
        command = self.command("census", "serve", "--quiet")
        with subprocess.Popen(
            command,
            cwd=self.project,
            env=self.variables,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        ) as serving:
            address = re.search(r"http://127\.0\.0\.1:(\d+)/", serving.stdout.readline())
            self.assertIsNotNone(address, serving.poll())
            for method, path, host, status in (
                ("GET", "/", "localhost", 200),
                ("HEAD", "/", "127.0.0.1", 200),
                ("GET", "/etc/passwd", "127.0.0.1", 404),
                ("POST", "/", "127.0.0.1", 501),
                ("GET", "/", "apiary.example", 403),
            ):
                with self.subTest(method, path=path, host=host):
                    asking = http.client.HTTPConnection("127.0.0.1", int(address[1]), timeout=PATIENCE)
                    asking.request(method, path, headers={"Host": f"{host}:{address[1]}"})
                    answer = asking.getresponse()
                    self.assertEqual(answer.status, status)
                    if status == 200:
                        self.assertEqual(answer.headers["X-Frame-Options"], "DENY")
                        self.assertEqual(b"loft" in answer.read(), method == "GET")
                    asking.close()
            place = ("127.0.0.1", int(address[1]))
            self.check_made_once(place)
            silent = [self.enterContext(closing(socket.create_connection(place))) for _ in range(40)]
            self.assertEqual(
                [connection.recv(1) for connection in silent[20:]], [b""] * 20
            )  # more than that are let go
            for connection in silent:
                connection.close()
            self.enterContext(closing(socket.create_connection(place))).sendall(b"GET / HTTP/1.0\r\n\xff\x00")
            (self.project / "pylock.toml").write_text("[")
            self.assertIn(b"pylock.toml", self.page_of(place, until=503))
            serving.send_signal(signal.SIGINT)
            self.assertEqual(serving.wait(PATIENCE), 130)
            self.assertNotIn("Traceback", serving.stderr.read())
        self.rabbet("census", "serve", "--csv", code=2)
