"""Unpacking, installing and removing wheels: hostile ones, all schemes, edits and moves."""

import hashlib
import io
import os
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
import warnings
import zipfile
from base64 import b64decode
from collections.abc import Callable
from pathlib import Path

from packaging.tags import sys_tags

from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import LockedWheel
from rabbet.core.model.runtime import PythonRuntime
from rabbet.demo.files import build_archive
from rabbet.errors import IntegrityFailed
from rabbet.python.choosing.targets import target_of
from rabbet.python.environment.look.inspect import take_inventory
from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.install_state import InstallState
from rabbet.python.environment.place.layout import Layout
from rabbet.python.environment.place.linking import Linking
from rabbet.python.environment.put.create import create_environment, own_parts
from rabbet.python.environment.put.install import Provenance, install_wheel, planned_install
from rabbet.python.environment.put.remove import remove_library
from rabbet.python.store.entries import Unpacked
from rabbet.python.store.store import Store
from rabbet.runtimes.probe import probe_all
from rabbet.store.blob_cache import BlobCache
from rabbet.store.pack import Pack

INFO = "hivewire-1.0.dist-info"
ENTRY_POINTS = f"{INFO}/entry_points.txt"
SITE = f"lib/python{sys.version_info.major}.{sys.version_info.minor}/site-packages"
METADATA = b"Metadata-Version: 2.1\nName: hivewire\nVersion: 1.0\n\n"
PLAIN = {
    f"{INFO}/METADATA": METADATA,
    f"{INFO}/WHEEL": b"Wheel-Version: 1.0\n",
    "hivewire/__init__.py": b"x = 1\n",
}


def link_member(archive: zipfile.ZipFile) -> None:
    """A symbolic link that leads out."""
    entry = zipfile.ZipInfo("hivewire/passwd")
    entry.external_attr = 0o120777 << 16
    archive.writestr(entry, "/etc/passwd")


def second_member(archive: zipfile.ZipFile) -> None:
    """Another file of a name that is there already."""
    with warnings.catch_warnings(action="ignore"):
        archive.writestr("hivewire/__init__.py", "x = 1\n")


def bomb(archive: zipfile.ZipFile) -> None:
    """A small member that unpacks to a huge one."""
    archive.writestr("hivewire/zeros", bytes(120_000_000), compress_type=zipfile.ZIP_DEFLATED)


def encrypted_member(archive: zipfile.ZipFile) -> None:
    """A member that asks for a password."""
    archive.writestr("hivewire/more.txt", "x")
    archive.getinfo("hivewire/__init__.py").flag_bits |= 1


