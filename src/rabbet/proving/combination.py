"""One combination of an interpreter, libraries and other runtimes, and the environment that is made of it."""

from contextlib import closing
from pathlib import Path
from typing import NamedTuple

from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, Needed, ToInstall, Unbuilt, runtime_name
from rabbet.core.model.runtime import LinkedRuntime, PythonRuntime
from rabbet.core.needs.names import library_name
from rabbet.python.builds.identity import identified
from rabbet.python.choosing.select import needed, own_project
from rabbet.python.choosing.targets import target_of
from rabbet.python.compose.changes import EnvironmentSpec
from rabbet.python.compose.wheels import prepared_wheels
from rabbet.runtimes.linking import linked_runtime
from rabbet.trials.compose import Made, compose, lead_to_modules
from rabbet.workspace.fetching.composing import fetcher_for, install_policy_of
from rabbet.workspace.runtimes.choice import runtimes_here
from rabbet.workspace.session import Session

__all__ = [
    "Combination",
    "bring",
    "combination_of",
    "compose_combination",
    "content_of",
    "installable",
    "linked_runtimes",
    "own_build",
]


class Combination(NamedTuple):
    """What one environment is made of: an interpreter, libraries, and runtimes of other languages."""

    python: PythonRuntime
    libraries: tuple[ToInstall, ...]
    others: tuple[LinkedRuntime, ...] = ()

    @property
    def content(self) -> tuple[object, ...]:
        """What tells it from others."""
        return (
            self.python.executable,
            str(self.python.version),
            sorted((str(linked.runtime), linked.runtime.executable) for linked in self.others),
            sorted((library.locked.name, content_of(library)) for library in self.libraries),
        )


def installable(
    lock: Lock, declaration: Declaration, python: PythonRuntime, session: Session
) -> dict[NormalizedName, ToInstall]:
    """The libraries that this machine would install of a lock, by name, without the project itself.

    Raises `EnvironmentFailed` where the lock does not serve this interpreter.
    """
    wanted = needed(lock, target_of(python), lock.everything, declaration)
    own = library_name(session.declaration().name)
    found = (identified(library, python, session.project.folder) for library in wanted)
    return {library.locked.name: library for library in found if library.locked.name != own}


def own_build(
    lock: Lock, declaration: Declaration, python: PythonRuntime, session: Session
) -> Unbuilt | None:
    """The project itself, where it has a build."""
    own = own_project(lock, target_of(python), declaration)
    known = identified(own, python, session.project.folder) if own else None
    return known if isinstance(known, Unbuilt) else None


def linked_runtimes(
    declaration: Declaration, lock: Lock, python: PythonRuntime, session: Session
) -> dict[NormalizedName, LinkedRuntime]:
    """The runtimes of other languages that this machine has for a lock. Raises `NoSolution`."""
    others = runtimes_here(declaration, session, python, lock.runtimes)
    return {
        runtime_name(language): linked_runtime(runtime, others.languages[language])
        for language, runtime in others.chosen.items()
    }


def combination_of(
    lock: Lock, declaration: Declaration, python: PythonRuntime, session: Session
) -> Combination:
    """What this machine makes of a lock with an interpreter. Raises `EnvironmentFailed`, `NoSolution`."""
    libraries = installable(lock, declaration, python, session)
    own = own_build(lock, declaration, python, session)
    others = linked_runtimes(declaration, lock, python, session)
    return Combination(
        python,
        (*(libraries[name] for name in sorted(libraries)), *([own] if own else ())),
        tuple(others[name] for name in sorted(others)),
    )


def content_of(item: ToInstall) -> str:
    """A digest of what is installed of a library."""
    return item.artifact.sha256 if isinstance(item, Needed) else item.digest


def compose_combination(
    combination: Combination, root: Path, session: Session, *, share: bool = True
) -> Made:
    """Fill an empty folder with a combination; files are shared with the store if they may be.

    What wheels say of their needs is not compared with locks, for not all of these are Rabbet's. Raises as
    `compose` does.
    """
    spec = EnvironmentSpec(
        root=root,
        runtime=combination.python,
        environments=session.machine.environments(),
        share_files=share and session.machine.shares_files(),
        others=combination.others,
    )
    policy = install_policy_of(session.project, own_lock=False)
    made = compose(combination.libraries, spec, policy, session)
    if not any(isinstance(library, Unbuilt) and library.own for library in combination.libraries):
        lead_to_modules(spec, session.project.folder)
    return made


def bring(combination: Combination, session: Session) -> None:
    """Put into the store what a combination will be made of. Raises as `compose` does."""
    runtime, fetcher = combination.python, fetcher_for(session.silent())
    wheels = [library for library in combination.libraries if isinstance(library, Needed)]
    policy = install_policy_of(session.project, own_lock=False)
    ready = prepared_wheels(wheels, session.project.folder, runtime, fetcher, policy)
    with closing(ready):
        for _ in ready:
            pass
