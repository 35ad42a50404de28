"""Which of the interpreters that were found a project gets, and why not the others."""

from collections.abc import Sequence

from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.model.lock import LockedRuntime
from rabbet.core.model.runtime import PythonRuntime, Refusal, Runtime
from rabbet.core.needs.wording import specifiers_text
from rabbet.errors import NoRuntime

__all__ = ["choose", "newest_first", "no_runtime"]


def newest_first(found: Sequence[PythonRuntime | Refusal]) -> list[PythonRuntime]:
    """The interpreters that work: ordinary builds of CPython first, no pre-releases, then by version.

    Among equals the one that was found first comes first.
    """
    working = [runtime for runtime in found if isinstance(runtime, PythonRuntime)]
    return sorted(working, key=_rank, reverse=True)


def choose(
    found: Sequence[PythonRuntime | Refusal], allowed: SpecifierSet, *, locked: LockedRuntime | None = None
) -> PythonRuntime:
    """The best interpreter that the constraint allows; one like that of the lock before all others.

    Raises `NoRuntime` with every interpreter that was found and why it was refused.
    """
    fitting = [runtime for runtime in newest_first(found) if allowed.contains(runtime.version)]
    if not fitting:
        raise no_runtime("python", allowed, found)
    if locked is not None:
        like_lock = sorted(fitting, key=lambda runtime: _likeness(runtime, locked), reverse=True)
        if _likeness(like_lock[0], locked) > 0:
            return like_lock[0]
    return fitting[0]


def no_runtime(
    language: str, allowed: SpecifierSet, found: Sequence[Runtime | Refusal], *, distributor: str = ""
) -> NoRuntime:
    """The failure where nothing that was found of a language is allowed, with what was found and why not."""
    wanted = f"{language}{specifiers_text(allowed)}" + (f" of {distributor}" if distributor else "")
    return NoRuntime(
        f"no runtime on this machine is {wanted}",
        because=[_refusal(runtime, wanted) for runtime in found] or [f"no {language} was found at all"],
        note="install one, or declare another constraint",
        remedy="" if distributor else _nearest(found),
    )


def _nearest(found: Sequence[Runtime | Refusal]) -> str:
    """The command that declares the newest runtime that this machine has of a language, if it has one."""
    working = [runtime for runtime in found if isinstance(runtime, Runtime)]
    pythons = newest_first([runtime for runtime in working if isinstance(runtime, PythonRuntime)])
    newest = pythons[0] if pythons else max(working, key=lambda runtime: runtime.version, default=None)
    if newest is None:
        return ""
    line = ".".join(map(str, newest.version.release[:2]))
    return f"rabbet declare --runtime '{newest.language}>={line}'"


def _rank(runtime: PythonRuntime) -> tuple[bool, bool, bool, Version]:
    ordinary = runtime.abi_flags in ("", "m")
    return runtime.distributor == "cpython", ordinary, not runtime.version.is_prerelease, runtime.version


def _likeness(runtime: PythonRuntime, locked: LockedRuntime) -> int:
    """2: the very version, 1: the same two first numbers, 0: neither."""
    if runtime.distributor != locked.distributor:
        return 0
    if runtime.version == locked.version:
        return 2
    return int(runtime.version.release[:2] == locked.version.release[:2])


def _refusal(runtime: Runtime | Refusal, wanted: str) -> str:
    if isinstance(runtime, Refusal):
        return f"{runtime.executable}: {runtime.reason}"
    return f"{runtime.executable}: {runtime} is not {wanted}"
