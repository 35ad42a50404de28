"""What sources offer: wheels, the releases they make up, and the metadata of one release."""

from dataclasses import dataclass, field

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.wheel_name import WheelName

__all__ = ["Candidate", "Listing", "Metadata", "SetAside", "WheelFile"]


@dataclass(frozen=True, slots=True, kw_only=True)
class WheelFile:
    """One wheel as a source lists it.

    `location` is an absolute URL, or a path for a folder. `size` is in bytes and `sha256` in hexadecimal
    digits; both are `None` until known. `metadata_sha256` is the digest of the metadata file beside the
    wheel (PEP 658), empty when that file is offered without one, `None` when it is not offered.
    `uploaded` is the moment in ISO form (PEP 700).
    `yanked` is the reason given (PEP 592), `None` when the wheel is not yanked.
    """

    filename: str
    name: NormalizedName
    version: Version
    build: tuple[int, str]
    tags: frozenset[str] = field(repr=False)
    location: str
    source: str
    size: int | None = None
    sha256: str | None = None
    requires_python: str | None = None
    metadata_sha256: str | None = None
    uploaded: str | None = None
    yanked: str | None = None

    @classmethod
    def named(cls, parts: WheelName, filename: str, location: str, source: str) -> "WheelFile":
        """A wheel of which no more is known than its name and place."""
        return cls(filename=filename, **parts._asdict(), location=location, source=source)


@dataclass(frozen=True, slots=True, kw_only=True)
class SetAside:
    """A release that can't be chosen, and why."""

    version: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Listing:
    """All wheels that one source lists for one library, and what it lists that can't be used."""

    name: NormalizedName
    source: str
    wheels: tuple[WheelFile, ...]
    aside: tuple[SetAside, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Candidate:
    """One release that could be chosen; its wheels that fit the target, the best first.

    `doubles` are files left out because another one has the same version, build and tags.
    """

    name: NormalizedName
    version: Version
    wheels: tuple[WheelFile, ...]
    doubles: tuple[str, ...] = ()

    @property
    def yanked(self) -> bool:
        """Whether every wheel that fits was yanked (PEP 592)."""
        return all(wheel.yanked is not None for wheel in self.wheels)

    def __str__(self) -> str:
        """Name and version."""
        return f"{self.name} {self.version}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Metadata:
    """What a wheel's core metadata says of its needs."""

    name: NormalizedName
    version: Version
    requires_python: SpecifierSet
    requirements: tuple[Requirement, ...]
    extras: frozenset[str]
