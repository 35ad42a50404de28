"""Runtimes: interpreters that were found, and what one can tell of itself."""

from collections.abc import Mapping
from dataclasses import dataclass

from packaging.version import Version

__all__ = ["PythonRuntime", "Refusal"]


@dataclass(frozen=True, slots=True, kw_only=True)
class PythonRuntime:
    """An interpreter and the facts it reported of itself.

    `executable` is an absolute path; `site_packages` is relative to an environment's folder; `markers` is
    the environment for dependency specifiers (PEP 508) without `extra`; `libc` is the C library (`glibc` or
    `musl`, on macOS `macos`, else empty) and its version; `abi_flags` are the letters behind the version in
    the ABI tag, such as `t` for a free-threaded build; `word_bits` is 32 or 64.
    """

    executable: str
    site_packages: str
    version: Version
    implementation: str
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
        kind = "Python" if self.implementation == "cpython" else f"Python ({self.implementation})"
        return f"{kind} {self.version}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Refusal:
    """An interpreter that was found and not taken, and why."""

    executable: str
    reason: str
