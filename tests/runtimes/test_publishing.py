"""What programs and archives tell of themselves: platforms, baselines, versions, places of libraries."""

import shutil
import struct
import subprocess
import tempfile
import unittest
from pathlib import Path

from rabbet.archives.unpack import unpack_archive
from rabbet.python.choosing.targets import PLATFORMS
from rabbet.runtimes.binary_format import architecture_of, baseline_of, platforms_of
from rabbet.runtimes.contents import baselines_of, found_in, glibc_of, version_by_files
from rabbet.runtimes.elf import newest_glibc, read_elf
from rabbet.runtimes.publish import obstacles, pack
from rabbet.workspace.runtimes.languages import known_languages


def elf(
    machine: int = 62, interpreter: str = "/lib64/ld-linux-x86-64.so.2", needed: str = "libc.so.6"
) -> bytes:
    """A made-up program of 64 bits; its interpreter and the library that it needs may be none."""
    texts = b"\0" + interpreter.encode() + b"\0" + needed.encode() + b"\0"
    headers = 64 + 56 * 3
    at_dynamic, at_texts = headers, headers + 48
    segments = [
        struct.pack("<IIQQQQQQ", 1, 4, 0, 0, 0, at_texts + len(texts), at_texts + len(texts), 1),
        struct.pack("<IIQQQQQQ", 2 if needed else 0, 4, at_dynamic, at_dynamic, 0, 48, 48, 8),
        struct.pack("<IIQQQQQQ", 3 if interpreter else 0, 4, at_texts + 1, 0, 0, len(interpreter) + 1, 0, 1),
    ]
    dynamic = struct.pack("<qQqQqQ", 5, at_texts, 1, len(interpreter) + 2, 0, 0)
    head = b"\x7fELF\x02\x01\x01" + bytes(9) + struct.pack("<HHIQQQ", 3, machine, 1, 0, 64, 0)
    head += struct.pack("<IHHHHHH", 0, 64, 56, 3, 0, 0, 0)
    return head + b"".join(segments) + dynamic + texts


def mach_o(machine: int = 0x0100000C, oldest: int = 0x000C0000) -> bytes:
    """A made-up program of macOS that asks for a version of the system."""
    command = struct.pack("<IIIIII", 0x32, 24, 1, oldest, 0, 0)
    return struct.pack("<IIIIIIII", 0xFEEDFACF, machine, 0, 2, 1, len(command), 0, 0) + command


def fat() -> bytes:
    """Two programs of macOS in one file."""
    parts = [(0x01000007, mach_o(0x01000007, 0x000A0F00)), (0x0100000C, mach_o())]
    head, place, body = struct.pack(">II", 0xCAFEBABE, 2), 8 + 40, b""
    for machine, part in parts:
        head += struct.pack(">IIIII", machine, 0, place + len(body), len(part), 0)
        body += part
    return head + body


PE = b"MZ" + bytes(58) + struct.pack("<I", 64) + b"PE\0\0" + struct.pack("<H", 0x8664)
LINUX = ("linux-x86_64", "linux-x86_64-musl")
# about, content, platforms, baselines
PROGRAMS = [
    ("glibc", elf(), LINUX[:1], [""]),
    ("glibc that asks", elf() + b"GLIBC_2.4\0GLIBC_2.31\0GLIBC_2.9\0", LINUX[:1], ["glibc=2.31"]),
    ("musl", elf(interpreter="/lib/ld-musl-x86_64.so.1"), LINUX[1:], [""]),
    ("static", elf(interpreter="", needed=""), LINUX, ["", ""]),
    ("another machine", elf(183), ("linux-aarch64",), [""]),
    ("no target's machine", elf(243), (), []),
    ("macOS", mach_o(), ("macos-arm64",), ["macos=12.0"]),
    ("two in one", fat(), ("macos-x86_64", "macos-arm64"), ["macos=10.15", "macos=12.0"]),
    ("Windows", PE, ("windows-x86_64",), [""]),
    ("a script", b"#!/bin/sh\n", (), []),
    ("nothing", b"", (), []),
    ("a Java class", bytes.fromhex("cafebabe00000034") + bytes(80), (), []),
]


