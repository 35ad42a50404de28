"""Which interpreter of this machine a project gets, and what became of the one it got."""

import os
import sys
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from msgspec.structs import replace
from packaging.version import Version

from rabbet.core.declaration.model import Declaration, allows_minor
from rabbet.core.model.cause import InterpreterChanged, Reason, ReasonWith
from rabbet.core.model.lock import Lock, LockedRuntime
from rabbet.core.model.runtime import PythonRuntime, Refusal
from rabbet.core.model.target import Target
from rabbet.errors import NoRuntime, WrongUsage
from rabbet.python.choosing.targets import MINORS, PLATFORMS, joined, named_target, target_of
from rabbet.python.environment.place.layout import interpreter_in
from rabbet.runtimes.choose import choose, newest_first
from rabbet.runtimes.probe import probe_all, standard_modules
from rabbet.runtimes.search import interpreter_behind
from rabbet.work.ask import NoAnswer
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.runtimes.obtained_here import obtained_runtimes
from rabbet.workspace.session import Session

__all__ = [
    "chosen_runtime",
    "declared_minors",
    "found_pythons",
    "interpreter_trouble",
    "own_target",
    "pythons_of",
    "standard_modules_of",
    "targets_for",
    "targets_of_lock",
]


def found_pythons(machine: Machine, project: Project | None = None) -> tuple[PythonRuntime | Refusal, ...]:
    """Every Python interpreter on this machine, with the facts that it reports.

    Of those that were obtained, the ones that count for the project; its environment's wherever it lies.
    """
    obtained = (runtime for runtime in obtained_runtimes(machine, project) if runtime.language == "python")
    executables = [
        *machine.pythons,
        *(Path(runtime.executable) for runtime in obtained),
    ]
    if project and machine.environments().owns(project.environment):
        behind = interpreter_behind(project.environment, machine.home)
        executables += [behind] if behind and behind not in executables else []
    return probe_all(executables, machine.memory("runtimes"), machine.helpers_environ())


def pythons_of(session: Session) -> tuple[PythonRuntime | Refusal, ...]:
    """Every Python interpreter that a project may use, with the facts that it reports."""
    return found_pythons(session.machine, session.project)


def chosen_runtime(
    declaration: Declaration,
    found: Sequence[PythonRuntime | Refusal],
    lock: Lock | None,
    *,
    like: Version | None = None,
) -> PythonRuntime:
    """The one of this machine's interpreters that the project gets; the lock's before others.

    Without a lock it is one `like` the given version, if there is any. Where the declaration names versions
    to serve, it is one of these. Raises `NoRuntime`.
    """
    allowed = declaration.python
    if declaration.pythons:
        served = [
            runtime
            for runtime in found
            if isinstance(runtime, Refusal) or runtime.minor in declaration.pythons
        ]
        others = [runtime for runtime in found if not isinstance(runtime, Refusal) and runtime not in served]
        if all(isinstance(runtime, Refusal) for runtime in served):
            raise _none_served(declaration, others)
        refused = [Refusal(executable=other.executable, reason=f"{other} is not served") for other in others]
        found = (*served, *refused)
    locked = lock.python if lock else None
    if lock is None and like is not None:
        locked = LockedRuntime(language="python", version=like, distributor="cpython")
    return choose(found, allowed, locked=locked)


def _none_served(declaration: Declaration, others: Sequence[PythonRuntime]) -> NoRuntime:
    """The failure where none of the versions to serve is on this machine."""
    pythons = ", ".join(declaration.pythons)
    able = [runtime for runtime in newest_first(others) if declaration.python.contains(runtime.version)]
    return NoRuntime(
        f"none of the versions of Python that are to be served is on this machine: {pythons}",
        because=[f"{other.executable}: {other}" for other in others] or ["no interpreter was found at all"],
        note="install one of these versions, and Rabbet uses it"
        + ("; what follows serves one that is here as well:" if able else ""),
        remedy=f"rabbet declare --python {able[0].minor} && rabbet resolve" if able else "",
    )


def own_target(machine: Machine) -> Target:
    """The platform that this Rabbet runs on. Raises `NoRuntime`."""
    found = probe_all([Path(sys.executable).resolve()], machine.store.runtimes, machine.helpers_environ())[0]
    if not isinstance(found, PythonRuntime):
        raise NoRuntime("the Python that runs Rabbet does not answer", because=[found.reason])
    return target_of(found)


# Modules of Python that newer versions lack: code for older ones may import them.
_GONE = {"asynchat", "asyncore", "distutils", "imp", "smtpd"}