HOSTILE: list[tuple[str, dict[str, bytes], Callable[[zipfile.ZipFile], None] | None]] = [
    ("climbs out", {"../evil.py": b""}, None),
    ("climbs out below a folder", {"hivewire/../../evil.py": b""}, None),
    ("an absolute path", {"/tmp/evil.py": b""}, None),
    ("a path of another system", {"C:\\evil.py": b""}, None),
    ("a second .dist-info folder", {"skepio-1.0.dist-info/METADATA": b""}, None),
    ("replaces the interpreter", {"hivewire-1.0.data/scripts/python3": b"#!/bin/sh\n"}, None),
    ("replaces the configuration", {"hivewire-1.0.data/data/pyvenv.cfg": b"home = /tmp\n"}, None),
    ("an entry point that climbs out", {ENTRY_POINTS: b"[console_scripts]\n../evil = a:b\n"}, None),
    ("an entry point that is code", {ENTRY_POINTS: b"[console_scripts]\nx = os:f('id')\n"}, None),
    ("a link", {}, link_member),
    ("one name twice", {}, second_member),
    ("a bomb", {}, bomb),
    ("an encrypted member", {}, encrypted_member),
    ("a file that is a folder too", {"hivewire": b""}, None),
    ("over its own RECORD", {f"hivewire-1.0.data/purelib/{INFO}/RECORD": b""}, None),
    ("over its own metadata", {f"hivewire-1.0.data/platlib/{INFO}/METADATA": METADATA}, None),
    ("into another library", {"hivewire-1.0.data/purelib/skepio-1.0.dist-info/RECORD": b""}, None),
    ("into another one again", {f"hivewire-1.0.data/data/{SITE}/skepio-1.0.DIST-INFO/x": b""}, None),
    ("over the notes", {"hivewire-1.0.data/data/rabbet.json": b"{}"}, None),
    ("over the name", {"hivewire-1.0.data/data/RABBET.ID": b"x"}, None),
    ("over an activation file", {"hivewire-1.0.data/scripts/enter.zsh/.zshrc": b"x"}, None),
    ("a configuration in bin", {"hivewire-1.0.data/scripts/pyvenv.cfg": b"home = /tmp\n"}, None),
    ("one module by two ways", {"hivewire-1.0.data/purelib/hivewire/__init__.py": b"x = 2\n"}, None),
    ("a form of tomorrow", {f"{INFO}/WHEEL": b"Wheel-Version: 2.0\n"}, None),
    ("a form that is not told", {f"{INFO}/WHEEL": b"Generator: hive\n"}, None),
    ("a name that can't be one", {"hivewire/" + "x" * 2000: b""}, None),
    ("a file that RECORD does not list", {}, lambda archive: archive.writestr("hivewire/extra.py", "y")),
]  # fmt: skip


