"""Which interpreter of this machine a project gets."""

from collections.abc import Sequence

from packaging.version import Version

from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock
from rabbet.core.model.runtime import PythonRuntime, Refusal
from rabbet.core.model.target import Target
from rabbet.core.targets import PLATFORMS, joined, named_target, target_of
from rabbet.errors import WrongUsage
from rabbet.runtimes.choose import choose
from rabbet.runtimes.probe import probe_all
from rabbet.runtimes.search import find_executables
from rabbet.tasks.machine import Machine

__all__ = ["chosen_runtime", "found_runtimes", "targets_for"]


def found_runtimes(machine: Machine) -> tuple[PythonRuntime | Refusal, ...]:
    """Every interpreter on this machine, and what it tells of itself."""
    return probe_all(find_executables(machine.environ, machine.home), machine.store().runtimes)


def chosen_runtime(
    declaration: Declaration, found: Sequence[PythonRuntime | Refusal], lock: Lock | None
) -> PythonRuntime:
    """The one of this machine's interpreters that the project gets; the lock's before others.

    Where the declaration names versions to serve, it is one of these. Raises `NoRuntime`.
    """
    allowed = declaration.python
    if declaration.pythons:
        served = [one for one in found if isinstance(one, Refusal) or one.minor in declaration.pythons]
        others = [one for one in found if not isinstance(one, Refusal) and one not in served]
        refused = [Refusal(executable=one.executable, reason=f"{one} is not served") for one in others]
        found = (*served, *refused)
    return choose(found, allowed, locked=lock.runtime if lock else None)


def targets_for(declaration: Declaration, runtime: PythonRuntime) -> tuple[Target, ...]:
    """The targets that the lock must serve: those that are declared, else this machine with its runtime.

    Raises `WrongUsage` where versions of Python are declared for a platform that has no name.
    """
    own = target_of(runtime)
    if not declaration.targets and not declaration.pythons:
        return (own,)
    if not declaration.targets and own.platform not in PLATFORMS:
        raise WrongUsage(
            f"it is not said for which platforms Python {', '.join(declaration.pythons)} is to be locked",
            because=[
                f"this machine's, {own.platform}, is none that a declaration can name",
                f"known are: {', '.join(PLATFORMS)}",
            ],
            remedy="rabbet declare --target linux-x86_64",
        )
    return joined(
        named_target(platform, python, declaration.baselines)
        for platform in sorted(declaration.targets or (own.platform,))
        for python in sorted(declaration.pythons or (runtime.minor,), key=Version)
    )
