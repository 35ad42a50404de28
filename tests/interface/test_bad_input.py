"""Each failure that a user, a file or a source can cause: one clear error, its exit code, nothing changed."""

import os
import shlex
import shutil
import signal
import ssl
import subprocess
import sys
import time
import tomllib
import unittest
from pathlib import Path

import trustme

from rabbet.demo.files import write_files
from rabbet.demo.libraries import RELEASES, MadeUp
from rabbet.demo.stand_in import Fault, Manner, StandIn
from tests.support import PATIENCE
from tests.support.http2 import Http2Front
from tests.support.program import ProgramCase

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "bad_input.toml").read_text())
WHEEL = "/files/nectarplot-2.1-py3-none-any.whl"
# Root may write everywhere, unless it gives up the capability for that.
UNPRIVILEGED = ["setpriv", "--bounding-set", "-dac_override"] if os.geteuid() == 0 else []


def can_mount() -> bool:
    """Whether a file system can be mounted for one process alone."""
    trial = ["unshare", "--mount", "--map-root-user", "mount", "-t", "tmpfs", "none", "/mnt"]
    return (
        bool(shutil.which("unshare"))
        and subprocess.run(trial, capture_output=True, check=False).returncode == 0
    )


class BadInput(ProgramCase):
    """The table in `data/bad_input.toml`."""

    def test_cases(self) -> None:
        for case in TABLE["case"]:
            with self.subTest(case["title"]):
                self.fresh()
                manner = Manner()
                self.check(case, manner, self.serve(StandIn(manner=manner)).address)

    def test_faults_over_http2(self) -> None:
        """What an index does wrong over HTTP/2, on few connections, is told in the same words."""
        authority, manner = trustme.CA(), Manner()
        index = self.serve(StandIn(manner=manner))
        front = self.enterContext(Http2Front(index.port, authority))
        for case in TABLE["case"]:
            if case.get("faults"):
                with self.subTest(case["title"]):
                    self.fresh()
                    authority.cert_pem.write_to_path(str(self.root / "ca.pem"))
                    self.variables["SSL_CERT_FILE"] = str(self.root / "ca.pem")
                    manner.faults.clear()
                    self.check(case, manner, f"{front.origin}/simple/")
        self.assertLess(len(front.streams), sum(front.streams) / 3, "requests share connections")

    def test_patience_over_http2(self) -> None:
        """What a little patience gets over HTTP/1.1, it gets over HTTP/2 as well."""
        authority, manner, wheel = trustme.CA(), Manner(), "/files/queenmark-1.1-py3-none-any.whl"
        front = self.enterContext(Http2Front(self.serve(StandIn(manner=manner)).port, authority))
        manner.faults.update({"/simple/queenmark/": Fault.BUSY, f"{wheel}.metadata": Fault.CROWDED})
        manner.faults.update({wheel: Fault.HALF_ONCE, "/files/tallywax-1.2-py3-none-any.whl": Fault.TRICKLE})
        authority.cert_pem.write_to_path(str(self.root / "ca.pem"))
        self.variables["SSL_CERT_FILE"] = str(self.root / "ca.pem")
        self.begin(f"{front.origin}/simple/", "queenmark", "tallywax")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.rabbet("drift")

    def check(self, case: dict, manner: Manner, address: str) -> None:
        """One case, with its index at an address."""
        self.prepare(case, address)
        manner.faults.update({path: Fault[name] for path, name in case.get("faults", {}).items()})
        before = self.tree()
        done = self.rabbet(*shlex.split(case["command"]), code=case["code"])
        self.assertEqual(done.out, "")
        for word in case["words"]:
            self.assertIn(word, done.err)
        self.assertEqual(sum(line.startswith("error: ") for line in done.err.splitlines()), 1)
        self.assertEqual(self.tree(), before)

    def prepare(self, case: dict, address: str) -> None:
        """Write the declaration and, where the case has one, the lock; then spoil them."""
        texts = {"declaration": self.project / "pyproject.toml", "lock": self.project / "pylock.toml"}
        texts["declaration"].write_text(TABLE["declaration"].replace("ADDRESS", address))
        if "lock" in case:
            self.rabbet("resolve")
        template = TABLE["declaration"]
        for key in ("declaration", "lock"):
            old, new = case.get(key, ("", ""))
            if old:
                text = template if key == "declaration" else texts[key].read_text()
                texts[key].write_text(text.replace(old, new).replace("ADDRESS", address))
        if case["title"] == "no declaration":
            texts["declaration"].unlink()

    def test_words(self) -> None:
        """Words that nothing can stand for are wrong usage, in any option; nothing is changed."""
        self.begin("../nowhere", "combframe")
        before, long = self.tree(), "a" * 3000
        for code, *words in (
            *((2, "drift", option) for option in ("--variant=--", f"--variant={long}", f"--env={long * 2}")),
            *((2, "census", "serve", "--port", word) for word in ("0", "65536", "-1", "x", long)),
            (2, "demo", "--serve", "--port", "99999"),
            *((2, "lookup", word) for word in (os.fsdecode(b"comb\xff"), long * 2, "")),
            *(
                (2, "run", "--taken-from", word, "true")
                for word in ("https://[::1", "combframe @ https://x/y", "")
            ),
            *((2, "resolve", "--as-of", word) for word in ("0000-00-00", "9" * 3000, "")),
            *((5, "compare", word) for word in (long, "~nobody-at-all/x", "git:-x")),
            (7, "compare", "env:~nobody-at-all/x"),
            (7, "recreate", "--carried", long),
        ):
            with self.subTest(words=[word[:40] for word in words]):
                self.assertLess(len(self.rabbet(*words, code=code).err), 12_000)
                self.assertEqual(self.tree(), before)

    def test_full_standard_error(self) -> None:
        """What can't be told is not told, and all else is done."""
        self.begin(self.serve(StandIn()).address, "queenmark")
        muted = ["sh", "-c", 'exec "$@" 2>/dev/full', "sh"]
        for code, *words in ((0, "resolve"), (0, "recreate", "--verbose"), (0, "drift"), (2, "drift", "--x")):
            self.assertEqual(self.rabbet(*words, code=code, before=muted).err, "")
        self.assertEqual(self.installed()["queenmark"], "1.1")

    def test_no_source(self) -> None:
        """Where no source is known, the error tells all three ways to name one."""
        (self.project / "pyproject.toml").write_text('[project]\nname = "x"\ndependencies = ["skepio"]\n')
        error = self.rabbet("resolve", code=5).err
        for word in ("RABBET_SOURCE", "settings.toml", "declare --source"):
            self.assertIn(word, error)

    @unittest.skipIf(UNPRIVILEGED and not shutil.which("setpriv"), "root can't give up writing anywhere")
    def test_project_without_permission(self) -> None:
        """A project folder that can't be written to gives one error, and stays as it was."""
        self.begin(self.serve(StandIn()).address, "queenmark")
        self.rabbet("resolve")
        self.rabbet("declare", "nectarplot>=2")
        self.project.chmod(0o555)
        self.addCleanup(self.project.chmod, 0o755)
        before = self.tree()
        for command in (["declare", "skepio"], ["resolve"], ["recreate"]):
            with self.subTest(command=command):
                done = self.rabbet(*command, code=7, before=UNPRIVILEGED)
                self.assertIn("can't be written", done.err)
                self.assertEqual(self.tree(), before)

    @unittest.skipIf(UNPRIVILEGED and not shutil.which("setpriv"), "root can't give up writing anywhere")
    def test_store_without_permission(self) -> None:
        """Resolving needs no store that can be written; recreating says that it does, and changes nothing."""
        self.begin(self.serve(StandIn()).address, "queenmark")
        store = self.root / "store"
        shutil.rmtree(store, ignore_errors=True)
        store.mkdir()
        store.chmod(0o555)
        self.addCleanup(store.chmod, 0o755)
        self.rabbet("resolve", before=UNPRIVILEGED)
        before = self.tree()
        self.assertIn("can't be written", self.rabbet("recreate", code=7, before=UNPRIVILEGED).err)
        self.assertEqual(self.tree(), before)

    def test_full_disk(self) -> None:
        """When nothing more can be written, old files stay as they were."""
        self.begin(self.serve(StandIn()).address, "nectarplot>=2")
        self.rabbet("resolve")
        before = self.tree()
        full = ["prlimit", "--fsize=0"]
        for command in (["declare", "skepio"], ["recreate"]):
            with self.subTest(command=command):
                done = self.rabbet(*command, code=7, before=full)
                self.assertIn("can't be written", done.err)
                self.assertEqual(self.tree(), before)

    @unittest.skipUnless(can_mount(), "this machine does not let the test make a small file system")
    def test_small_disk(self) -> None:
        """On a file system without space, for the store or for the project, nothing half made stays."""
        self.begin(self.serve(StandIn()).address, "queenmark")
        self.rabbet("resolve")
        for name, place, kilobytes in (("store", self.root / "store", 4), ("project", self.project, 40)):
            with self.subTest(name):
                inside = (
                    'cp -r "$PWD" ../kept && mount -t tmpfs -o size=$0k none "$1" && cd "$PWD" &&'
                    ' cp -n ../kept/* . ; shift; "$@"; code=$?; ls -A >&2; exit $code'
                )
                before = [
                    "unshare",
                    "--mount",
                    "--map-root-user",
                    "sh",
                    "-c",
                    inside,
                    str(kilobytes),
                    str(place),
                ]
                error = self.rabbet("recreate", code=7, before=before).err
                self.assertIn("No space left on device", error)
                self.assertEqual(error.splitlines()[-2:], ["pylock.toml", "pyproject.toml"])
                shutil.rmtree(self.root / "kept")


