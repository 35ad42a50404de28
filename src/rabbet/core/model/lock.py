"""The lock: what was resolved, exactly (PEP 751)."""

from collections.abc import Iterable, Mapping
from typing import TypeAlias, final

from msgspec import Struct, field
from msgspec.structs import astuple, replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Section
from rabbet.core.model.build import BuildKind, BuildOptions, Told
from rabbet.core.model.runtime import RuntimeArchive
from rabbet.core.model.target import Target

__all__ = [
    "OWN_FOLDER",
    "UNTOLD",
    "Artifact",
    "BuildSource",
    "Lock",
    "LockedArchive",
    "LockedBuild",
    "LockedCheckout",
    "LockedCommit",
    "LockedFile",
    "LockedLibrary",
    "LockedRuntime",
    "LockedSdist",
    "LockedWheel",
    "Needed",
    "Selection",
    "ToInstall",
    "Unbuilt",
    "is_own_folder",
    "kind_built_from",
    "runtime_name",
]


class LockedFile(Struct, frozen=True, kw_only=True):
    """A file that was locked: either `url` or `path` says where it is; `size` is in bytes.

    The moment when it was `uploaded` (ISO form) is noted where a rule on the age of releases counts.
    """

    filename: str
    sha256: str
    size: int | None = None
    url: str | None = None
    path: str | None = None
    uploaded: str | None = None

    @property
    def installable(self) -> bool:
        """Whether it is a wheel, which needs no build."""
        return self.filename.endswith(".whl")


@final
class LockedWheel(LockedFile, frozen=True, kw_only=True):
    """A wheel that a source lists."""


@final
class LockedSdist(LockedFile, frozen=True, kw_only=True):
    """A source archive that a source lists."""


@final
class LockedArchive(LockedFile, frozen=True, kw_only=True):
    """A wheel or source archive from an address that the declaration names."""


@final
class LockedCommit(Struct, frozen=True, kw_only=True):
    """A commit of a repository: its full id, what was asked for, and where in it the library lies."""

    url: str
    commit: str
    requested: str | None = None
    subdirectory: str | None = None


@final
class LockedCheckout(Struct, frozen=True, kw_only=True):
    """A folder of this machine that holds the library's sources; relative to the lock where it can be.

    One that is `editable` is used where it lies. Of another a wheel is built, and rebuilt after each change.
    """

    path: str
    editable: bool = True


OWN_FOLDER = "."
"""The path of the project itself, among checkouts: it stands in for its own releases."""

Artifact: TypeAlias = LockedWheel | LockedSdist | LockedArchive | LockedCommit | LockedCheckout
"""What a locked library is installed or built from."""

BuildSource: TypeAlias = LockedSdist | LockedArchive | LockedCommit | LockedCheckout
"""What a library can be built from."""


def kind_built_from(source: BuildSource) -> BuildKind:
    """The kind of build result: a wheel, or an editable one."""
    return "editable" if isinstance(source, LockedCheckout) and source.editable else "wheel"


def is_own_folder(artifact: Artifact | None) -> bool:
    """Whether something is the project itself."""
    return isinstance(artifact, LockedCheckout) and artifact.path == OWN_FOLDER


class _Sealed(Struct, frozen=True, kw_only=True):
    """Something with the seal that was read with it, which makes no difference between two of them."""

    seal: str | None = None

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and _unsealed(other) == _unsealed(self)

    def __hash__(self) -> int:
        return hash(_unsealed(self))


def _unsealed(value: _Sealed) -> tuple[object, ...]:
    return astuple(replace(value, seal=None))


class LockedLibrary(_Sealed, frozen=True, kw_only=True):
    """One library at one version, with the names it depends on and the marker under which it is needed.

    Its `artifacts` are the wheels of a source and perhaps its source archive, behind them; or a single one of
    another kind. `yanked` is the reason, perhaps an empty one, that its source gave for withdrawing it. The
    `seal` is the one that was read with it.
    """

    name: NormalizedName
    version: Version
    artifacts: tuple[Artifact, ...] = ()
    dependencies: tuple[NormalizedName, ...] = ()
    requires_python: str | None = None
    marker: str | None = None
    index: str | None = None
    yanked: str | None = None

    @property
    def files(self) -> tuple[LockedWheel | LockedSdist | LockedArchive, ...]:
        """Those of its artifacts that are files."""
        return tuple(artifact for artifact in self.artifacts if isinstance(artifact, LockedFile))

    @property
    def wheels(self) -> tuple[LockedWheel | LockedArchive, ...]:
        """Those that can be installed as they are."""
        able = (artifact for artifact in self.artifacts if isinstance(artifact, LockedWheel | LockedArchive))
        return tuple(wheel for wheel in able if wheel.installable)

    @property
    def source(self) -> BuildSource | None:
        """The source that it can be built from; `None` if there is none."""
        able = (artifact for artifact in self.artifacts if not isinstance(artifact, LockedWheel))
        return next(
            (
                artifact
                for artifact in able
                if not isinstance(artifact, LockedArchive) or not artifact.installable
            ),
            None,
        )

    @property
    def tree(self) -> LockedCommit | LockedCheckout | None:
        """The sources that it is built from, where no archive holds them."""
        return next(
            (artifact for artifact in self.artifacts if isinstance(artifact, LockedCommit | LockedCheckout)),
            None,
        )


