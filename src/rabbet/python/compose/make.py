"""Locked wheels → an environment, the one way for projects, trials and builds."""

from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager

from rabbet.core.model.lock import Needed
from rabbet.python.compose.changes import EnvironmentSpec, fill
from rabbet.python.compose.fetch import ArtifactFetcher
from rabbet.python.compose.wheels import InstallPolicy, prepared_wheels
from rabbet.python.environment.put.install import InstallPlan, PlannedFile

__all__ = ["make", "wheels_for"]


@contextmanager
def wheels_for(
    spec: EnvironmentSpec,
    wheels: Sequence[Needed],
    fetcher: ArtifactFetcher,
    policy: InstallPolicy,
    *,
    compile_later: bool = False,
) -> Iterator[Iterator[tuple[Needed, InstallPlan]]]:
    """Wheels as they become ready to be put into the environment; without an error all are put there.

    Then the store notes that its files were linked. Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    ready = prepared_wheels(wheels, spec.root, spec.runtime, fetcher, policy, compile_later=compile_later)
    with closing(ready):
        yield ready
    fetcher.store.note_linked((wheel.artifact for wheel in wheels), spec.runtime)


def make(
    spec: EnvironmentSpec, wheels: Sequence[Needed], fetcher: ArtifactFetcher, policy: InstallPolicy
) -> list[PlannedFile]:
    """Fill an empty folder with an environment of these wheels. Raises as `wheels_for` does."""
    with wheels_for(spec, wheels, fetcher, policy) as ready:
        return fill(spec.root, spec, ready)