class Deceitful(ProgramCase):
    """Sources whose answers don't agree with each other: never a wrong lock, never a wrong environment."""

    def test_metadata_that_is_not_the_wheels(self) -> None:
        """A lock made from false metadata installs nothing; the next resolving knows better."""
        manner = Manner(faults={"/files/combframe-2.1-py3-none-any.whl.metadata": Fault.LYING})
        self.begin(self.serve(StandIn(manner=manner)).address, "combframe")
        self.rabbet("resolve")
        self.assertEqual(self.locked(), {"combframe": "2.1"}, "what was told is all that is known yet")
        before = self.tree()
        for store in (self.variables["RABBET_STORE"], str(self.root / "another-machine")):
            error = self.rabbet("recreate", code=6, RABBET_STORE=store).err
            self.assertIn("needs tallywax", error)
            self.assertEqual(self.tree(), before)
        self.rabbet("resolve", "--fresh-listings")
        self.assertEqual(self.locked(), {"combframe": "2.1", "tallywax": "1.2"})
        self.rabbet("recreate")

    def test_listing_that_changes(self) -> None:
        """Within one run a page is read once; what vanished later is told, and installs still."""
        manner = Manner(faults={"/simple/nectarplot/": Fault.CHANGING})
        index = self.serve(StandIn(manner=manner))
        self.begin(index.address, "nectarplot")
        path = self.project / "pyproject.toml"
        path.write_text(path.read_text() + "[tool.rabbet.variants.next]\nrequirements = ['skepio']\n")
        self.rabbet("resolve")
        self.assertEqual(index.requests.count("GET /simple/nectarplot/"), 1)
        self.assertEqual(self.locked()["nectarplot"], "2.1")
        reasons = self.rabbet("resolve", "--verify", "--json", code=1).json()["reasons"]
        self.assertEqual(reasons, ["nectarplot 2.1 would become 2.0: 2.1 is not offered for this target"])
        self.rabbet("recreate")

    def test_digests(self) -> None:
        """Where a listing has no digest that can be trusted, the file's own is locked, and that is said."""
        for hashes in ("md5", ""):
            with self.subTest(hashes=hashes):
                self.fresh()
                self.begin(self.serve(StandIn(manner=Manner(hashes=hashes))).address, "combframe")
                self.assertIn("Warning: 'main' lists files without sha256", self.rabbet("resolve").out)
                self.rabbet("recreate")
                self.rabbet("drift")

    def test_two_spellings(self) -> None:
        """Names that normalise to the same are one library: in requirements, and among files."""
        write_files(self.root / "files", RELEASES)
        file = self.root / "files" / "queenmark-1.1-py3-none-any.whl"
        file.with_name("QueenMark-1.1-py3-none-any.whl").write_bytes(file.read_bytes() + b"more")
        self.begin("../files", "QueenMark", "Comb.Frame; os_name == 'nt'", "combframe>=2", "tallywax")
        self.rabbet("declare", "--group", "checks", "CombFrame<2.1", "TALLYWAX<1.2")
        told = self.rabbet("resolve").out
        self.assertIn("queenmark-1.1-py3-none-any.whl: the same release, build and tags as QueenMark-", told)
        self.assertEqual(self.locked(), {"combframe": "2.0", "queenmark": "1.1", "tallywax": "1.1"})

    def test_odd_releases(self) -> None:
        """Versions that are none, and names that no tool wrote, are passed over."""
        odd = [MadeUp(name="combframe", version=version) for version in ("late", "2.2-final-really", "2.x")]
        index = self.serve(StandIn([*RELEASES, *odd]))
        self.begin(index.address, "combframe")
        self.rabbet("resolve")
        self.assertEqual(self.locked()["combframe"], "2.1")
        self.rabbet("lookup", "combframe")