def standard_modules_of(executable: Path, machine: Machine) -> frozenset[str]:
    """The modules that come with an interpreter, and those that came with older ones. Raises `NoRuntime`."""
    try:
        told = standard_modules(executable, machine.memory("runtimes"), machine.helpers_environ())
    except NoAnswer as error:
        raise NoRuntime(
            f"{executable} does not tell its modules", because=[str(error)], remedy="rabbet runtimes"
        ) from error
    return told | _GONE


def targets_for(declaration: Declaration, runtime: PythonRuntime) -> tuple[Target, ...]:
    """The targets to lock for: the declared platforms, else this machine's, with each version of Python.

    These are the declared `pythons`, else all that `requires-python` allows, this machine's first and then
    from the newest down; without a range, or with an unusual build, it is this machine's alone.
    Raises `WrongUsage` where versions of Python are declared for a platform that has no name.
    """
    own = target_of(runtime)
    if not declaration.targets and not declaration.pythons:
        usual = (runtime.distributor, runtime.abi_flags, runtime.word_bits) == ("cpython", "", 64)
        return (own, *(_beside(own, declaration) if usual else ()))
    if not declaration.targets and own.platform not in PLATFORMS:
        raise WrongUsage(
            f"it is not said for which platforms Python {', '.join(declaration.pythons)} is to be locked",
            because=[
                f"this machine's, {own.platform}, is not one that a declaration can name",
                f"known are: {', '.join(PLATFORMS)}",
            ],
            remedy="rabbet declare --target linux-x86_64",
        )
    return joined(
        named_target(platform, python, declaration.baselines)
        for platform in sorted(declaration.targets or (own.platform,))
        for python in declared_minors(declaration, runtime.minor)
    )


def declared_minors(declaration: Declaration, here: str) -> tuple[str, ...]:
    """The versions of Python to lock for, such as `3.12`, in the order in which they are settled."""
    if declaration.pythons:
        return tuple(sorted(declaration.pythons, key=Version))
    if not declaration.python:
        return (here,)
    others = (minor for minor in MINORS if minor != here and allows_minor(declaration.python, minor))
    return (here, *sorted(others, key=Version, reverse=True))


def _beside(own: Target, declaration: Declaration) -> Iterator[Target]:
    """The machine's platform with the other versions of Python that the declaration allows."""
    if own.platform in PLATFORMS:
        library, version = own.libc
        for minor in declared_minors(declaration, own.minor)[1:]:
            yield replace(named_target(own.platform, minor, {library: version}), named=False)


def targets_of_lock(lock: Lock, baselines: Mapping[str, str], session: Session) -> list[Target]:
    """The targets that a lock names, with systems of these baselines; this machine's, where it names none.

    Raises `NoRuntime` where this machine would be it, and has no interpreter for it.
    """
    from rabbet.python.choosing.serving import places_of  # here: resolving looks at no lock's places

    places = sorted(set(places_of(lock).values()), key=lambda place: (place[0], Version(place[1])))
    if places:
        return [named_target(platform, minor, baselines) for platform, minor in places]
    return [target_of(chosen_runtime(session.declaration(), pythons_of(session), lock))]


def interpreter_trouble(
    root: Path, found: Sequence[PythonRuntime | Refusal]
) -> ReasonWith | InterpreterChanged | None:
    """Whether the interpreter that an environment was made from is gone, or another one now.

    `found` are this machine's interpreters and what they tell of themselves: an environment's own link is
    only followed to see which of them it leads to. Raises `EnvironmentFailed` where there is no environment.
    """
    # Here: resolving looks at no environment.
    from rabbet.python.environment.place.configuration import read_configuration

    known = read_configuration(root).python
    link = interpreter_in(root)
    if not link.exists():
        return ReasonWith(
            Reason.INTERPRETER_GONE, str(link.readlink()) if link.is_symlink() else "bin/python"
        )
    real = os.path.realpath(link)
    interpreter = next((runtime for runtime in found if runtime.executable == real), None)
    if interpreter is None or not link.is_symlink():
        return ReasonWith(Reason.INTERPRETER_UNKNOWN, real)
    if isinstance(interpreter, Refusal):
        return ReasonWith(Reason.INTERPRETER_REFUSED, f"{interpreter.executable}: {interpreter.reason}")
    if interpreter.version != known:
        return InterpreterChanged(executable=interpreter.executable, before=known, now=interpreter.version)
    return None
