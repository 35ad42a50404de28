"""Which runtime an unpacked archive holds: its program, the platforms, and the version, by its files.

Names of archives count for nothing. A program that this machine can run is asked elsewhere; what its files
tell serves for all others.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct
from packaging.version import Version

from rabbet.core.limits import MOST_METADATA
from rabbet.core.model.language import PLACEHOLDER, Language, version_of
from rabbet.disk.regular_file import read_regular
from rabbet.runtimes.binary_format import baseline_of, platforms_of, read_program
from rabbet.runtimes.elf import newest_glibc

__all__ = ["Found", "baselines_of", "found_in", "glibc_of", "version_by_files"]

_DEEPEST = 8  # folders above a main program
_PYTHON = re.compile(r"python3(\.[0-9]{1,2})?(\.exe)?\Z")
_PYTHON_FILES: Mapping[str, Sequence[str]] = {
    "include/python3.*/patchlevel.h": ['PY_VERSION "{version}"'],
    "include/patchlevel.h": ['PY_VERSION "{version}"'],
}
_PROGRAM = "{program}"
_VERSION = r"([0-9]+(?:[._][0-9]+)*(?:[-.]?[A-Za-z]+[0-9]*)?(?:\+[0-9]+)?)"


class Found(Struct, frozen=True, kw_only=True):
    """A main program of a language (`None`: Python), and the platforms that it is built for.

    A script has no `platforms`, nor has what is for no target's machine. `prefix` is the folder that the
    runtime was installed into.
    """

    language: Language | None
    program: Path
    prefix: Path
    platforms: tuple[str, ...]
    is_script: bool = False

    @property
    def name(self) -> str:
        """The language's name."""
        return self.language.name if self.language else "python"


def found_in(tree: Path, languages: Mapping[str, Language]) -> list[Found]:
    """The main programs in a folder, those that lie highest first.

    Links count as what they lead to, and each program once.
    """
    names = {language.programs[0]: language for language in languages.values()}
    found: dict[tuple[str, Path], Found] = {}
    for path in sorted(_files(tree, tree), key=lambda found_path: (len(found_path.parts), found_path.name)):
        plain = path.name.removesuffix(".exe")
        language = names.get(plain)
        if language is None and not _PYTHON.match(path.name):
            continue
        program = path.resolve()
        content = read_program(program)
        is_script = content[:2] == b"#!"
        if is_script and (language is None or not language.is_script):
            continue
        prefix = path.parent.parent if path.parent.name == "bin" else path.parent
        program_found = Found(
            language=language,
            program=program,
            prefix=prefix,
            platforms=platforms_of(content),
            is_script=is_script,
        )
        found.setdefault((program_found.name, program), program_found)
    return list(found.values())


def _files(folder: Path, tree: Path) -> Iterator[Path]:
    """The files below a folder that may be programs, links to files included."""
    if len(folder.relative_to(tree).parts) > _DEEPEST:
        return
    for path in sorted(folder.iterdir()):
        if path.is_dir():
            if not path.is_symlink():
                yield from _files(path, tree)
        elif path.is_file():
            yield path


def baselines_of(found: Found, glibc: str) -> dict[str, str]:
    """For each platform the oldest system or C library that serves; `glibc` is what all files ask for."""
    content = read_program(found.program)
    told = {platform: baseline_of(content, platform) for platform in found.platforms}
    return {platform: glibc if word.startswith("glibc=") else word for platform, word in told.items()}


def glibc_of(tree: Path) -> str:
    """The oldest glibc that all files of a folder can do with, such as `glibc=2.31`; empty if none asks."""
    asked = {newest_glibc(read_program(path)) for path in _elf_files(tree)} - {""}
    newest = max(asked, key=lambda text: int(text.partition(".")[2]), default="")
    return f"glibc={newest}" if newest else ""


def _elf_files(tree: Path) -> Iterator[Path]:
    for path in sorted(tree.rglob("*")):
        if path.is_file() and not path.is_symlink():
            with path.open("rb") as file:
                if file.read(4) == b"\x7fELF":
                    yield path


def version_by_files(found: Found) -> Version | None:
    """The version that the files of a runtime tell, by the language's own table; `None` where none does."""
    rules = found.language.files if found.language else _PYTHON_FILES
    for place, texts in rules.items():
        paths = [found.program] if place == _PROGRAM else sorted(found.prefix.glob(place))
        for path in paths:
            content = read_program(path) if place == _PROGRAM else _text(path)
            numbers = [_after(text, content) for text in texts]
            if all(numbers):
                version = version_of(".".join(number for number in numbers if number))
                if version is not None:
                    return version
    return None


def _text(path: Path) -> bytes:
    try:
        return read_regular(path, most=MOST_METADATA)
    except OSError:
        return b""


def _after(text: str, content: bytes) -> str | None:
    """The part of a content that stands for a text's `{version}`; a blank matches any blanks."""
    before, _, after = text.partition(PLACEHOLDER)
    parts = (r"\s+".join(re.escape(word) for word in part.split(" ")) for part in (before, after))
    pattern = _VERSION.join(parts)
    if not before:
        pattern = rf"\A\s*{pattern}"
    found = re.search(pattern.encode(), content)
    return found.group(1).decode() if found else None
