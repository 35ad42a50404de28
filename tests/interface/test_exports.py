"""The lock for others: a list, a bill, a container that is really built, an editor's description."""

import csv
import io
import json
import os
import shutil
import subprocess
import unittest
from pathlib import Path

from rabbet.demo.libraries import RELEASES, MadeUp
from rabbet.demo.play import add_to_declaration
from rabbet.demo.stand_in import StandIn
from tests.formats.test_cyclonedx import validator
from tests.support.program import ProgramCase

# What a small system with Python takes of Debian, as it is installed here.
PACKAGES = (
    "base-files", "coreutils", "dash", "libacl1", "libattr1", "libbz2-1.0", "libc6", "libcrypt1", "libexpat1",
    "libffi8", "libgcc-s1", "libgmp10", "liblzma5", "libpcre2-8-0", "libpython3.11-minimal",
    "libpython3.11-stdlib", "libselinux1", "libsqlite3-0", "libssl3", "libstdc++6", "libuuid1", "media-types",
    "python3.11-minimal", "zlib1g",
)  # fmt: skip


def packaged_files() -> list[str]:
    """The files of these packages on this machine; none where one is not installed."""
    if not shutil.which("buildah") or not shutil.which("dpkg-query"):
        return []
    done = subprocess.run(
        ["dpkg-query", "--listfiles", *PACKAGES], capture_output=True, text=True, check=False
    )
    names = [line for line in done.stdout.splitlines() if line.startswith("/") and "/doc/" not in line]
    return [] if done.returncode else [name for name in names if not Path(name).is_dir()]