class Protected(ProgramCase):
    """Over https: whose certificate is trusted, and where a request may be sent on to."""

    def setUp(self) -> None:
        super().setUp()
        self.authority = trustme.CA()
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.authority.issue_cert("127.0.0.1").configure_cert(context)
        self.manner = Manner()
        self.begin(self.serve(StandIn(manner=self.manner, tls=context)).address, "combframe")
        self.authority.cert_pem.write_to_path(str(self.root / "ca.pem"))
        self.trusting = {"SSL_CERT_FILE": str(self.root / "ca.pem")}

    def test_certificates(self) -> None:
        """An authority that is not known is not trusted; one that the environment names is."""
        error = self.rabbet("resolve", code=5).err
        for word in ("certificate is not trusted", "SSL_CERT_FILE"):
            self.assertIn(word, error)
        for path, word in (("nowhere.pem", "No such file"), ("pyproject.toml", "adding trust anchors")):
            error = self.rabbet("resolve", code=5, SSL_CERT_FILE=str(self.project / path)).err
            self.assertIn("can't be used", error)
            self.assertIn(word, error)
        self.rabbet("resolve", **self.trusting)
        self.rabbet("recreate", **self.trusting)

    def test_redirects_stay_protected(self) -> None:
        """A redirect to an address without TLS is not followed, for pages, metadata and files."""
        wheel = "/files/combframe-2.1-py3-none-any.whl"
        self.rabbet("resolve", **self.trusting)
        cases = {
            "/simple/combframe/": "resolve --raise-all",
            f"{wheel}.metadata": "resolve --raise-all",
            wheel: "recreate",
        }
        for number, (path, command) in enumerate(cases.items()):
            with self.subTest(path):
                given = {**self.trusting, "RABBET_STORE": str(self.root / f"store-{number}")}
                self.manner.faults[path] = Fault.UNPROTECTED
                error = self.rabbet(*command.split(), code=5, **given).err
                self.assertIn("redirects from https to an unsupported address", error)
                self.manner.faults.clear()


