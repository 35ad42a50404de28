"""A source's listing → the releases that could be chosen for one target, and why the others could not."""

from collections import defaultdict
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache

from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.release import Candidate, Listing, SetAside, WheelFile
from rabbet.core.model.target import Target

__all__ = ["Candidates", "candidates_for"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Candidates:
    """What could be chosen of one library, oldest first; `known` is false when no source lists it."""

    name: NormalizedName
    releases: tuple[Candidate, ...]
    aside: tuple[SetAside, ...] = ()
    known: bool = True


def candidates_for(listing: Listing, target: Target, *, as_of: datetime | None = None) -> Candidates:
    """Group the wheels by version, keeping those that fit the target, the best-ranked first.

    Releases without a fitting wheel are set aside with the reason; so are wheels that were uploaded after
    `as_of`, or at an unknown time. Where several targets are alike, a release needs a wheel for each.
    """
    by_version: defaultdict[Version, list[WheelFile]] = defaultdict(list)
    for wheel in listing.wheels:
        by_version[wheel.version].append(wheel)
    releases, aside = [], []
    for version in sorted(by_version):
        found = _candidate(listing.name, version, by_version[version], target.each, as_of)
        if isinstance(found, SetAside):
            aside.append(found)
        else:
            releases.append(found)
    return Candidates(name=listing.name, releases=tuple(releases), aside=listing.aside + tuple(aside))


def _candidate(
    name: NormalizedName,
    version: Version,
    wheels: list[WheelFile],
    targets: tuple[Target, ...],
    as_of: datetime | None,
) -> Candidate | SetAside:
    """The release, if it has a wheel for each of the targets."""
    ranked: dict[str, tuple[tuple[int, int], WheelFile]] = {}
    for place, target in enumerate(targets):
        refused, fitting = set(), False
        for wheel in wheels:
            rank = _too_new(wheel, as_of) or _rank(wheel, target)
            if isinstance(rank, str):
                refused.add(rank)
            else:
                fitting = True
                ranked.setdefault(wheel.filename, ((place, rank), wheel))
        if not fitting:
            return SetAside(version=str(version), reason=", ".join(sorted(refused)))
    ordered = _best_first(list(ranked.values()))
    kept = {(wheel.build, wheel.tags): wheel for wheel in reversed(ordered)}
    chosen = tuple(wheel for wheel in ordered if kept[wheel.build, wheel.tags] is wheel)
    doubles = tuple(wheel.filename for wheel in ordered if wheel not in chosen)
    return Candidate(name=name, version=version, wheels=chosen, doubles=doubles)


def _best_first(ranked: list[tuple[tuple[int, int], WheelFile]]) -> tuple[WheelFile, ...]:
    """By rank, then the highest build, then by file name; what was yanked comes behind what was not."""
    ranked.sort(key=lambda pair: pair[1].filename)
    ranked.sort(key=lambda pair: pair[1].build, reverse=True)
    ranked.sort(key=lambda pair: (pair[1].yanked is not None, pair[0]))
    return tuple(wheel for _, wheel in ranked)


def _too_new(wheel: WheelFile, as_of: datetime | None) -> str:
    """Why a wheel does not exist yet at that moment; empty if it does."""
    if as_of is None:
        return ""
    try:
        uploaded = datetime.fromisoformat(wheel.uploaded or "")
    except ValueError:
        return "its source tells no time of upload"
    if uploaded.tzinfo is None:
        uploaded = uploaded.replace(tzinfo=UTC)
    return f"uploaded on {uploaded:%Y-%m-%d}" if uploaded > as_of else ""


def _rank(wheel: WheelFile, target: Target) -> int | str:
    """How well a wheel fits (the smaller the better), or why it does not."""
    ranks = [target.tags[tag] for tag in wheel.tags if tag in target.tags]
    if not ranks:
        return f"no wheel for {target}"
    if wheel.requires_python is not None:
        needed = _specifiers(wheel.requires_python)
        if needed is not None and not needed.contains(target.python, prereleases=True):
            return f"needs Python {wheel.requires_python}"
    return min(ranks)


@lru_cache(maxsize=4096)
def _specifiers(text: str) -> SpecifierSet | None:
    """Parsed once each; `None` for what no one can read, which then refuses nothing (PEP 503)."""
    try:
        return SpecifierSet(text)
    except InvalidSpecifier:
        return None
