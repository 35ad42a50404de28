"""What retracting a variant leaves: its lock, its environment. `declare` changes the declaration itself."""

from collections.abc import Iterable, Iterator
from pathlib import Path

from msgspec import Struct

from rabbet.disk.atomic import cannot_write
from rabbet.tasks.recreating.envs import discard
from rabbet.workspace.session import Session

__all__ = ["GoneVariant", "discard_gone", "gone_variants"]


class GoneVariant(Struct, frozen=True, kw_only=True):
    """A variant that is declared no more, and its lock and environment, as far as they are there."""

    name: str
    lock: Path | None
    environment: Path | None

    @property
    def places(self) -> tuple[Path, ...]:
        """All that is left."""
        return tuple(place for place in (self.lock, self.environment) if place is not None)


def gone_variants(session: Session, before: Iterable[str]) -> tuple[GoneVariant, ...]:
    """Those of the variants `before` that left something; an environment that was not made here stays out."""
    return tuple(_left(session, sorted({*before} - {*session.declaration().variants})))


def _left(session: Session, names: Iterable[str]) -> Iterator[GoneVariant]:
    environments = session.machine.environments()
    for name in names:
        project = session.project.of(name)
        found = GoneVariant(
            name=name,
            lock=project.lock_file if project.lock_file.is_file() else None,
            environment=project.environment if environments.owns(project.environment) else None,
        )
        if found.places:
            yield found


def discard_gone(session: Session, gone: GoneVariant) -> None:
    """Remove the lock and the environment. Raises `CannotWrite`, `EnvironmentFailed`."""
    if gone.environment is not None:
        discard(session.machine, str(gone.environment))
    if gone.lock is not None:
        with cannot_write(gone.lock.parent):
            gone.lock.unlink(missing_ok=True)