class Interrupted(ProgramCase):
    """Ctrl-C in the middle, and many at once."""

    def test_interrupt(self) -> None:
        """Interrupted while a wheel arrives: exit 130 at once, nothing changed, and the next run finishes."""
        manner = Manner()
        index = self.serve(StandIn(manner=manner))
        self.begin(index.address, "nectarplot>=2")
        self.rabbet("resolve")
        manner.faults[WHEEL] = Fault.SLOW
        before = self.tree()
        process = subprocess.Popen(
            self.command("recreate"), cwd=self.project, env=self.variables, stderr=subprocess.PIPE, text=True
        )
        deadline = time.monotonic() + PATIENCE
        while f"GET {WHEEL}" not in index.requests and time.monotonic() < deadline:
            time.sleep(0.02)
        process.send_signal(signal.SIGINT)
        _, error = process.communicate(timeout=PATIENCE)
        self.assertEqual(process.returncode, 130)
        self.assertIn("error: interrupted", error)
        self.assertEqual(self.tree(), before)
        manner.faults.clear()
        self.rabbet("recreate")
        self.rabbet("drift")

    def test_interrupt_while_loading(self) -> None:
        """Interrupted before the program is complete, it says so all the same."""
        hook = "lambda event, what: what[:1] == ('rabbet.cli.registry',) and os.kill(os.getpid(), 2)"
        code = f"import os, sys, rabbet.__main__ as m; sys.addaudithook({hook}); m.program()"
        done = subprocess.run(
            [sys.executable, "-c", code], env=self.variables, capture_output=True, text=True, check=False
        )
        self.assertEqual((done.returncode, done.stderr), (130, "error: interrupted\n"))

    def test_many_at_once(self) -> None:
        """Several runs on one empty project and store all succeed, and leave one whole environment."""
        self.begin(self.serve(StandIn()).address, "royaljelly", "mitewatch")
        self.rabbet("resolve")
        runs = [
            subprocess.Popen(
                self.command("recreate", "--quiet"),
                cwd=self.project,
                env=self.variables,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                text=True,
            )
            for _ in range(6)
        ]
        self.assertEqual(
            [(run.communicate(timeout=PATIENCE)[1], run.returncode) for run in runs], [("", 0)] * 6
        )
        self.rabbet("drift")
        self.assertEqual([path.name for path in self.project.glob(".venv*")], [".venv"])
