"""An overview of one library's releases: versions, files, and which targets can use each."""

from collections.abc import Collection, Iterable, Iterator, Sequence

from msgspec import Struct
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.model.release import ListedFile, Listing
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.core.solve.problem.provider import Policy
from rabbet.python.choosing.candidates import candidates_for, narrowed

__all__ = ["Offer", "offers_of"]


class Offer(Struct, frozen=True, kw_only=True):
    """One release.

    `uploaded` is the day of its first file, in ISO form; `systems` are those that it has a wheel for (`any`:
    all of them). `baseline` is one, such as `glibc=2.34`, that stands in its way. `serves` are the targets
    that can use it, and `refused` says why the others can't, empty if all can. `allowed` tells whether the
    declaration's own requirements admit it.
    """

    version: Version
    uploaded: str
    python: str
    systems: tuple[str, ...]
    yanked: str | None
    serves: tuple[Target, ...]
    refused: str
    baseline: str
    allowed: bool
    locked: bool


def offers_of(
    listing: Listing,
    targets: Sequence[Target],
    *,
    needs: Sequence[Need],
    locked: Collection[Version],
    policy: Policy,
) -> tuple[Offer, ...]:
    """All releases of a listing, the newest first; what date and rules leave out serves nobody."""
    untils, narrowing = policy.untils(listing.name, listing.source), policy.narrowing
    may_build = listing.name in policy.may_build
    found = {
        target: candidates_for(listing, target, untils=untils, may_build=may_build) for target in targets
    }
    if narrowing is not None:
        found = {target: narrowed(one, narrowing.refusal) for target, one in found.items()}
    allowed = {version for target in targets for version in _allowed(found[target], target, needs)}
    files: dict[Version, list[ListedFile]] = {tree.version: [] for tree in listing.trees}
    for wheels, archives in listing.by_version:
        together = [*wheels, *archives]
        files[together[0].version] = together
    return tuple(
        Offer(
            version=version,
            uploaded=min((file.uploaded or "" for file in files[version]), default="")[:10],
            python=next((file.requires_python for file in files[version] if file.requires_python), ""),
            systems=tuple(sorted(_systems(files[version]))),
            yanked=_yanked(files[version]),
            serves=tuple(
                target for target in targets if any(version == r.version for r in found[target].releases)
            ),
            refused=_refused(version, found.values()),
            baseline=_baseline(version, found.values()),
            allowed=version in allowed,
            locked=version in locked,
        )
        for version in sorted(files, reverse=True)
    )


def _allowed(found: Candidates, target: Target, needs: Sequence[Need]) -> Iterator[Version]:
    """The releases that the requirements which count on a target admit together."""
    masks = found.masks
    counting = [need.specifier for need in needs if target.admits(need.marker)]
    admitted = -1 if counting else masks.admitted(SpecifierSet())
    for specifier in counting:
        admitted &= masks.admitted(specifier)
    return (
        candidate.version for position, candidate in enumerate(found.releases) if admitted >> position & 1
    )


def _refused(version: Version, found: Iterable[Candidates]) -> str:
    reasons = [
        rejected.reason
        for candidates in found
        for rejected in candidates.rejected
        if rejected.version == str(version)
    ]
    return "; ".join(dict.fromkeys(reasons))


def _baseline(version: Version, found: Iterable[Candidates]) -> str:
    """The first baseline that stands in a release's way, if one does."""
    baselines = (
        rejected.baseline
        for candidates in found
        for rejected in candidates.rejected
        if rejected.version == str(version)
    )
    return next(filter(None, baselines), "")


def _yanked(files: Sequence[ListedFile]) -> str | None:
    """The reason, when all of a release was yanked."""
    return files[0].yanked if files and all(file.yanked is not None for file in files) else None


def _systems(files: Iterable[ListedFile]) -> set[str]:
    return {_system(tag) for file in files for tag in file.tags or ()}


def _system(tag: str) -> str:
    """The system behind a platform tag, in the words of targets."""
    platform = tag.rpartition("-")[2]
    for beginning, system in (("macosx", "macos"), ("win", "windows"), ("musllinux", "musl")):
        if platform.startswith(beginning):
            return system
    return "linux" if "linux" in platform else platform
