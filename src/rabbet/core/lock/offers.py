"""The releases of one library as a person wants to see them: what each is, and whether it could be had."""

from collections.abc import Sequence
from dataclasses import dataclass

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.model.release import Listing, WheelFile
from rabbet.core.model.target import Target
from rabbet.core.solve.candidates import candidates_for
from rabbet.core.solve.masks import ReleaseMasks

__all__ = ["Offer", "offers_of"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """One release.

    `uploaded` is the day of its first wheel, in ISO form; `systems` are those that it has a wheel for (`any`:
    all of them); `refused` says why it can't be used on the target, empty if it can. `allowed` tells whether
    the declaration's own requirements admit it.
    """

    version: Version
    uploaded: str
    python: str
    systems: tuple[str, ...]
    yanked: str | None
    refused: str
    allowed: bool
    locked: bool


def offers_of(
    listing: Listing, target: Target, *, requirements: Sequence[Requirement], locked: Version | None
) -> tuple[Offer, ...]:
    """All releases of a listing, the newest first."""
    found = candidates_for(listing, target)
    masks = ReleaseMasks(found.releases)
    admitted = -1 if requirements else masks.admitted(SpecifierSet())
    for requirement in requirements:
        admitted &= masks.admitted(requirement.specifier)
    allowed = {one.version for position, one in enumerate(found.releases) if admitted >> position & 1}
    refused = {one.version: one.reason for one in found.aside}
    wheels: dict[Version, list[WheelFile]] = {}
    for wheel in listing.wheels:
        wheels.setdefault(wheel.version, []).append(wheel)
    return tuple(
        Offer(
            version=version,
            uploaded=min(wheel.uploaded or "" for wheel in wheels[version])[:10],
            python=next((wheel.requires_python for wheel in wheels[version] if wheel.requires_python), ""),
            systems=tuple(sorted({_system(tag) for wheel in wheels[version] for tag in wheel.tags})),
            yanked=_yanked(wheels[version]),
            refused=refused.get(str(version), ""),
            allowed=version in allowed,
            locked=version == locked,
        )
        for version in sorted(wheels, reverse=True)
    )


def _yanked(wheels: Sequence[WheelFile]) -> str | None:
    """The reason, when all of a release was yanked."""
    return wheels[0].yanked if all(wheel.yanked is not None for wheel in wheels) else None


def _system(tag: str) -> str:
    """The system behind a platform tag, in the words of targets."""
    platform = tag.rpartition("-")[2]
    for beginning, system in (("macosx", "macos"), ("win", "windows"), ("musllinux", "musl")):
        if platform.startswith(beginning):
            return system
    return "linux" if "linux" in platform else platform
