"""What is known of locked and installed releases that rules judge: licence, origin, age."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from rabbet.core.declaration.model import SourceEntry
from rabbet.core.limits import MOST_METADATA
from rabbet.core.model.inventory import Installed
from rabbet.core.model.lock import (
    LockedArchive,
    LockedCheckout,
    LockedCommit,
    LockedFile,
    LockedLibrary,
    LockedSdist,
    is_own_folder,
)
from rabbet.core.moment import is_moment, moment_in
from rabbet.core.rules.judge import Licence, Origin, ReleaseFacts
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import read_regular
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import is_address, parse_address
from rabbet.python.environment.look.foreign import library_folders
from rabbet.python.formats.licence import licence_in
from rabbet.python.sources.asking.release_reader import remembered_metadata
from rabbet.workspace.known_sources import known_sources
from rabbet.workspace.session import Session

__all__ = ["installed_facts", "locked_facts", "moment_of"]


def locked_facts(
    session: Session, libraries: Iterable[LockedLibrary], *, aged: bool
) -> Iterator[ReleaseFacts]:
    """What the lock and the store tell of locked libraries, but for the project itself.

    `aged` ones tell when they were uploaded: where the lock does not note that, it is not known.
    """
    try:
        entries: Sequence[SourceEntry] = known_sources(session.declaration(), session.machine)
    except SourceFailed:
        entries = ()
    sources = dict(_sources(entries, session.project.folder))
    for library in libraries:
        if not is_own_folder(library.tree):
            yield ReleaseFacts(
                name=library.name,
                version=library.version,
                licence=_licence(session, library),
                origin=_origin(library, sources, session.project.folder),
                uploaded=_uploaded(library) if aged else None,
            )


def _sources(entries: Iterable[SourceEntry], folder: Path) -> Iterator[tuple[str, str]]:
    """The name of each source by where it lies."""
    for entry in entries:
        if is_address(entry.url):
            yield parse_address(entry.url).text.rstrip("/"), entry.name
        else:
            yield str(path_named(entry.url, folder)).rstrip("/"), entry.name


def _licence(session: Session, library: LockedLibrary) -> Licence | None:
    """Its licence by the metadata of its files; a checkout is the team's own and is not asked.

    What is known by name and version alone is not judged.
    """
    if isinstance(library.tree, LockedCheckout) or not library.artifacts:
        return None
    found = remembered_metadata(session.machine.metadata, library)
    return next((licence_in(content) for content in found), Licence(None))


def _origin(library: LockedLibrary, sources: Mapping[str, str], folder: Path) -> Origin | None:
    if isinstance(library.tree, LockedCheckout) or not library.artifacts:
        return None
    first = library.artifacts[0]
    return Origin(
        source=_source(library, sources, folder),
        only_source=isinstance(first, LockedSdist),
        address=isinstance(first, LockedArchive),
        commit=isinstance(first, LockedCommit),
        yanked=library.yanked is not None,
    )


def _source(library: LockedLibrary, sources: Mapping[str, str], folder: Path) -> str:
    """The name of the source that a library was locked from; its address where no source has that."""
    if library.index is not None:
        index = library.index.rstrip("/")
        return sources.get(index, index)
    for file in library.files:
        place = str(path_named(file.path, folder)) if file.path else file.url or ""
        near = [where for where in sources if place.startswith(f"{where}/")]
        if near:
            return sources[max(near, key=len)]
    return ""


def _uploaded(library: LockedLibrary) -> tuple[datetime | None, ...] | None:
    files = [artifact for artifact in library.artifacts if isinstance(artifact, LockedFile)]
    return tuple(moment_of(file.uploaded) for file in files) or None


def moment_of(text: str | None) -> datetime | None:
    """A moment in ISO form; `None` where none is told."""
    return moment_in(text) if text and is_moment(text) else None


def installed_facts(root: Path, libraries: Iterable[Installed]) -> Iterator[ReleaseFacts]:
    """What an environment tells of libraries that are there by hand, or in other versions than locked."""
    folders = tuple(library_folders(root))
    for library in libraries:
        by_hand = library.installation
        origin = by_hand.origin if by_hand else ""
        yield ReleaseFacts(
            name=library.name,
            version=library.version,
            licence=_installed_licence(folders, library),
            origin=Origin(address=bool(origin), commit=" at " in origin) if origin else None,
        )


def _installed_licence(folders: Sequence[Path], library: Installed) -> Licence:
    for folder in folders:
        with suppress(OSError, ValueError):
            path = folder / library.folder / "METADATA"
            return licence_in(read_regular(str(path), most=MOST_METADATA))
    return Licence(None)