class Case(unittest.TestCase):
    """A store and an empty environment for the interpreter that runs the tests."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="rabbet-test-")
        self.addCleanup(holder.cleanup)
        self.root = Path(holder.name).resolve()
        self.store = Store(self.root / "store", Pack(self.root / "store" / "metadata.pack"))
        found = probe_all(
            [Path(os.path.realpath(sys.executable))], BlobCache(self.root / "probes"), os.environ
        )[0]
        assert isinstance(found, PythonRuntime)
        self.runtime = found
        self.layout = self.environment("env")

    def environment(self, name: str) -> Layout:
        root = self.root / name
        root.mkdir()
        layout = Layout(root=root, site_packages=self.runtime.site_packages)
        with GuardedEnvironment(layout, Linking()) as guarded:
            create_environment(guarded, self.runtime)
        return layout

    def unpack(
        self, contents: dict[str, bytes], change: Callable[[zipfile.ZipFile], None] | None = None
    ) -> Unpacked:
        """Take a made-up wheel into the store."""
        path = self.root / "made.whl"
        path.write_bytes(build_archive(INFO, {**PLAIN, **contents}))
        if change is not None:
            with zipfile.ZipFile(path, "a") as archive:
                change(archive)
        return self.take(path)

    def take(self, path: Path) -> Unpacked:
        """Take a wheel into the store."""
        digest = hashlib.sha256(path.read_bytes()).hexdigest()
        wheel = LockedWheel(filename="hivewire-1.0-py3-none-any.whl", sha256=digest, path="")
        self.store.fetch(wheel, [path.read_bytes()])
        return self.store.unpacked(wheel)

    def install(self, unpacked: Unpacked) -> None:
        prepared = planned_install(unpacked, self.layout, Provenance("w"), requested=True)
        with GuardedEnvironment(self.layout, Linking()) as guarded:
            origin = install_wheel(prepared, guarded)
        self.install_state = InstallState(
            executable="", libraries={"hivewire": origin}, own=dict(own_parts(self.runtime))
        )
        self.store.entries.note_state(unpacked.tree.parent)

    def remove(self) -> None:
        with GuardedEnvironment(self.layout, Linking()) as guarded:
            remove_library(guarded, INFO)

    def inventory(self) -> Inventory:
        return take_inventory(self.layout.root, self.install_state)

    def files(self) -> set[str]:
        root = self.layout.root
        return {str(path.relative_to(root)) for path in root.rglob("*") if not path.is_dir()}


class Wheels(Case):
    """What a wheel may do to an environment."""

    def test_record(self) -> None:
        """A wheel without `RECORD`, or with one that lies of a file, is refused."""
        made = zipfile.ZipFile(io.BytesIO(build_archive(INFO, PLAIN)))
        true = made.read(f"{INFO}/RECORD").decode()
        cases = {
            "none": None,
            "no text": b"\xff",
            "no table": b'"a',
            "other hashes": true.replace("sha256=", "sha256=x").encode(),
            "digests of nothing": re.sub("sha256=[^,]*", "sha256=AAAA", true).encode(),
            "other sizes": re.sub(",[0-9]", ",9", true).encode(),
            "sizes that are none": re.sub(",[0-9]+", ",-1", true).encode(),
            "no hashes": re.sub("sha256=[^,]*", "", true).encode(),
            "weak hashes": re.sub("sha256=[^,]*", "md5=AAAA", true).encode(),
            "another strong hash, a wrong one": re.sub("sha256=[^,]*", "sha512=AAAA", true).encode(),
            "a file too few": true.partition("hivewire/")[0].encode(),
        }
        for title, record in cases.items():
            self.write_wheel(made, record)
            with self.subTest(title), self.assertRaises(IntegrityFailed) as caught:
                self.take(self.root / "made.whl")
            remedies = [way.command for way in caught.exception.ways]
            self.assertEqual(remedies, ["rabbet declare --limit 'hivewire!=1.0' && rabbet resolve"])
        digests = re.sub("(?<=sha256=)[^,]*", lambda found: b64decode(found[0] + "=", b"-_").hex(), true)
        for record in (
            digests.encode(),
            re.sub("(?<=sha256=)[^,]*", lambda one: one[0].upper(), digests).encode(),
        ):
            self.write_wheel(made, record)
            self.install(self.take(self.root / "made.whl"))  # some builders write hexadecimal digits
            self.assertEqual(self.inventory().libraries["hivewire"].altered, ())
            self.remove()

    def write_wheel(self, made: zipfile.ZipFile, record: bytes | None) -> None:
        """A wheel with the files of another one, and this `RECORD`."""
        with zipfile.ZipFile(self.root / "made.whl", "w") as archive:
            for name in PLAIN:
                archive.writestr(name, made.read(name))
            if record is not None:
                archive.writestr(f"{INFO}/RECORD", record)

    def test_hostile(self) -> None:
        """Each is refused with an error, and leaves no trace outside the store's litter."""
        for title, contents, change in HOSTILE:
            with self.subTest(title):
                before = self.files()
                with self.assertRaises(IntegrityFailed):
                    self.install(self.unpack(contents, change))
                self.assertEqual(self.files(), before)
                self.assertFalse((self.root / "evil.py").exists())

    def test_all_schemes(self) -> None:
        """Every part of a wheel lands in its place, recorded, and goes again; scripts and modules work."""
        empty = self.files()
        data = "hivewire-1.0.data"
        unpacked = self.unpack(
            {
                f"{data}/purelib/pure.py": b"",
                f"{data}/platlib/plat.py": b"",
                f"{data}/scripts/buzz": b"#!python\nimport hivewire; print('buzz', hivewire.x)\n",
                f"{data}/headers/hive.h": b"",
                f"{data}/data/share/doc/hive.txt": b"",
                ENTRY_POINTS: b"[console_scripts]\nhum = hivewire.deep:Hum.loud [x]\n",
                "hivewire/deep.py": b"class Hum:\n    def loud():\n        print('hum')\n",
                'hivewire/odd näme,"x".txt': b"",
            }
        )
        self.install(unpacked)
        site = self.layout.site_packages
        expected = {
            f"{site}/pure.py",
            f"{site}/plat.py",
            "bin/buzz",
            "bin/hum",
            "include/site/hivewire/hive.h",
            "share/doc/hive.txt",
        }
        self.assertLessEqual(expected, self.files())
        for script, output in (("buzz", "buzz 1"), ("hum", "hum")):
            done = subprocess.run([self.layout.scripts / script], capture_output=True, text=True, check=True)
            self.assertEqual(done.stdout.strip(), output)
        inventory = self.inventory()
        self.assertEqual(
            [(library.name, library.altered) for library in inventory.libraries.values()], [("hivewire", ())]
        )
        self.assertEqual((inventory.strays, inventory.damage), ((), ()))
        self.remove()
        self.assertEqual(self.files(), empty)

    def test_edit_reaches_nobody_else(self) -> None:
        """A file edited in place is noticed, and what is installed next is the original again."""
        self.install(self.unpack({}))
        module = self.layout.site / "hivewire" / "__init__.py"
        state = module.stat()
        module.chmod(0o644)
        module.write_text("x = 2\n")
        os.utime(module, ns=(state.st_atime_ns, state.st_mtime_ns))
        module.chmod(0o444)
        found = self.inventory().libraries
        self.assertEqual(found[next(iter(found))].altered, ("hivewire/__init__.py",))
        self.layout = self.environment("other")
        self.install(self.unpack({}))
        self.assertEqual((self.layout.site / "hivewire" / "__init__.py").read_text(), "x = 1\n")

    def test_link_in_place_of_a_library(self) -> None:
        """Where a link to a checkout stands in a library's place, only the link goes."""
        checkout = self.root / "checkout"
        checkout.mkdir()
        (checkout / "__init__.py").write_text("x = 'mine'\n")
        package = self.layout.site / "hivewire"
        for again in (self.install, lambda _: None):
            self.install(self.unpack({}))
            shutil.rmtree(package)
            package.symlink_to(checkout)
            again(self.unpack({}))
            self.remove()
            self.assertEqual([path.name for path in checkout.iterdir()], ["__init__.py"])
            self.assertEqual((checkout / "__init__.py").read_text(), "x = 'mine'\n")
            self.assertFalse(package.is_symlink())

    def test_moved(self) -> None:
        """Scripts start wherever the environment is moved to, called by any name for them, with any words."""
        script = b"#!python\n'It\\'s mine.'\nimport sys; print(sys.argv[1:], __doc__, sys.prefix)\n"
        self.install(
            self.unpack(
                {
                    "hivewire-1.0.data/scripts/buzz": script,
                    "hivewire-1.0.data/scripts/other": b"#!/bin/sh\necho $1 It\\'s\n",
                    ENTRY_POINTS: b"[console_scripts]\nhum = hivewire.deep:hum\n",
                    "hivewire/deep.py": b"import sys\ndef hum(): print(sys.argv[1:], 'It\\'s', sys.prefix)\n",
                }
            )
        )
        here = self.layout.root
        for name in ("x" * 150, "a b", 'it\'s $HOME `id` "q"'):
            here = here.rename(self.root / name)
            link = self.root / "link"
            link.unlink(missing_ok=True)
            link.symlink_to(here / "bin" / "buzz")
            ways: list[tuple[list[str], Path]] = [
                ([str(here / "bin" / "buzz")], self.root),
                (["bin/buzz"], here),
                ([str(link)], self.root),
                (["hum"], self.root),
                (["other"], self.root),
            ]
            for command, folder in ways:
                with self.subTest(name, command=command):
                    done = subprocess.run(
                        [*command, "a  b"],
                        cwd=folder,
                        env={"PATH": f"{here / 'bin'}:/usr/bin:/bin"},
                        capture_output=True,
                        text=True,
                        check=True,
                    )
                    self.assertIn("It's", done.stdout)
                    if command != ["other"]:
                        self.assertIn("['a  b']", done.stdout)
                        self.assertIn(str(here), done.stdout)


class Tags(Case):
    """Tags are computed from facts."""

    def test_as_the_interpreter_itself(self) -> None:
        """For the running interpreter they are those that the `packaging` library finds by looking."""
        self.assertEqual(
            list(target_of(self.runtime).tags), list(dict.fromkeys(str(tag) for tag in sys_tags()))
        )
