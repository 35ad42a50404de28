"""The operating system's packages: which distribution this is, and what its own database has installed.

Nothing is installed, and only rpm's database is asked through its program: the others are texts.
"""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.disk.regular_file import read_regular
from rabbet.work.ask import NoAnswer, ask

__all__ = ["System", "lacking_packages", "this_system"]

_LINE = re.compile(r"""^([A-Z_]+)=["']?([^"'\n]*)""", re.MULTILINE)
_VERSIONED = re.compile(r"\s*\(.*?\)|[<>=~].*")


class System(NamedTuple):
    """A system as it is called, such as `Debian GNU/Linux 12`, and the distributions that it is like."""

    title: str
    like: tuple[str, ...]

    def distribution(self, known: Iterable[str]) -> str | None:
        """The first of the `known` distributions that it is, or is made from."""
        return next((name for name in self.like if name in {*known}), None)


def this_system(root: Path = Path("/")) -> System:
    """What `os-release` below a root tells (the freedesktop.org specification); other systems by name."""
    for place in ("etc/os-release", "usr/lib/os-release"):
        text = _text(root / place)
        if text is not None:
            told = dict(_LINE.findall(text))
            like = dict.fromkeys([told.get("ID", ""), *told.get("ID_LIKE", "").split()])
            title = told.get("PRETTY_NAME") or told.get("NAME") or told.get("ID") or "an unknown Linux"
            return System(title, tuple(filter(None, like)))
    import platform

    return System(platform.system() or "an unknown system", ())


def lacking_packages(
    distribution: str, names: Iterable[str], environ: Mapping[str, str], root: Path = Path("/")
) -> tuple[str, ...] | None:
    """Which of these packages are not installed; `None` where the system's database can't be read.

    A package that provides another one's name stands for it.
    """
    wanted = list(dict.fromkeys(names))
    if distribution == "fedora":
        return _lacking_of_rpm(wanted, environ)
    place, provided = _DATABASES[distribution]
    text = _text(root / place)
    if text is None:
        return None
    installed = set(provided(text))
    return tuple(name for name in wanted if name not in installed)


def _of_dpkg(text: str) -> Iterator[str]:
    """The names that installed packages have and provide, for the architecture that dpkg itself is of."""
    entries = [_fields(entry, ":") for entry in text.split("\n\n")]
    own = next((entry["Architecture"] for entry in entries if entry.get("Package") == "dpkg"), "")
    for entry in entries:
        there = entry.get("Status", "").split()[2:] == ["installed"]
        if there and entry.get("Architecture") in (own, "all"):
            yield entry.get("Package", "")
            yield from _names(entry.get("Provides", "").split(","))


def _of_apk(text: str) -> Iterator[str]:
    for entry in text.split("\n\n"):
        fields = _fields(entry, ":")
        if "P" in fields:
            yield fields["P"]
            yield from _names(fields.get("p", "").split())


def _fields(entry: str, separator: str) -> dict[str, str]:
    """The fields of a paragraph; lines that go on from the one above are left out."""
    lines = (line.partition(separator) for line in entry.splitlines() if line[:1].strip())
    return {name: value.strip() for name, _, value in lines}


def _names(texts: Iterable[str]) -> Iterator[str]:
    return filter(None, (_VERSIONED.sub("", text).strip() for text in texts))


_DATABASES: Mapping[str, tuple[str, Callable[[str], Iterator[str]]]] = {
    "debian": ("var/lib/dpkg/status", _of_dpkg),
    "alpine": ("lib/apk/db/installed", _of_apk),
}


def _lacking_of_rpm(wanted: list[str], environ: Mapping[str, str]) -> tuple[str, ...] | None:
    """Ask rpm for each name: it ends with 0 where a package has or provides it, and 1 where none does."""
    lacking = []
    for name in wanted:
        try:
            answer = ask(["rpm", "--query", "--whatprovides", "--", name], environ)
        except NoAnswer:
            return None
        if answer.code and answer.err:
            return None  # it could not look
        if answer.code:
            lacking.append(name)
    return tuple(lacking)


def _text(path: Path) -> str | None:
    try:
        return read_regular(path, most=MOST_TEXT_FILE).decode("utf-8", "replace")
    except OSError:
        return None
