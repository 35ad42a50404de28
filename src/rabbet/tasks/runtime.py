"""Which interpreter of this machine a project gets."""

from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock
from rabbet.core.model.runtime import PythonRuntime, Refusal
from rabbet.runtimes.choose import choose
from rabbet.runtimes.probe import probe_all
from rabbet.runtimes.search import find_executables
from rabbet.tasks.machine import Machine

__all__ = ["chosen_runtime", "found_runtimes"]


def found_runtimes(machine: Machine) -> tuple[PythonRuntime | Refusal, ...]:
    """Every interpreter on this machine, and what it tells of itself."""
    return probe_all(find_executables(machine.environ, machine.home), machine.store().runtimes)


def chosen_runtime(declaration: Declaration, machine: Machine, lock: Lock | None) -> PythonRuntime:
    """The interpreter of this machine that the project gets; the lock's before others. Raises `NoRuntime`."""
    return choose(found_runtimes(machine), declaration.python, locked=lock.runtime if lock else None)