class LockedBuild(Struct, frozen=True, kw_only=True):
    """The locked requirements of one library's build, or of the project's own.

    The `requires` are what its source tree and its back end ask for, `libraries` what was chosen for that.
    The `version` is that of the library. It is `None` for the project's `own` build, which is among those of
    its libraries: its version may change at any time, and it may not be `editable`. The `options` are those
    that the declaration gave to it, but for the needs, which are among the `requires`.
    """

    name: NormalizedName
    version: Version | None
    requires: tuple[str, ...]
    libraries: tuple[LockedLibrary, ...]
    own: bool = False
    editable: bool = True
    options: BuildOptions = field(default_factory=BuildOptions)


class LockedRuntime(Struct, frozen=True, kw_only=True):
    """A runtime that the lock was made with or for; the `distributor` is empty where any will do.

    `catalogue` offers its `archives`, one for each platform; both are empty if none does. Addresses in the
    project's folder are relative to it. The `needs` are versions of other languages, where no table tells
    them.
    """

    language: str
    version: Version
    distributor: str = ""
    catalogue: str = ""
    archives: tuple[RuntimeArchive, ...] = ()
    needs: Mapping[str, SpecifierSet] = field(default_factory=dict)


def runtime_name(language: str) -> NormalizedName:
    """The key of a runtime among names of libraries, which cannot collide with one."""
    return NormalizedName(f"runtime {language}")


class Selection(Struct, frozen=True):
    """The sections of a project that are installed beside the project's own libraries."""

    groups: frozenset[str] = frozenset()
    extras: frozenset[str] = frozenset()

    def holds(self, section: Section) -> bool:
        """Whether a section is among them."""
        return section.name in (self.groups if section.kind == "group" else self.extras)


class Needed(Struct, frozen=True, kw_only=True):
    """A library that this machine needs, and the wheel that serves it best.

    Of one that was built on this machine, `build` is what it was built from, and how.
    """

    locked: LockedLibrary
    artifact: LockedWheel | LockedArchive
    build: "Unbuilt | None" = None


class Unbuilt(Struct, frozen=True, kw_only=True):
    """A library, or the `own` project, that this machine needs and has to build from its `source`.

    Its build happens in an `environment` of other libraries, with `options` that the lock holds. The
    `digest` is of all that it follows from; it is empty until that was looked at.
    """

    locked: LockedLibrary
    source: BuildSource
    environment: "tuple[ToInstall, ...]"
    own: bool = False
    digest: str = ""
    options: BuildOptions = field(default_factory=BuildOptions)

    @property
    def kind(self) -> BuildKind:
        """The kind of build result."""
        return kind_built_from(self.source)

    @property
    def local(self) -> bool:
        """Whether its sources are being worked on, so that its version may change at any time."""
        return isinstance(self.source, LockedCheckout)

    @property
    def what(self) -> str:
        """Its name in messages."""
        return self.locked.name if self.local else f"{self.locked.name} {self.locked.version}"


UNTOLD = Version("0+untold")
"""Stands for the version of a project that only its build tells."""

ToInstall: TypeAlias = Needed | Unbuilt
"""What a machine needs of a lock: wheels, and what has to be built first."""


class Lock(_Sealed, frozen=True, kw_only=True):
    """Everything in `pylock.toml` that Rabbet reads or writes.

    `pins` are the libraries that the declaration itself pins to one version, `also_known` those that more
    than one source knows. `limits`, `without` and `corrections` tell which of the declaration's it was made
    under, `rules` holds the digests of shared files of rules. The `builds` are those of libraries without a
    wheel, and of the project, of which its build `told` what the declaration leaves to it. Targets that have
    no solution, though the declaration's range of Python allows them, are `left_out`, each with the reason.
    The `seal` is the one that was read with it.
    """

    requires_python: str | None
    environments: tuple[str, ...]
    groups: tuple[str, ...]
    libraries: tuple[LockedLibrary, ...]
    fingerprint: str | None
    runtimes: tuple[LockedRuntime, ...] = ()
    pins: tuple[str, ...] = ()
    also_known: tuple[str, ...] = ()
    extras: tuple[str, ...] = ()
    limits: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    corrections: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()
    rules: tuple[str, ...] = ()
    builds: tuple[LockedBuild, ...] = ()
    told: Told | None = None

    def is_for(self, targets: Iterable[Target]) -> bool:
        """Whether it was made for these targets, and for no others."""
        known = {target.environment: f"{target}: " for target in targets}
        left = {
            environment
            for environment, text in known.items()
            if any(reason.startswith(text) for reason in self.left_out)
        }
        return known.keys() - left == {*self.environments}

    @property
    def everything(self) -> Selection:
        """All sections."""
        return Selection(frozenset(self.groups), frozenset(self.extras))

    @property
    def python(self) -> LockedRuntime | None:
        """The Python that the lock was made with, if it says so."""
        return next((runtime for runtime in self.runtimes if runtime.language == "python"), None)

    @property
    def own_build(self) -> LockedBuild | None:
        """The project's own build; `None` if it has none."""
        return next((build for build in self.builds if build.own), None)

    def build_of(self, library: LockedLibrary) -> LockedBuild | None:
        """The locked build of a library; a checkout's version may have changed since."""
        local = isinstance(library.tree, LockedCheckout)
        alike = (build for build in self.builds if build.name == library.name and not build.own)
        return next((build for build in alike if local or build.version == library.version), None)

    @property
    def versions(self) -> Mapping[NormalizedName, Version]:
        """The locked version of each library; of several for different targets, the highest."""
        return {library.name: library.version for library in self.libraries}
