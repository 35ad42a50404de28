"""Environments as users live with them: chosen parts, variants, moves, many processes, damage."""

import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from collections.abc import Callable
from pathlib import Path

from rabbet.cli.views.recreating.envs import path_labels
from rabbet.demo.libraries import RELEASES, MadeUp
from rabbet.demo.stand_in import Fault, Manner, StandIn
from rabbet.store.environments import NOTES
from rabbet.store.layout import LAYOUT
from tests.support import chance
from tests.support.program import ProgramCase

MEMORY = Path("/dev/shm")
SECOND_DISK = MEMORY.is_dir() and MEMORY.stat().st_dev != Path(tempfile.gettempdir()).stat().st_dev
SHARED = ("hive_shared/__init__.py", "# the same in both\n")
FAMILY = [
    MadeUp(name="dronea", version="1.0", code="x = 1\n", more=(SHARED, ("hive_shared/a.py", "a = 1\n"))),
    MadeUp(name="droneb", version="1.0", code="x = 1\n", more=(SHARED, ("hive_shared/b.py", "b = 1\n"))),
    MadeUp(name="dronec", version="1.0", code="x = 1\n", more=(("hive_shared/b.py", "b = 3\n"),)),
    MadeUp(name="droned", version="1.0", code="def f(): pass\n", commands=(("mitewatch", "f"),)),
]


LIST = f"import subprocess, sys; subprocess.run([{sys.executable!r}, '-m', 'rabbet', 'envs', '--json'])"


