"""One combination of an interpreter, libraries and other runtimes, and the environment that is made of it."""

from contextlib import closing
from pathlib import Path
from typing import NamedTuple

from rabbet.core.model.lock import Needed, ToInstall, Unbuilt
from rabbet.core.model.runtime import LinkedRuntime, PythonRuntime
from rabbet.python.compose.changes import EnvironmentSpec
from rabbet.python.compose.wheels import prepared_wheels
from rabbet.trials.compose import Made, compose, lead_to_modules
from rabbet.workspace.fetching.composing import fetcher_for, install_policy_of
from rabbet.workspace.session import Session

__all__ = ["Combination", "bring", "compose_combination", "content_of"]


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
