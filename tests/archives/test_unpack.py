"""Archives of runtimes: what is unpacked of them, and what is refused."""

import io
import os
import stat
import tarfile
import tempfile
import unittest
import zipfile
from collections.abc import Callable
from pathlib import Path

from rabbet.archives.unpack import MOST_UNPACKED, unpack_archive
from rabbet.errors import IntegrityFailed

Make = Callable[[tarfile.TarFile], None]


def tar(make: Make, mode: str) -> bytes:
    """A packed archive with what `make` adds."""
    content = io.BytesIO()
    with tarfile.open(fileobj=content, mode=f"w:{mode}") as archive:
        make(archive)
    return content.getvalue()


def add(
    archive: tarfile.TarFile, name: str, kind: bytes = tarfile.REGTYPE, link: str = "", mode: int = 0o644
) -> None:
    """Add a member of some kind; a file holds its own name."""
    member = tarfile.TarInfo(name)
    member.type, member.linkname, member.mode = kind, link, mode
    content = name.encode() if kind == tarfile.REGTYPE else b""
    member.size = len(content)
    archive.addfile(member, io.BytesIO(content))


def whole(archive: tarfile.TarFile) -> None:
    """A runtime as it should be."""
    add(archive, "./waggle", tarfile.DIRTYPE)
    add(archive, "waggle/bin/waggle-2", mode=0o755)
    add(archive, "waggle/bin/waggle", tarfile.SYMTYPE, "waggle-2")
    add(archive, "waggle/bin/format", tarfile.LNKTYPE, "waggle/bin/waggle-2")
    add(archive, "waggle/lib/here", tarfile.SYMTYPE, "..")
    add(archive, "waggle/lib/notes.txt", mode=0o4666)


def members(*given: tuple) -> Make:
    """What adds members with these arguments."""
    return lambda archive: [add(archive, *one) for one in given] and None


REFUSED = [
    (members(("../waggle",)), "land outside"),
    (members(("/etc/waggle",)), "land outside"),
    (members(("a/../../waggle",)), "land outside"),
    (members(("x" * 5000,)), "land outside"),
    (members(("a", tarfile.SYMTYPE, "/etc/passwd")), "leads outside"),
    (members(("a/b", tarfile.SYMTYPE, "../../c")), "leads outside"),
    (members(("a/b", tarfile.SYMTYPE, "."), ("a/c", tarfile.SYMTYPE, "b/../..")), "leads outside"),
    (members(("a", tarfile.SYMTYPE, "b"), ("b", tarfile.SYMTYPE, "")), "leads outside"),
    (members(("a", tarfile.LNKTYPE, "/etc/passwd")), "land outside"),
    (members(("a", tarfile.LNKTYPE, "b")), "what is not in it"),
    (members(("a", tarfile.CHRTYPE)), "neither a file, a folder nor a link"),
    (members(("a", tarfile.FIFOTYPE)), "neither a file, a folder nor a link"),
    (members(("a",), ("a",)), "two files of one name"),
    (members(("a",), ("a/b",)), "two files of one name"),
    (members(("a", tarfile.SYMTYPE, "/tmp"), ("a/b",)), "leads outside"),
    (members(("a", tarfile.SYMTYPE, "c"), ("a/b",)), "two files of one name"),
]


class Unpacking(unittest.TestCase):
    """From an archive to a folder."""

    def setUp(self) -> None:
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory())).resolve()
        self.count = 0

    def unpack(self, name: str, content: bytes) -> Path:
        self.count += 1
        holder = self.root / str(self.count)
        holder.mkdir()
        (holder / name).write_bytes(content)
        unpack_archive(holder / name, holder / "tree")
        return holder / "tree"

    def test_whole(self) -> None:
        """Files keep their content and whether they can be run; links lead where they did."""
        zipped = io.BytesIO()
        with zipfile.ZipFile(zipped, "w") as archive:
            for name, mode, content in (
                ("waggle/bin/waggle-2", stat.S_IFREG | 0o755, "waggle/bin/waggle-2"),
                ("waggle/bin/waggle", stat.S_IFLNK | 0o777, "waggle-2"),
                ("waggle/bin/format", stat.S_IFLNK | 0o777, "waggle-2"),
                ("waggle/lib/here", stat.S_IFLNK | 0o777, ".."),
                ("waggle/lib/notes.txt", 0, "waggle/lib/notes.txt"),
            ):
                member = zipfile.ZipInfo(name)
                member.external_attr = mode << 16
                archive.writestr(member, content)
        for name, content in (
            ("w.tar.gz", tar(whole, "gz")),
            ("w.tgz", tar(whole, "gz")),
            ("w.tar.xz", tar(whole, "xz")),
            ("w.zip", zipped.getvalue()),
            ("w.whl", zipped.getvalue()),
        ):
            with self.subTest(name):
                tree = self.unpack(name, content)
                for program in ("waggle", "waggle-2", "format"):
                    path = tree / "waggle" / "bin" / program
                    self.assertEqual(path.read_text(), "waggle/bin/waggle-2")
                    self.assertTrue(os.access(path, os.X_OK))
                self.assertEqual((tree / "waggle" / "lib" / "here").resolve(), tree / "waggle")
                self.assertEqual(stat.S_IMODE((tree / "waggle" / "lib" / "notes.txt").stat().st_mode), 0o444)

    def test_refused(self) -> None:
        """Nothing lands outside, no link leads there, and nothing but files, folders and links is made."""
        for make, reason in REFUSED:
            with self.subTest(reason=reason), self.assertRaises(IntegrityFailed) as raised:
                self.unpack("w.tar.gz", tar(make, "gz"))
            self.assertIn(reason, " ".join([str(raised.exception), *raised.exception.because]))
        self.assertEqual({path.name for path in self.root.iterdir()}, {str(n + 1) for n in range(self.count)})

    def test_broken(self) -> None:
        """An archive that is cut short, none at all, of another kind than its name says."""
        good = tar(whole, "gz")
        for name, content in (
            ("w.tar.gz", good[: len(good) // 2]),
            ("w.tar.gz", b"the bees are asleep"),
            ("w.tar.xz", good),
            ("w.zip", good),
            ("w.rar", good),
        ):
            with self.subTest(name), self.assertRaises(IntegrityFailed):
                self.unpack(name, content)

    def test_bomb(self) -> None:
        """What unpacks to far more than it should is given up on the way, with a bound made small here."""

        def zeros(archive: tarfile.TarFile) -> None:
            member = tarfile.TarInfo("zeros")
            member.size = 50_000_000
            archive.addfile(member, io.BytesIO(bytes(member.size)))

        zipped = io.BytesIO()
        with zipfile.ZipFile(zipped, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("zeros", bytes(50_000_000))
        self.assertGreater(MOST_UNPACKED, 50_000_000)
        for name, content in (("w.tar.gz", tar(zeros, "gz")), ("w.zip", zipped.getvalue())):
            holder = self.root / name
            holder.mkdir()
            (holder / name).write_bytes(content)
            with self.subTest(name), self.assertRaises(IntegrityFailed) as raised:
                unpack_archive(holder / name, holder / "tree", most=1_000_000)
            self.assertIn("more than any archive should", raised.exception.because[0])
