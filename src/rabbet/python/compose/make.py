"""Locked wheels and a site → an environment, the one way for projects, trials and builds."""

from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager

from rabbet.core.model.lock import Needed
from rabbet.python.compose.changes import Site, fill
from rabbet.python.compose.fetch import Supply
from rabbet.python.compose.wheels import Intent, prepared_wheels
from rabbet.python.environment.put.install import Placed, Prepared

__all__ = ["make", "wheels_for"]


@contextmanager
def wheels_for(
    site: Site, wheels: Sequence[Needed], supply: Supply, intent: Intent, *, compile_later: bool = False
) -> Iterator[Iterator[tuple[Needed, Prepared]]]:
    """Wheels as they become ready to be put where the site is; without an error all are put there.

    Then the store notes that its files were linked. Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    ready = prepared_wheels(wheels, site.root, site.runtime, supply, intent, compile_later=compile_later)
    with closing(ready):
        yield ready
    supply.store.note_linked((wheel.artifact for wheel in wheels), site.runtime)


def make(site: Site, wheels: Sequence[Needed], supply: Supply, intent: Intent) -> list[Placed]:
    """Fill an empty folder with an environment of these wheels. Raises as `wheels_for` does."""
    with wheels_for(site, wheels, supply, intent) as ready:
        return fill(site.root, site, ready)
