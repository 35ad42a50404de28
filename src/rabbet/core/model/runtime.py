"""Runtimes: interpreters that were found, and what one can tell of itself."""

from collections.abc import Mapping
from dataclasses import dataclass

from packaging.version import Version

__all__ = ["PythonRuntime", "Refusal", "Runtime"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Runtime:
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


@dataclass(frozen=True, slots=True, kw_only=True)
class PythonRuntime(Runtime):
    """An interpreter of Python, and what it takes to make environments with it.

    `site_packages` is relative to an environment's folder; `markers` is the environment for dependency
    specifiers (PEP 508) without `extra`; `libc` is the C library (`glibc` or `musl`, on macOS `macos`, else
    empty) and its version; `abi_flags` are the letters behind the version in the ABI tag, such as `t` for a
    free-threaded build; `word_bits` is 32 or 64.
    """

    site_packages: str
    markers: Mapping[str, str]
    libc: tuple[str, str]
    abi_flags: str
    word_bits: int

    @property
    def minor(self) -> str:
        """The version's first two numbers, such as `3.11`."""
        return f"{self.version.major}.{self.version.minor}"

    def __str__(self) -> str:
        """Name and version as they appear in messages."""
        kind = "Python" if self.distributor == "cpython" else f"Python ({self.distributor})"
        return f"{kind} {self.version}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Refusal:
    """A program that was found and not taken, and why."""

    executable: str
    reason: str
    language: str = "python"
