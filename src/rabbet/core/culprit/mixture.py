"""Changes between two states, mixtures of them, and bounds that keep a guilty release out.

A mixture is the set of the changes that it takes over from the bad state; in all else it is as the good one.
The empty mixture is the good state, and the one of all changes the bad one.
"""

from collections.abc import Iterator
from typing import Protocol, TypeAlias

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

__all__ = ["Mixing", "Mixture", "StateChange", "bounds_without"]


Mixture: TypeAlias = frozenset[NormalizedName]
"""The names of the changes that are taken over."""


class StateChange(Struct, frozen=True, kw_only=True):
    """A library, or a runtime, that differs: its versions in both states, empty where it is absent.

    Where both are the same, other files of the release are meant.
    """

    name: NormalizedName
    good: str
    bad: str


class Mixing(Protocol):
    """Tells which mixtures are consistent: every requirement in them is met."""

    def least(self, wanted: Mixture, within: Mixture) -> Mixture | None:
        """The smallest consistent mixture within one, with all that is wanted; `None` if there is none."""

    def most(self, unwanted: Mixture, within: Mixture) -> Mixture | None:
        """The largest consistent mixture within one, without what is unwanted; `None` if there is none."""


def bounds_without(change: StateChange) -> Iterator[str]:
    """Specifiers that admit the good release and not the bad one, the widest that is likely to help first.

    What the bad release broke, those beyond it mostly break too, and perhaps some before it: so the first
    bound lies where the two differ most, such as `<2` for 1.25.2 and 2.4.6. The next admits nothing beyond
    the good one, and the last keeps out the bad one alone.
    """
    bad = Version(change.bad)
    if change.good and change.good != change.bad:
        good = Version(change.good)
        if bad < good:
            yield f">={good.public}"
        else:
            series = _behind_series(good, bad)
            if series is not None:
                yield f"<{series}"
            yield f"<={good.public}"
    yield f"!={change.bad}"


def _behind_series(good: Version, bad: Version) -> Version | None:
    """The first release behind the good one's series, if the bad one is not in that."""
    if good.epoch != bad.epoch:
        return None
    length = max(len(good.release), len(bad.release))
    before, after = ([*version.release, *[0] * (length - len(version.release))] for version in (good, bad))
    differing = next((place for place in range(length) if before[place] != after[place]), None)
    if differing is None:
        return None
    epoch = f"{good.epoch}!" if good.epoch else ""
    behind = [*before[:differing], before[differing] + 1]
    return Version(epoch + ".".join(map(str, behind)))