class Programs(unittest.TestCase):
    """By made-up files of each form, by those of this machine, and by broken ones."""

    def setUp(self) -> None:
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory())).resolve()

    def test_forms(self) -> None:
        for about, content, platforms, baselines in PROGRAMS:
            with self.subTest(about):
                self.assertEqual(platforms_of(content), platforms)
                self.assertEqual([baseline_of(content, platform) for platform in platforms], baselines)
                self.assertTrue({*platforms} <= {*PLATFORMS})

    def test_broken(self) -> None:
        """Whatever is cut off or overwritten, nothing but an answer comes of it."""
        for content in (elf(), mach_o(), fat(), PE):
            for end in range(len(content)):
                platforms_of(content[:end])
                for byte in (0, 0x7F, 0xFF):
                    changed = content[:end] + bytes([byte]) + content[end + 1 :]
                    for platform in platforms_of(changed):
                        baseline_of(changed, platform)

    def test_real(self) -> None:
        """A real program tells what the system's own tools tell of it."""
        program = Path("/bin/sh").resolve()
        read = read_elf(program.read_bytes())
        self.assertIn("libc.so.6", read.needed)
        self.assertIn(f"linux-{architecture_of(program)}", platforms_of(program.read_bytes()))
        self.assertRegex(newest_glibc(program.read_bytes()), r"2\.[0-9]+")

    def program(self, place: str, content: bytes = b"") -> Path:
        path = self.root / place
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content or elf())
        path.chmod(0o755)
        return path

    def test_versions(self) -> None:
        """For each language, the files of a runtime that can't be run here tell its version."""
        node = "".join(
            f"#define NODE_{name}_VERSION {number}\n"
            for name, number in (("MAJOR", 22), ("MINOR", 3), ("PATCH", 1))
        )
        lua = "".join(
            f'#define LUA_VERSION_{name}\t"{number}"\n'
            for name, number in (("MAJOR", 5), ("MINOR", 4), ("RELEASE", 6))
        )
        for program, place, text, language, version in (
            (
                "x/bin/python3.12",
                "x/include/python3.12/patchlevel.h",
                '#define PY_VERSION  "3.12.4"',
                "python",
                "3.12.4",
            ),
            ("x/python.exe", "x/include/patchlevel.h", '#define PY_VERSION "3.13.0rc1"', None, None),
            ("n/bin/node", "n/include/node/node_version.h", node, "node", "22.3.1"),
            ("n/bin/node", "n/README", "v99.1", "node", None),
            (
                "j/Contents/Home/bin/java",
                "j/Contents/Home/release",
                'JAVA_VERSION="17.0.15"\n',
                "java",
                "17.0.15",
            ),
            ("go/bin/go", "go/VERSION", "go1.22.5\ntime 2024-07-02\n", "go", "1.22.5"),
            ("lua/bin/lua", "lua/include/lua.h", lua, "lua", "5.4.6"),
            (
                "r/bin/ruby",
                "r/lib/ruby/3.3.0/x86_64-linux/rbconfig.rb",
                '  CONFIG["RUBY_PROGRAM_VERSION"] = "3.3.4"\n',
                "ruby",
                "3.3.4",
            ),
        ):
            with self.subTest(program, place=place):
                shutil.rmtree(self.root)
                self.program(program, elf(183))
                self.program(place, text.encode())
                found = found_in(self.root, known_languages())
                self.assertEqual([program.name for program in found], [language] if language else [])
                if found:
                    told = version_by_files(found[0])
                    self.assertEqual(str(told) if told else None, version)
        self.program("n/bin/node", elf(183) + b"https://a.example/download/release/v24.1.0/node.tar.gz")
        (found,) = (program for program in found_in(self.root, known_languages()) if program.name == "node")
        self.assertEqual(str(version_by_files(found)), "24.1.0")

    def test_found(self) -> None:
        """What lies highest comes first; a launcher that is a script is no runtime of a compiled language."""
        self.program("a/deep/down/bin/node")
        self.program("b/bin/node")
        self.program("b/bin/python3.12")
        (self.root / "b" / "bin" / "python3").symlink_to("python3.12")
        self.program("bin/node", b"#!/bin/sh\n")
        self.program("bin/erl", b"#!/bin/sh\n")
        found = found_in(self.root, known_languages())
        told = [(program.name, program.program.relative_to(self.root).as_posix()) for program in found]
        self.assertEqual(
            told,
            [
                ("erlang", "bin/erl"),
                ("node", "b/bin/node"),
                ("python", "b/bin/python3.12"),
                ("node", "a/deep/down/bin/node"),
            ],
        )
        self.program("b/lib/more.so", elf() + b"GLIBC_2.38\0")
        self.program("b/bin/node", elf() + b"GLIBC_2.17\0")
        node = next(program for program in found_in(self.root, known_languages()) if program.name == "node")
        self.assertEqual(baselines_of(node, glibc_of(self.root)), {"linux-x86_64": "glibc=2.38"})


class Packing(unittest.TestCase):
    """A program that was linked for one folder runs from another."""

    @unittest.skipUnless(shutil.which("gcc"), "no C compiler is here")
    def test_run_paths(self) -> None:
        """Where it looks for its library by the folder's path, it looks from where it lies afterwards."""
        root = Path(self.enterContext(tempfile.TemporaryDirectory())).resolve()
        prefix = root / "a-place-with-a-long-name"
        for name in ("bin", "lib"):
            (prefix / name).mkdir(parents=True)
        (root / "wax.c").write_text("int wax(void) { return 7; }\n")
        (root / "comb.c").write_text("int wax(void);\nint main(void) { return wax(); }\n")
        library = prefix / "lib" / "libwax.so"
        subprocess.run(["gcc", "-shared", "-fPIC", "-o", library, root / "wax.c"], check=True)
        link = [f"-L{prefix}/lib", "-lwax", f"-Wl,-rpath,{prefix}/lib"]
        subprocess.run(["gcc", "-o", prefix / "bin" / "comb", root / "comb.c", *link], check=True)
        self.assertEqual(list(obstacles(prefix)), [])
        first = pack(prefix, root / "one.tar.gz")
        self.assertEqual(pack(prefix, root / "two.tar.gz"), first)
        shutil.rmtree(prefix)
        unpack_archive(root / "one.tar.gz", root / "elsewhere")
        done = subprocess.run([root / "elsewhere" / "bin" / "comb"], check=False)
        self.assertEqual(done.returncode, 7)
