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
    `as_of`, or at an unknown time.
    """
    fitting: defaultdict[Version, list[tuple[int, WheelFile]]] = defaultdict(list)
    refused: defaultdict[Version, list[str]] = defaultdict(list)
    for wheel in listing.wheels:
        rank = _too_new(wheel, as_of) or _rank(wheel, target)
        if isinstance(rank, str):
            refused[wheel.version].append(rank)
        else:
            fitting[wheel.version].append((rank, wheel))
    releases = tuple(
        Candidate(name=listing.name, version=version, wheels=_best_first(fitting[version]))
        for version in sorted(fitting)
    )
    aside = tuple(
        SetAside(version=str(version), reason=", ".join(sorted(set(reasons))))
        for version, reasons in sorted(refused.items())
        if version not in fitting
    )
    return Candidates(name=listing.name, releases=releases, aside=listing.aside + aside)


def _best_first(ranked: list[tuple[int, WheelFile]]) -> tuple[WheelFile, ...]:
    """By rank, then by file name; a yanked wheel never comes before one that is not."""
    ordered = sorted(ranked, key=lambda pair: (pair[1].yanked is not None, pair[0], pair[1].filename))
    return tuple(wheel for _, wheel in ordered)


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
