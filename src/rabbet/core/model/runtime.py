"""Runtimes: interpreters that were found, and what one can tell of itself."""

from collections.abc import Mapping

from msgspec import Struct, field
from packaging.specifiers import SpecifierSet
from packaging.version import Version

__all__ = ["LinkedRuntime", "PythonRuntime", "Refusal", "Runtime", "RuntimeArchive", "RuntimeOffer"]


class Runtime(Struct, frozen=True, kw_only=True):
    """A language implementation that was found on this machine.

    `executable` is the absolute path of the program that was asked, behind all links; `distributor` is who
    made it, where it tells so (Python tells its implementation, such as `cpython`).
    """

    language: str
    version: Version
    executable: str
    distributor: str = ""

    def __str__(self) -> str:
        """Name and version as they appear in messages."""
        name = self.language + (f" ({self.distributor})" if self.distributor else "")
        return f"{name} {self.version}"


class PythonRuntime(Runtime, frozen=True, kw_only=True):
    """An interpreter of Python, and what it takes to make environments with it.

    `site_packages` is relative to an environment's folder; `markers` is the environment for dependency
    specifiers (PEP 508) without `extra`; `libc` is the C library (`glibc` or `musl`, on macOS `macos`, else
    empty) and its version; `abi_flags` are the letters behind the version in the ABI tag, such as `t` for a
    free-threaded build; `word_bits` is 32 or 64. `installers` are the names of programs that come with it and
    install libraries.
    """

    site_packages: str
    markers: Mapping[str, str]
    libc: tuple[str, str]
    abi_flags: str
    word_bits: int
    installers: tuple[str, ...] = ()

    def __hash__(self) -> int:
        """Of what tells runtimes apart: the rest follows from it."""
        return hash((self.executable, self.version))

    @property
    def minor(self) -> str:
        """The version's first two numbers, such as `3.11`."""
        return f"{self.version.major}.{self.version.minor}"

    def __str__(self) -> str:
        """Name and version as they appear in messages."""
        kind = "Python" if self.distributor == "cpython" else f"Python ({self.distributor})"
        return f"{kind} {self.version}"


class LinkedRuntime(Struct, frozen=True, kw_only=True):
    """A runtime of another language than Python, as an environment gets it.

    `links` are absolute paths of its programs by their names, `variables` those that these want.
    """

    runtime: Runtime
    links: Mapping[str, str]
    variables: Mapping[str, str]


class RuntimeArchive(Struct, frozen=True, kw_only=True):
    """A file that holds a runtime for one platform, such as `linux-x86_64`.

    `digest` is of the file's content, by an `algorithm` such as `sha256`; `size` is in bytes. `program` is
    the place of the language's main program in it. `baseline` is the oldest C library that it runs with, as
    a declaration writes it, such as `glibc=2.31`; empty where that is not told.

    One whose platform is `source` holds a source tree. Its `steps` are commands that install from there into
    `{prefix}`, with `{jobs}` processes at once; then the `program` lies below that. They need packages of the
    `system`, and some `minutes`, where that is told.
    """

    platform: str
    filename: str
    url: str
    algorithm: str
    digest: str
    program: str
    size: int | None = None
    baseline: str = ""
    steps: tuple[tuple[str, ...], ...] = ()
    system: tuple[str, ...] = ()
    minutes: int = 0

    @property
    def is_source(self) -> bool:
        """Whether it has to be built."""
        return bool(self.steps)


class RuntimeOffer(Struct, frozen=True, kw_only=True):
    """A runtime that could be chosen, and the versions of other languages that it needs.

    `where` is what it would come from: a program of this machine, a lock, or the catalogue that offers its
    `archives`.
    """

    language: str
    version: Version
    where: str
    distributor: str = ""
    needs: Mapping[str, SpecifierSet] = field(default_factory=dict)
    archives: tuple[RuntimeArchive, ...] = ()


class Refusal(Struct, frozen=True, kw_only=True):
    """A program that was found and not taken, and why."""

    executable: str
    reason: str
    language: str = "python"
