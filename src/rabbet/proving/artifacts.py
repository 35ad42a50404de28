"""Artifacts for libraries that were found installed: from locks that hold them, else from sources."""

from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Artifact, Lock, LockedCheckout, LockedLibrary, LockedWheel
from rabbet.core.model.release import Candidate
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need
from rabbet.core.progress import Observer
from rabbet.core.solve.problem.provider import Policy
from rabbet.python.choosing.select import serving_wheel
from rabbet.python.sources.asking.catalogue import Catalogue
from rabbet.python.sources.asking.locking import locked_artifacts
from rabbet.workspace.fetching.sources import open_sources
from rabbet.workspace.session import Session

__all__ = ["Obtainable", "obtainable"]


class Obtainable(Struct, frozen=True, kw_only=True):
    """Libraries with their artifacts, and the reasons for those without one (`lacking`)."""

    libraries: tuple[LockedLibrary, ...]
    lacking: Mapping[NormalizedName, str]


def obtainable(
    libraries: Iterable[LockedLibrary],
    target: Target,
    locks: Sequence[Lock],
    declaration: Declaration,
    session: Session,
) -> Obtainable:
    """Find a wheel of each library for a target. Raises `SourceFailed`."""
    found = {library.name: _known(library, target, locks, declaration) for library in libraries}
    unknown = [library for library in libraries if found[library.name] is None]
    lacking: dict[NormalizedName, str] = {}
    if unknown:
        session.observer.stage("looking up releases", len(unknown))
        sources = open_sources(session, declaration, always=True)
        with sources.catalogue(declaration, target, Policy()) as catalogue:
            catalogue.expect(
                Need(library.name, specifier=SpecifierSet(f"=={library.version}")) for library in unknown
            )
            listed = dict(_listed(unknown, catalogue, lacking, session.observer))
            artifacts = locked_artifacts(listed.values(), catalogue.routing, catalogue.asking)
        for needed in unknown:
            if needed.name in listed:
                found[needed.name] = replace(needed, artifacts=_wheels(artifacts[needed.name]))
    return Obtainable(libraries=tuple(library for library in found.values() if library), lacking=lacking)


def _known(
    library: LockedLibrary, target: Target, locks: Sequence[Lock], declaration: Declaration
) -> LockedLibrary | None:
    """The library as a lock has it: of this version, or a checkout, whose version is no matter."""
    for candidate in (
        library,
        *(other for lock in locks for other in lock.libraries if other.name == library.name),
    ):
        if isinstance(candidate.tree, LockedCheckout) and candidate.name in declaration.local:
            return candidate
        built = candidate.source is not None and candidate.name in declaration.build_from_source
        if candidate.version == library.version and (built or serving_wheel(candidate, target) is not None):
            return replace(candidate, marker=None)
    return None


def _listed(
    libraries: Iterable[LockedLibrary],
    catalogue: Catalogue,
    lacking: dict[NormalizedName, str],
    observer: Observer,
) -> Iterator[tuple[NormalizedName, Candidate]]:
    """The releases that the sources offer as wheels; why others are not to be had is noted."""
    for library in libraries:
        offered = catalogue.candidates(library.name)
        place = offered.place_of(library.version)
        observer.step(library.name)
        if place < len(offered.releases) and any(file.is_wheel for file in offered.releases[place].files):
            yield library.name, offered.releases[place]
        else:
            reasons = (
                rejected.reason for rejected in offered.rejected if rejected.version == str(library.version)
            )
            reason = "no source lists that release" if offered.known else "no source lists it"
            lacking[library.name] = next(reasons, reason)


def _wheels(artifacts: Iterable[Artifact]) -> tuple[Artifact, ...]:
    return tuple(artifact for artifact in artifacts if isinstance(artifact, LockedWheel))