class Environments(ProgramCase):
    """On the demo's libraries and a family of small ones that share files."""

    def setUp(self) -> None:
        super().setUp()
        self.manner = Manner()
        self.index = self.serve(StandIn([*RELEASES, *FAMILY], manner=self.manner))

    def settle(self, *requirements: str) -> None:
        """A project with these requirements, resolved again."""
        self.begin(self.index.address, *requirements)
        self.rabbet("resolve")

    def test_chosen_parts(self) -> None:
        """Groups and extras are chosen by options, remembered, and counted by drift."""
        self.settle("tallywax")
        self.rabbet("declare", "--group", "checks", "mitewatch")
        self.rabbet("declare", "--extra", "net", "hivewire")
        self.rabbet("resolve")
        everything = {"broodcount", "hivewire", "mitewatch", "smokerlog", "tallywax"}
        steps: list[tuple[list[str], set[str]]] = [
            ([], everything),
            (["--bare"], {"tallywax"}),
            ([], {"tallywax"}),
            (["--extra", "Net"], {"tallywax", "hivewire"}),
            (["--fresh"], {"tallywax", "hivewire"}),
            (["--group", "checks"], everything - {"hivewire"}),
            (["--group", "checks", "--extra", "net"], everything),
            (["--everything"], everything),
        ]
        for options, expected in steps:
            with self.subTest(options):
                self.rabbet("recreate", *options)
                folders = self.site.glob("*.dist-info")
                self.assertEqual({folder.name.partition("-")[0] for folder in folders}, expected)
        self.rabbet("drift")
        self.assertIn("no group 'docs'", self.rabbet("recreate", "--group", "docs", code=2).err)
        self.assertIn("(no groups, no extras)", self.rabbet("recreate", "--bare", "--plan").out)

    def test_variants(self) -> None:
        """Each variant has an environment of its own, beside the project's."""
        self.settle("nectarplot")
        path = self.project / "pyproject.toml"
        path.write_text(path.read_text() + '[tool.rabbet.variants.old]\nrequirements = ["combframe<2"]\n')
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.rabbet("recreate", "--variant", "old")
        code = "import combframe; print(combframe.__version__)"
        self.assertEqual(self.rabbet("run", "python", "-c", code).out, "2.1\n")
        self.assertEqual(self.rabbet("run", "--variant", "old", "python", "-c", code).out, "1.5\n")
        self.rabbet("drift", "--variant", "old")
        self.assertIn("no variant 'new'", self.rabbet("recreate", "--variant", "new", code=2).err)

    def test_every_variant(self) -> None:
        """One command for the project and all variants: a row each, and 1 where one of them fails."""
        self.settle("nectarplot")
        self.rabbet("declare", "--variant", "old", "nectarplot<2")
        self.rabbet("declare", "--variant", "odd", "skepio")
        self.rabbet("resolve")
        done = self.rabbet("recreate", "--variant", "all", "--jobs", "3").out
        self.assertRegex(
            done, r"(?s)\(project\) +yes .*odd +yes .*old +yes .*3 variants, none of them failed"
        )
        code = "import skepio; import sys; sys.exit('--jobs' not in sys.argv)"
        found = self.rabbet("run", "--variant=all", "python", "-c", code, "--jobs", "9", code=1).out
        self.assertRegex(found, r"(?s)odd +yes\b.*old +no .*3 variants, 2 of them failed")
        self.assertIn("No module named 'skepio'", found)
        bytes_alone = "import sys; sys.stdout.buffer.write(bytes([255]))"
        self.assertIn("\\xff", self.rabbet("run", "--variant=all", "python", "-c", bytes_alone).out)
        drift = self.rabbet("drift", "--variant", "all", "--json").json()["variants"]
        self.assertEqual([variant["exit_code"] for variant in drift], [0, 0, 0])
        self.assertEqual(drift[1]["document"]["findings"], [])
        of_old = (self.project / "pylock.old.toml", self.project / ".venv-old")
        told = self.rabbet("retract", "--variant", "old").out
        way = re.search(r"To remove: (.*)$", told)
        self.assertTrue(way and all(place.exists() for place in of_old))
        self.assertEqual(way[1], "rm pylock.old.toml && rabbet envs discard .venv-old")
        self.rabbet("declare", "--variant", "old", "nectarplot<2")
        self.rabbet("retract", "--variant", "old", "--yes")
        self.assertFalse(any(place.exists() for place in of_old))
        self.assertTrue((self.project / ".venv-odd").exists())

    def test_combinations(self) -> None:
        """Each combination of listed versions is a variant; none is retracted alone."""
        self.settle("nectarplot")
        text = "[tool.rabbet.variants.every]\nlibraries.nectarplot = ['<2', '>=2']\n"
        declaration = self.project / "pyproject.toml"
        declaration.write_text(f"{declaration.read_text()}\n{text}")
        self.rabbet("resolve")
        for name, version in (("nectarplot-below2", "1.9"), ("nectarplot-from2", "2.1")):
            lock = (self.project / f"pylock.{name}.toml").read_text()
            self.assertIn(f'name = "nectarplot"\nversion = "{version}"', lock)
        said = self.rabbet("retract", "--variant", "nectarplot-from2", code=2).err
        self.assertIn("edit its lists", said)
        self.rabbet("declare", "--variant", "every", "skepio", code=3)
        self.rabbet("retract", "--variant", "every", "--yes")
        self.assertEqual(list(self.project.glob("pylock.*.toml")), [])

    def test_moved_project(self) -> None:
        """A project that is moved as a whole goes on working, its commands too, and needs no change."""
        self.settle("mitewatch")
        self.rabbet("recreate")
        self.project = self.project.rename(self.root / "a longer name, with $igns")
        self.assertEqual(self.steps(), [])
        self.rabbet("drift")
        command = self.project / ".venv" / "bin" / "mitewatch"
        subprocess.run([command], check=True, capture_output=True)
        self.rabbet("run", "mitewatch")
        self.assertIn(self.project.name, self.rabbet("envs").out)

    def test_notes_of_what_is_gone(self) -> None:
        """They go after a time, those of an environment that was moved stay."""
        self.settle("mitewatch")
        notes = self.root / "state" / NOTES
        for name in ("gone", "kept", "moved", "young"):
            self.project = self.project.rename(self.root / name)
            shutil.rmtree(self.project / ".venv", ignore_errors=True)
            self.rabbet("recreate")
            shutil.copytree(self.project, self.root / "next")
            shutil.rmtree(self.root / "next" / ".venv")
            self.project = self.root / "next"
            if name != "young":
                for note in (notes / "environments").iterdir():
                    os.utime(note, (time.time() - 100 * 86400,) * 2)
        (self.root / "moved").rename(self.root / "moved there")
        self.rabbet("run", "mitewatch", folder=self.root / "moved there")
        for name in ("gone", "young"):
            shutil.rmtree(self.root / name)
        self.assertEqual(len([*(notes / "environments").iterdir()]), 4)
        self.rabbet("store", "sweep")
        self.assertEqual(len([*(notes / "environments").iterdir()]), 3)
        self.assertEqual(len([*(notes / "places").iterdir()]), 3)
        for name in ("kept", "moved there"):
            self.rabbet("run", "mitewatch", folder=self.root / name)

    def test_run_refuses_what_does_not_fit(self) -> None:
        """A command is not run in an environment that differs from the lock, unless that is wanted."""
        self.settle("pollencsv")
        self.rabbet("recreate")
        self.rabbet("run", "python", "-c", "import pollencsv")
        (self.site / "tallywax.py").unlink()
        error = self.rabbet("run", "python", "-c", "0", code=7).err
        for word in (".venv does not fit the lock", "replace tallywax", "rabbet recreate", "--as-is"):
            self.assertIn(word, error)
        self.rabbet("run", "--as-is", "python", "-c", "0")

    def test_files_of_two_libraries(self) -> None:
        """The same content may be shared and outlives one of its owners; other content is refused before."""
        self.settle("dronea")
        self.rabbet("recreate")
        for library in ("droneb", "tallywax"):
            time.sleep(1.1)  # what is unpacked in another second compiles to the same, too
            self.rabbet("declare", library, "--now")
            self.rabbet("drift")
        for library, module in (("dronea", "b"), ("droneb", "")):
            self.rabbet("retract", library)
            self.rabbet("resolve")
            self.rabbet("recreate")
            self.rabbet("drift")
            if module:
                self.rabbet("run", "python", "-c", f"import hive_shared.{module}")
        self.assertFalse((self.site / "hive_shared").exists())
        for pair, place in (
            (["droneb", "dronec"], "hive_shared/b.py"),
            (["droned", "mitewatch"], "bin/mitewatch"),
        ):
            with self.subTest(place):
                self.rabbet("declare", *pair)
                self.rabbet("resolve")
                before = self.tree()
                error = self.rabbet("recreate", code=6).err
                self.assertIn(f"{pair[0]} and {pair[1]} can't be installed together", error)
                self.assertIn(place, error)
                self.assertEqual(self.tree(), before)
                self.rabbet("retract", *pair)

    def test_remade(self) -> None:
        """Made again from the same inputs, here or elsewhere, it is the same; a changed store is seen."""
        self.settle("pollencsv", "mitewatch")
        first = self.rabbet("recreate").out
        site, whole = self.site, self.tree()
        store = self.root / "store" / LAYOUT
        stored = next((store / "unpacked").glob("*/tree/tallywax.py"))
        manifest, declaration = next((store / "manifests").iterdir()), self.project / "pyproject.toml"
        changes: list[tuple[bool, Callable[[], object]]] = [
            (True, lambda: None),
            (True, lambda: os.utime(manifest)),
            (False, lambda: (stored.chmod(0o644), stored.write_text("x = 'edited in place'\n"))),
            (True, lambda: None),
            (False, lambda: shutil.rmtree(store / "unpacked")),
            (False, lambda: manifest.write_bytes(b"damaged")),
            (False, manifest.unlink),
            (False, lambda: declaration.write_text(declaration.read_text() + "# other\n")),
        ]
        for number, (at_once, change) in enumerate(changes):
            with self.subTest(number):
                shutil.rmtree(self.project / ".venv")
                change()
                again = self.rabbet("recreate")
                self.assertEqual((again.out, "comparing" not in again.err), (first, at_once))
                self.assertEqual((site / "tallywax.py").read_bytes(), whole[str(site / "tallywax.py")])
                self.rabbet("drift")
                self.rabbet("run", "mitewatch")
        other = self.root / "another folder"
        shutil.copytree(self.project, other, ignore=shutil.ignore_patterns(".venv"))
        for _ in range(2):  # it is made, and known to fit
            self.assertNotIn("comparing", self.rabbet("recreate", folder=other).err)
        self.rabbet("drift", folder=other)

    def test_twenty_at_once(self) -> None:
        """Twenty projects on one empty store fetch each file once, and all of them are whole."""
        self.settle("royaljelly", "mitewatch")
        projects = [self.root / f"project-{number}" for number in range(20)]
        for project in projects:
            shutil.copytree(self.project, project)
        self.index.requests.clear()
        threads = [
            threading.Thread(target=self.rabbet, args=("recreate", "--quiet"), kwargs={"folder": project})
            for project in projects
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        fetched = [request for request in self.index.requests if request.endswith(".whl")]
        self.assertEqual(len(fetched), len(set(fetched)), fetched)
        for project in projects[::7]:
            self.rabbet("drift", folder=project)

    def test_damaged_store(self) -> None:
        """A wheel that was damaged in the store is noticed when it is needed again, and fetched again."""
        self.settle("combframe")
        self.rabbet("recreate")
        store = self.root / "store" / LAYOUT
        for wheel in (store / "wheels").glob("*/*.whl"):
            wheel.write_bytes(b"damaged")
        shutil.rmtree(store / "unpacked")
        self.rabbet("recreate", "--fresh")
        self.rabbet("drift")

    def test_envs(self) -> None:
        """All environments are listed with their state; one is discarded by its project or its folder."""
        self.settle("tallywax")
        self.rabbet("recreate")
        other = self.root / "other"
        shutil.copytree(self.project, other, ignore=shutil.ignore_patterns(".venv"))
        self.rabbet("recreate", "--bare", folder=other)
        (other / ".venv" / "bin" / "python").unlink()
        found = self.rabbet("run", "python", "-c", LIST).json()["environments"]
        states = [
            (environment["project"], environment["state"], environment["active"], environment["groups"])
            for environment in found
        ]
        gone = "its interpreter bin/python is gone"
        expected = [("hivescale", "from its lock", True, None), ("other", gone, False, None)]
        self.assertEqual(states, expected)
        self.assertGreater(found[0]["shared_size"], 0)
        self.assertEqual([environment["fits"] for environment in found], [None, False])
        used = found[0]["used"]
        for place in (self.root / "state" / NOTES / "places").iterdir():
            os.utime(place, (1, 1))
        self.rabbet("run", "true")
        checked = self.rabbet("envs", "--check", "--json").json()["environments"]
        self.assertEqual([environment["state"] for environment in checked], ["fits", gone])
        self.assertGreaterEqual(checked[0]["used"], used)
        self.assertIn("2 environments on this machine; as locked: 1.", self.rabbet("envs", "--check").out)
        (self.site / "tallywax.py").unlink()
        self.assertIn("made from the present lock: 1. To compare", self.rabbet("envs").out)
        self.assertIn("as locked: 0.", self.rabbet("envs", "--check").out)
        lock = (self.project / "pylock.toml").read_text()
        for change, state in (("", "its lock is gone"), (lock + "#\n", "from another lock")):
            (self.project / "pylock.toml").unlink(missing_ok=True)
            if change:
                (self.project / "pylock.toml").write_text(change)
            self.assertEqual(self.rabbet("envs", "--json").json()["environments"][0]["state"], state)
        (other / "pyproject.toml").unlink()
        self.assertIn("its project is gone", self.rabbet("envs").out)
        other = other.rename(self.root / "renamed")
        self.assertIn("renamed/.venv", self.rabbet("envs").out)
        self.rabbet("envs", "discard", "../renamed", ".venv")
        self.assertFalse((other / ".venv").exists() or (self.project / ".venv").exists())
        self.assertIn("0 environments", self.rabbet("envs").out)
        (self.project / ".venv").mkdir()
        self.assertIn("was not changed", self.rabbet("envs", "discard", ".", code=7).err)

    def test_links_of_others(self) -> None:
        """That another project links the same files, or no longer does, makes nothing be read again."""
        self.settle("tallywax", "skepio")
        self.rabbet("recreate")
        other = self.root / "other"
        shutil.copytree(self.project, other, ignore=shutil.ignore_patterns(".venv"))

        def go() -> None:
            shutil.rmtree(other / ".venv")

        def come() -> None:
            self.rabbet("recreate", folder=other)

        reading = "reading the environment's files"
        for deeds in ((come,), (go,), (come, go), (come,)):
            for deed in deeds:
                deed()
            self.assertNotIn(reading, self.rabbet("drift").err, deeds)
            self.rabbet("run", "true")
        module = self.site / "tallywax.py"
        state, content = module.stat(), bytearray(module.read_bytes())
        content[-2] ^= 1

        def forge() -> None:
            module.chmod(0o644)
            module.write_bytes(content)
            os.utime(module, ns=(state.st_atime_ns, state.st_mtime_ns))
            module.chmod(0o444)

        forge()
        self.assertIn(("altered", "tallywax"), self.findings(), "whatever time it bears")
        self.rabbet("recreate")
        self.rabbet("drift")
        forge()
        go()  # which explains the time of the last change
        self.rabbet("drift")
        self.assertIn(("altered", "tallywax"), self.findings("--deep"))

    def test_labels(self) -> None:
        """However narrow the terminal, two environments never look alike, and the project's name is seen."""
        dice, home = chance.dice(7), Path("/home/bee")
        for _ in range(300):
            names = ["hivescale", "a", "client-a", "client-b", "very-long-name-of-a-folder"]
            roots = [
                Path("/home/bee", *(dice.choice(names) for _ in range(dice.randint(1, 6))), ".venv")
                for _ in range(dice.randint(1, 6))
            ]
            roots = list(dict.fromkeys(roots))
            for most in (0, 20, 23, 40):
                labels = path_labels(roots, home, most)
                self.assertEqual(len(set(labels)), len(roots), labels)
                self.assertTrue(all(label.endswith(".venv") for label in labels))
                longest = max(map(len, path_labels(roots[:1], home, most)))
                self.assertTrue(longest <= most or not most)

    def test_shells(self) -> None:
        """Each shell enters by its file, notices that it is inside, and leaves everything as it was."""
        self.settle("mitewatch")
        self.rabbet("recreate")
        self.project = self.project.rename(self.root / "hive scale's")
        site = self.project / ".venv" / "bin"
        for shell, file in (("bash", "enter.sh"), ("zsh", "enter.sh"), ("fish", "enter.fish")):
            if shell != "bash" and shutil.which(shell) is None:
                continue  # bash is everywhere; the others are tried where they are installed
            with self.subTest(shell):
                quoted = '"' + str(site / file) + '"'
                script = f"""
                    echo "$PATH" > before; source {quoted}
                    python -c 'import sys; print(sys.prefix)' > inside; mitewatch >> inside
                    source {quoted} 2> again
                    leave; echo "$PATH" > after
                    echo "[$RABBET_ENVIRONMENT]" >> after
                """
                done = subprocess.run(
                    [shell, "-c", script],
                    cwd=self.root,
                    env=self.variables,
                    capture_output=True,
                    text=True,
                    check=False,
                )
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                texts = {
                    name: (self.root / name).read_text() for name in ("before", "inside", "again", "after")
                }
                self.assertTrue(texts["inside"].startswith(f"{self.project / '.venv'}\n"), texts["inside"])
                self.assertIn("already inside", texts["again"])
                self.assertEqual(texts["after"], texts["before"] + "[]\n")

    def test_installers_of_other_pythons(self) -> None:
        """What would install elsewhere says what to do, unless the environment has a program of that name."""
        self.begin(self.index.address, "mitewatch")
        self.rabbet("resolve", "--now")
        folder = self.project / ".venv" / "bin" / "elsewhere"
        names = sorted(path.name for path in folder.glob("*"))
        if not names:
            self.skipTest("this Python brings no program that installs libraries")
        for given, advice in (
            ("install skepio", "rabbet declare skepio --now"),
            ("install -U 'skepio>=0.3' mitewatch", "rabbet declare 'skepio>=0.3' mitewatch --now"),
            ("list", "rabbet explain"),
            ("install ./skepio '$(touch here)'", "rabbet explain"),
        ):
            error = self.rabbet("run", names[0], *shlex.split(given), code=2).err
            self.assertIn(f"  try     {advice}\n", error)
        self.assertFalse((self.project / "here").exists())
        self.rabbet("drift")
        own = folder.parent / names[0]
        own.write_text("#!/bin/sh\necho own\n")
        own.chmod(0o755)
        self.assertIn(f"bin/{names[0]}", self.rabbet("run", names[0], code=7).err)
        self.assertEqual(self.rabbet("run", "--as-is", names[0]).out, "own\n")
        own.unlink()
        foreign = self.root / "foreign"
        foreign.mkdir()
        (foreign / "weigh").write_text(f"#!{sys.executable}\nprint('weighed')\n")
        (foreign / "weigh").chmod(0o755)
        told = self.rabbet("run", "weigh", PATH=f"{foreign}:{self.variables['PATH']}")
        self.assertEqual(told.out, "weighed\n")
        self.assertIn(f"{foreign}/weigh runs under {sys.executable}", told.err)

    def test_compiled(self) -> None:
        """Modules come compiled and valid, also after a move, and go with their library."""
        self.settle("pollencsv", "nectarplot")
        for again in ([], ["--fresh"]):
            self.rabbet("recreate", *again)
            self.project = self.project.rename(self.root / f"moved{len(again)}")
            cache = self.site / "__pycache__"
            before = {path.name: path.stat().st_ino for path in cache.iterdir()}
            self.assertEqual(len(before), 5)
            self.rabbet("run", "python", "-c", "import pollencsv, nectarplot")
            self.assertEqual({path.name: path.stat().st_ino for path in cache.iterdir()}, before)
        self.rabbet("retract", "nectarplot")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertEqual([path.name for path in cache.glob("nectarplot*")], [])

    def test_compiled_later(self) -> None:
        """Who wants to start at once leaves compiling to Python, which no command takes for a change."""
        self.settle("pollencsv")
        self.rabbet("recreate", "--compile-later")
        cache = self.site / "__pycache__"
        self.assertFalse(cache.exists())
        self.rabbet("run", "python", "-c", "import pollencsv")
        self.assertTrue(cache.exists())
        self.rabbet("drift")
        self.assertEqual(self.steps(), [])
        (unchecked,) = self.rabbet("drift", "--deep", "--json", code=1).json()["findings"]
        told = [unchecked[key] for key in ("reason", "breaks", "mend")]
        self.assertEqual(told, ["compiled-later", [], "rabbet recreate --fresh"])
        self.assertEqual(list((self.root / "store").glob("*/unpacked/*/cpython-*")), [])
        (self.site / "pollencsv.py").chmod(0o644)
        (self.site / "pollencsv.py").write_text("x = 1\n")
        self.assertEqual(self.findings("--deep")["altered", "pollencsv"]["weight"], "breaks")
        self.rabbet("recreate", "--verify")
        self.rabbet("recreate", "--fresh")
        self.rabbet("drift", "--deep")
        shutil.rmtree(self.project / ".venv")
        self.rabbet("recreate")
        self.assertTrue(cache.exists(), "what was left out is not remembered as all there is to do")

    @unittest.skipUnless(SECOND_DISK, "there is no second file system to write to")
    def test_across_file_systems(self) -> None:
        """Where nothing can be linked from the store, it is copied, and fits as well."""
        self.settle("mitewatch")
        with tempfile.TemporaryDirectory(dir=MEMORY) as elsewhere:
            self.variables["RABBET_STORE"] = elsewhere
            for options in ([], ["--fresh"]):
                self.rabbet("recreate", *options)
                self.rabbet("drift")
                self.assertEqual({path.stat().st_nlink for path in self.site.glob("*.py")}, {1})
            self.rabbet("run", "mitewatch")
            self.assertEqual(self.steps(), [])

    def test_somebody_elses(self) -> None:
        """What lies in an environment's place and is none of ours is never touched."""
        self.settle("tallywax")
        place, elsewhere = self.project / ".venv", self.root / "elsewhere"
        elsewhere.mkdir()
        (elsewhere / "pyvenv.cfg").write_text("home = /usr/bin\nversion = 3.11.2\n")
        makers: dict[str, Callable[[], object]] = {
            "a file": lambda: place.write_text("mine"),
            "a link to a folder": lambda: place.symlink_to(elsewhere),
            "a link to nothing": lambda: place.symlink_to(self.root / "nothing"),
            "a folder": place.mkdir,
            "an environment": lambda: shutil.copytree(elsewhere, place),
        }
        for title, make in makers.items():
            with self.subTest(title):
                make()
                before = self.tree()
                for options in ([], ["--fresh"]):
                    self.assertIn("was not changed", self.rabbet("recreate", *options, code=7).err)
                self.assertEqual(self.tree(), before)
                self.assertTrue(
                    place.is_symlink() == ("link" in title) and (elsewhere / "pyvenv.cfg").exists()
                )
                place.rename(self.root / title)
        self.rabbet("recreate")
        place.rename(elsewhere / "far")
        place.symlink_to(elsewhere / "far")
        before = self.tree()
        for options in ([], ["--fresh"]):
            self.assertIn("it is a link", self.rabbet("recreate", *options, code=7).err)
        self.assertEqual(self.tree(), before, "it was ours, but may be another project's now")

    def test_interpreter_that_changed(self) -> None:
        """Where the interpreter is gone, or is another one now, every command says so and how to mend it."""
        self.settle("mitewatch")
        link = self.project / ".venv" / "bin" / "python"
        configuration = self.project / ".venv" / "pyvenv.cfg"

        def remove() -> None:
            link.unlink()
            link.symlink_to("/opt/gone/python3")

        def change() -> None:
            text = configuration.read_text()
            configuration.write_text(re.sub(r"version = .*", "version = 3.11.0rc1", text))

        for act, reason in (
            (remove, "/opt/gone/python3 is gone"),
            (change, "was changed from 3.11.0rc1 to 3."),
        ):
            with self.subTest(reason):
                self.rabbet("recreate")
                act()
                for command, code in (
                    ("drift", 1),
                    ("run mitewatch", 7),
                    ("enter", 7),
                    ("recreate --plan", 0),
                ):
                    done = self.rabbet(*command.split(), code=code)
                    self.assertIn(reason, done.out + done.err)
                    self.assertIn("rabbet recreate", done.out + done.err)
                self.assertIn(reason, self.rabbet("envs", "--check").out)
        self.rabbet("recreate")
        remove()
        script = [str(self.project / ".venv" / "bin" / "mitewatch")]
        done = subprocess.run(script, capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, "try: rabbet recreate" in done.stderr), (7, True))

    def test_clock_set_back(self) -> None:
        """An edit is noticed whatever time it bears; what is kept is not fresh for ever."""
        self.settle("tallywax")
        self.rabbet("recreate")
        module = self.site / "tallywax.py"
        for moment in (0, time.time() + 86400 * 365):
            text = module.read_text()
            module.chmod(0o644)
            module.write_text(text.replace("=", "-"))
            os.utime(module, (moment, moment))
            self.assertIn("tallywax.py was altered", self.rabbet("recreate").out)
            self.assertEqual(module.read_text(), text)

    def test_newer_layout(self) -> None:
        """What a newer Rabbet keeps in the same store, in a layout of its own, is left alone."""
        self.settle("tallywax")
        newer = self.root / "store" / "layout-99" / "wheels" / "x"
        newer.mkdir(parents=True)
        (newer / "y.whl").write_text("from tomorrow")
        for command in (["recreate"], ["store"], ["store", "sweep"], ["store", "check"]):
            self.rabbet(*command)
        self.assertEqual((newer / "y.whl").read_text(), "from tomorrow")
        code = "import rabbet.store.blob_cache as cache; cache.LAYOUT = 'layout-99'"
        for command in ("drift", "recreate", "envs"):  # a Rabbet of tomorrow: what was made here still was
            done = subprocess.run(
                [sys.executable, "-c", f"{code}; import rabbet.__main__ as main; main.program()", command],
                cwd=self.project,
                env=self.variables,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("1 environment on this machine; made from the present lock: 1", done.stdout)

    def test_restless_downloads(self) -> None:
        """A wheel that breaks off is taken up again where it did; a slow one is waited for."""
        self.manner.faults["/files/tallywax-1.2-py3-none-any.whl"] = Fault.HALF_ONCE
        self.manner.faults["/files/combframe-2.1-py3-none-any.whl"] = Fault.TRICKLE
        self.settle("combframe")
        self.rabbet("recreate")
        self.rabbet("drift")
        self.assertEqual(self.index.requests.count("GET /files/tallywax-1.2-py3-none-any.whl"), 2)

    def test_leftovers(self) -> None:
        """Folders of the user's own are left alone, even with names like those of a run that was killed."""
        self.settle("tallywax")
        own = {".venv.partial-notes", ".venv.partial-0123456789abcdef"}
        for name in own:
            (self.project / name / "new").mkdir(parents=True)
        for options in ([], ["--fresh"], []):
            self.rabbet("recreate", *options)
        self.assertEqual({path.name for path in self.project.glob(".venv*")}, {".venv", *own})

    def test_store(self) -> None:
        """It tells what it holds, removes what nobody uses, and finds what was damaged."""
        self.settle("combframe", "queenmark")
        self.rabbet("recreate")
        parts = {part["name"]: part for part in self.rabbet("store", "--json").json()["parts"]}
        self.assertEqual((parts["wheels"]["entries"], parts["unpacked"]["entries"]), (3, 3))
        self.rabbet("retract", "queenmark")
        self.rabbet("resolve")
        self.rabbet("recreate")
        store = self.root / "store" / LAYOUT
        self.assertIn("Removed 0 wheels", self.rabbet("store", "sweep").out, "used a moment ago")
        for part in ("wheels", "unpacked"):
            for entry in (store / part).iterdir():
                os.utime(entry, (time.time() - 3 * 86400,) * 2)
        self.assertIn("Removed 0 wheels", self.rabbet("store", "sweep", "--older", "7").out)
        removed = self.rabbet("store", "sweep", "--json").json()["removed"]
        self.assertEqual([removal["part"] for removal in removed], ["unpacked", "wheels"])
        self.assertIn("Every file is what it was", self.rabbet("store", "check").out)
        self.rabbet("store", "--older", "3", code=2)
        wheel = next((store / "wheels").glob("*/combframe*"))
        wheel.write_bytes(wheel.read_bytes()[:-1] + b"?")
        module = next((store / "unpacked").glob("*/tree/tallywax.py"))
        state = module.stat()
        module.chmod(0o644)
        module.write_text(module.read_text().replace("=", "-"))
        os.utime(module, ns=(state.st_atime_ns, state.st_mtime_ns))
        found = self.rabbet("store", "check", code=1).out
        self.assertIn("combframe", found)
        self.assertIn("tallywax.py", found)
        self.assertIn("Every file is what it was", self.rabbet("store", "check").out)
        self.rabbet("recreate", "--fresh")
        self.rabbet("drift")