class Exports(ProgramCase):
    """A project for two systems, with groups."""

    def setUp(self) -> None:
        super().setUp()
        licensed = MadeUp(name="waxpress", version="1.0", code="x = 1\n")
        speaking = MadeUp(name="ipykernel", version="1.0", code="x = 1\n")
        self.index = self.serve(StandIn([*RELEASES, licensed, speaking]))
        self.begin(self.index.address, "pollencsv", "waxpress", runtime="python==3.11.*")
        self.rabbet("declare", "--group", "checks", "mitewatch")

    def test_kernel(self) -> None:
        """An environment becomes a kernel for notebooks, which is listed and taken back; others' stay."""
        told = self.rabbet("export", "kernel", code=7).err
        self.assertIn("rabbet recreate", told)
        self.rabbet("resolve", "--now")
        self.assertIn("try     rabbet declare ipykernel --now", self.rabbet("export", "kernel", code=7).err)
        self.rabbet("declare", "ipykernel", "--now")
        for _ in range(2):
            made = self.rabbet("export", "kernel", "--json").json()
        content = json.loads((Path(made["folder"]) / "kernel.json").read_text())
        done = subprocess.run([content["argv"][0], "-c", "import ipykernel"], check=False)
        self.assertEqual((done.returncode, content["argv"][3:]), (0, ["-f", "{connection_file}"]))
        self.assertRegex(content["display_name"], r"^hivescale \(Python 3\.\d+\)$")
        others = Path(made["folder"]).parent / "others"
        others.mkdir()
        (others / "kernel.json").write_text("{}")
        shutil.rmtree(self.project / ".venv")
        listed = self.rabbet("export", "kernels", "--json").json()["kernels"]
        self.assertEqual([(row["title"], row["there"]) for row in listed], [(content["display_name"], False)])
        elsewhere = self.root / "elsewhere"
        self.project.rename(elsewhere)
        self.rabbet("recreate", folder=elsewhere)
        for _ in range(2):  # the second one is answered by what the first one found
            self.assertIn("environment is gone", self.rabbet("drift", folder=elsewhere).out)
        noted = self.rabbet("drift", "--json", folder=elsewhere).json()["findings"][0]
        self.assertEqual((noted["reason"], noted["name"]), ("kernel-lost", content["display_name"]))
        self.rabbet("export", "kernels", "--back", folder=elsewhere)
        self.rabbet("export", "kernel", "--back", code=7, folder=elsewhere)
        self.assertIn("No drift", self.rabbet("drift", folder=elsewhere).out)
        self.assertEqual([path.name for path in others.parent.iterdir()], ["others"])

    def test_list(self) -> None:
        """Each pin with its hashes, markers where systems differ, groups as they are chosen."""
        self.rabbet("declare", "--target", "linux-x86_64", "macos-arm64", "windows-x86_64")
        self.rabbet("resolve")
        text = self.rabbet("export", "list").out
        self.assertNotIn("mitewatch", text)
        pins = [line for line in text.splitlines() if "==" in line and not line.startswith("#")]
        self.assertIn("queenmark==1.1 ; sys_platform == 'win32' \\", pins)
        self.assertEqual(text.count("--hash=sha256:"), len([pin for pin in pins if pin.endswith("\\")]))
        with_group = self.rabbet("export", "list", "--group", "checks", "--to", "list.txt")
        self.assertIn("Wrote list.txt", with_group.out)
        self.assertIn("mitewatch==", (self.project / "list.txt").read_text())
        read = self.root / "again"
        read.mkdir()
        shutil.copy(self.project / "list.txt", read / "requirements.txt")
        done = self.rabbet("adopt", "--yes", folder=read)
        self.assertIn("pollencsv", (read / "pyproject.toml").read_text(), done.out)
        self.rabbet("export", "list", "--group", "nothing", code=2)
        self.rabbet("export", "bill", "--group", "checks", code=2)

    def test_bill(self) -> None:
        """It is valid by the official schema, the same twice, and tells who needs whom."""
        self.rabbet("resolve")
        text = self.rabbet("export", "bill").out
        self.assertEqual(text, self.rabbet("export", "bill").out)
        document = json.loads(text)
        self.assertEqual([*validator().iter_errors(document)], [])
        needs = {entry["ref"]: entry["dependsOn"] for entry in document["dependencies"]}
        self.assertIn("pkg:pypi/pollencsv@1.2", needs["project"])
        self.assertIn("pkg:pypi/tallywax@1.2", needs["pkg:pypi/combframe@2.1"])
        locked = {
            (component["name"], component["version"])
            for component in document["components"]
            if component["type"] == "library"
        }
        self.assertEqual(dict(locked), self.locked())

    def test_table(self) -> None:
        """A row for each entry of the lock, in order, with who declares and who needs it."""
        self.rabbet("resolve")
        self.rabbet("export", "table", "--to", "lock.csv")
        text = (self.project / "lock.csv").read_text()
        self.assertEqual(text, self.rabbet("export", "table").out)
        rows = [*csv.DictReader(io.StringIO(text))]
        self.assertEqual({row["library"]: row["version"] for row in rows}, self.locked())
        self.assertEqual([row["library"] for row in rows], sorted(row["library"] for row in rows))
        found = {row["library"]: row for row in rows}
        self.assertEqual(found["pollencsv"]["declared for"], "the project")
        self.assertIn("combframe", found["tallywax"]["needed by"].split("; "))
        self.rabbet("export", "table", "--json", code=2)
        self.rabbet("export", "table", "--group", "checks", code=2)

    def test_what_is_written_is_marked(self) -> None:
        """Written again while nobody edited it, left alone afterwards; drift tells what is stale."""
        self.rabbet("resolve")
        self.rabbet("recreate")
        add_to_declaration(self.project, '[tool.rabbet.system]\ndebian = ["libpq5"]\n')
        for what, name in (("container", "Containerfile"), ("editor", ".devcontainer/devcontainer.json")):
            self.rabbet("export", what)
            before = (self.project / name).read_bytes()
            self.rabbet("export", what)
            self.assertEqual((self.project / name).read_bytes(), before)
            self.rabbet("drift")
            (self.project / name).write_bytes(before + b"\n")
            self.rabbet("export", what, code=7)
            self.rabbet("export", what, "--force")
            self.assertEqual((self.project / name).read_bytes(), before)
        self.assertIn(
            "install --yes --no-install-recommends libpq5", (self.project / "Containerfile").read_text()
        )
        self.rabbet("retract", "waxpress", "--now")
        told = {
            finding["name"]: finding["kind"] for finding in self.rabbet("drift", "--json").json()["findings"]
        }
        self.assertEqual(told, {"Containerfile": "stale", ".devcontainer/devcontainer.json": "stale"})
        self.rabbet("export", "container")
        self.assertNotIn("Containerfile", self.rabbet("drift").out)
        add_to_declaration(self.project, 'fedora = ["x; rm -rf /"]\n')
        self.rabbet("export", "container", code=3)

    @unittest.skipUnless(
        packaged_files(), "buildah, or one of Debian's packages for a base image, is not here"
    )
    def test_container_is_built(self) -> None:
        """Of what was carried alone, by an OCI builder; it runs as nobody, and holds what is locked."""
        (self.project / "season.py").write_text(
            "import pollencsv, os\nprint(pollencsv.__version__, os.getuid())\n"
        )
        self.rabbet("resolve")
        self.rabbet("carry", "--to", "carried")
        self.rabbet("export", "container", "--base", "localhost/apiary", "--command", "python", "season.py")
        folders = ["--root", str(self.root / "images"), "--runroot", str(self.root / "running")]
        builder = ["buildah", *folders, "--storage-driver", "vfs"]

        def build(*arguments: str) -> str:
            done = subprocess.run(
                [*builder, *arguments],
                cwd=self.project,
                capture_output=True,
                text=True,
                check=False,
                env={**os.environ, "BUILDAH_ISOLATION": "chroot"},
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            return done.stdout.strip()

        base = build("from", "scratch")
        system = Path(build("mount", base))
        files = "\n".join(name.lstrip("/") for name in packaged_files())
        packing = subprocess.Popen(
            ["tar", "--create", "--directory=/", "--files-from=-"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )
        unpacking = subprocess.Popen(["tar", "--extract", f"--directory={system}"], stdin=packing.stdout)
        with packing, unpacking:
            assert packing.stdin is not None
            packing.stdin.write(files.encode())
            packing.stdin.close()
        for name in ("tmp", "proc", "dev", "sys", "etc"):
            (system / name).mkdir(exist_ok=True)
        for name in ("bin", "lib", "lib64"):
            if Path(f"/{name}").is_symlink() and not (system / name).exists():
                (system / name).symlink_to(f"usr/{name}")
        build("umount", base)
        build("commit", base, "localhost/apiary")
        build("build", "--file", "Containerfile", "--tag", "localhost/season", ".")
        made = build("from", "localhost/season")
        self.assertEqual(build("run", made, "--", "python", "season.py"), "1.2 10001")
        self.assertFalse((Path(build("mount", made)) / "app" / "carried").exists())
        build("umount", made)
