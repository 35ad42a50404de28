"""Putting together what a lock needs, for a machine without network; and taking it from there."""

import sys
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.archives.pack import ENDINGS, pack_folder
from rabbet.archives.unpack import unpack_archive
from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, LockedFile, LockedLibrary, LockedRuntime, Needed, ToInstall
from rabbet.core.model.options import RecreateOptions, ResolveOptions
from rabbet.core.model.runtime import PythonRuntime, RuntimeArchive, RuntimeOffer
from rabbet.core.model.target import Target
from rabbet.core.progress import Observer
from rabbet.disk.atomic import cannot_write
from rabbet.disk.guarded import GuardedFolder
from rabbet.errors import IntegrityFailed, NoSolution, SourceFailed, WrongUsage
from rabbet.exports.built_wheels import Built, to_build, write_built
from rabbet.exports.carried import (
    MANIFEST,
    PackedFile,
    Parcel,
    Written,
    archive_name,
    read_manifest,
    write_parcel,
)
from rabbet.exports.own_wheels import own_needs, own_wheels
from rabbet.formats.runtime_catalogue import catalogue_text, with_offer
from rabbet.net.local_file import read_pieces
from rabbet.python.builds.building import known_wheel
from rabbet.python.builds.identity import facts_of
from rabbet.python.choosing.file_name import parse_wheel_name
from rabbet.python.choosing.select import libraries_for, needed, own_project, serving_wheel
from rabbet.python.choosing.targets import named_target, target_of
from rabbet.python.compose.fetch import LockedContents
from rabbet.python.formats.built_wheels import BuiltWheel
from rabbet.resolving.request import ResolveRequest
from rabbet.resolving.resolve_targets import resolve_targets
from rabbet.store.trees import is_sound
from rabbet.work.pools import as_finished
from rabbet.workspace.fetching.composing import fetcher_for
from rabbet.workspace.fetching.sources import open_sources
from rabbet.workspace.looking.comparison import question
from rabbet.workspace.runtimes.obtaining import RuntimeCatalogues
from rabbet.workspace.runtimes.pythons import (
    chosen_runtime,
    found_pythons,
    own_target,
    pythons_of,
    targets_of_lock,
)
from rabbet.workspace.session import Session

__all__ = ["Carried", "CarriedBuilds", "carry", "carry_built", "take_carried"]

_THREADS = 8
_OLDEST = Version("3.11")  # that Rabbet itself runs with
# Whatever the other machine's system is: every wheel that could serve the platform comes along.
_NEWEST = {"glibc": "2.60", "macos": "30.0", "musl": "1.9"}


class Carried(Struct, frozen=True, kw_only=True):
    """The files written, and where; the files left behind, and why.

    `rabbet_for` tells for whom Rabbet itself is there, `python` a version that can run it. It holds archives
    `with_runtimes`, or none.
    """

    place: Path
    written: Written
    targets: tuple[str, ...]
    rabbet_for: str
    python: str
    notes: tuple[str, ...]
    with_runtimes: bool = False


def carry(session: Session, to: Path, platforms: Sequence[str] = ()) -> Carried:
    """Put everything that the lock needs for its targets, or those of some `platforms`, into a folder.

    If the place ends like an archive, it is packed into one. Raises `NoLock`, `WrongUsage`, `SourceFailed`,
    `IntegrityFailed`, `EnvironmentFailed`, `CannotWrite`.
    """
    lock, declaration = session.lock(), session.declaration()
    targets = _chosen(targets_of_lock(lock, _NEWEST, session), platforms)
    with tempfile.TemporaryDirectory(prefix="rabbet-carry-") as name:
        scratch = Path(name)
        found = _Collected(lock, declaration, targets)
        distributions = _fetched(found.files, session)
        runtimes, catalogue = _runtimes(lock, targets, scratch, session)
        rabbet = _rabbet(targets, scratch, session)
        parcel = Parcel(
            project=declaration.name,
            lock=session.project.lock_stamp(),
            targets=tuple(dict.fromkeys(map(str, targets))),
            distributions=tuple(distributions),
            pythons=found.pythons,
            rabbet=tuple(rabbet.wheels),
            runtimes=tuple(runtimes),
            catalogue=catalogue,
        )
        session.observer.stage("writing", len(distributions) + len(runtimes) + len(rabbet.wheels))
        with session.machine.store.claimed(f"carried {to}"):
            written = _written(parcel, to, session.project.folder, scratch, session.observer)
    return Carried(
        place=to,
        written=written,
        targets=parcel.targets,
        rabbet_for=rabbet.served,
        python=rabbet.python,
        notes=(*found.notes, *_not_carried(lock, targets)),
        with_runtimes=bool(runtimes),
    )


class CarriedBuilds(Struct, frozen=True, kw_only=True):
    """The wheels that are there now for this lock, how many of them are `new`, and what was not built yet.

    `others` counts the wheels of other locks, runtimes and platforms that the folder holds too.
    """

    place: Path
    wheels: tuple[BuiltWheel, ...]
    new: int
    others: int
    not_built: tuple[str, ...]


def carry_built(session: Session, to: Path) -> CarriedBuilds:
    """Put the wheels that this machine built for the lock into a folder, beside those that it holds already.

    Checkouts and the project itself are not carried: their sources change. Raises `NoLock`,
    `NotUnderstood`, `NoRuntime`, `IntegrityFailed`, `CannotWrite`.
    """
    asked = question(session, RecreateOptions(everything=True))
    found: list[Built] = []
    not_built: set[str] = set()
    for unbuilt in to_build(asked.needed):
        known = known_wheel(unbuilt, session.machine.store)
        if known is None:
            not_built.add(unbuilt.what)
        else:
            found.append(Built(known, facts_of(unbuilt, asked.runtime, session.project.folder)))
    session.observer.stage("writing", len(found))
    packed = to.name.endswith(ENDINGS)
    with tempfile.TemporaryDirectory(prefix="rabbet-carry-") as scratch:
        place = Path(scratch) / "folder" if packed else to
        with session.machine.store.claimed(f"built {to}"), cannot_write(place):
            with GuardedFolder.at(place, below=session.project.folder) as folder:
                new, others = write_built(found, folder, session.machine.store, session.observer)
            if packed:
                pack_folder(place, to, below=session.project.folder)
    return CarriedBuilds(
        place=to,
        wheels=tuple(built.wheel for built in found),
        new=new,
        others=others,
        not_built=tuple(sorted(not_built)),
    )


class _Rabbet(NamedTuple):
    """Rabbet with what it needs, for whom that is, and a version of Python that can run it."""

    wheels: Sequence[PackedFile]
    served: str
    python: str


def _rabbet(targets: Sequence[Target], scratch: Path, session: Session) -> _Rabbet:
    """Rabbet with what it needs: for all targets where the sources offer that.

    Else what is installed here, which serves this platform and the Python that Rabbet runs with. Raises
    `EnvironmentFailed`, `CannotWrite`.
    """
    able = [target for target in targets if target.python >= _OLDEST]
    try:
        files = [file for target in able for file in _own_files(target, session)]
    except (NoSolution, SourceFailed):
        able = []
    with cannot_write(scratch):
        made = own_wheels(scratch, alone=bool(able))
        own = [PackedFile.of(name, path) for name, path in made]
    if not able:
        python = f"{sys.version_info[0]}.{sys.version_info[1]}"
        return _Rabbet(own, f"Python {python} on this platform", python)
    unique = list({file.sha256: file for file in files}.values())
    found = _fetched(unique, session)
    return _Rabbet(sorted({*own, *found}), ", ".join(dict.fromkeys(map(str, able))), able[0].minor)


def _own_files(target: Target, session: Session) -> Iterator[LockedFile]:
    """The wheels of what Rabbet needs on a target. Raises `NoSolution`, `SourceFailed`."""
    session.observer.stage(f"looking for what Rabbet needs on {target}")
    declared = session.declaration()
    declaration = Declaration(
        name="rabbet-itself",
        python=SpecifierSet(f">={_OLDEST}"),
        needs=own_needs(),
        groups={},
        sources=declared.sources,
    )
    usual = named_target(target.platform, target.minor, declared.baselines)
    request = ResolveRequest(
        declaration=declaration,
        variant=None,
        sources=open_sources(session.silent(), declaration, always=True),
        runtime=next(
            python for python in found_pythons(session.machine) if isinstance(python, PythonRuntime)
        ),
        targets=(usual,),
        earlier=(),
        written=False,
    )
    for library in resolve_targets(request, ResolveOptions()).lock.libraries:
        wheel = serving_wheel(library, usual)
        if wheel is not None:
            yield wheel


def _written(parcel: Parcel, to: Path, project: Path, scratch: Path, observer: Observer) -> Written:
    """Write the folder, or the archive of one; in a project's folder no link is followed."""
    packed = to.name.endswith(ENDINGS)
    place = scratch / "folder" if packed else to
    with cannot_write(place), GuardedFolder.at(place, below=project) as folder:
        written = write_parcel(parcel, folder, observer.step)
    if packed:
        observer.stage("packing")
        pack_folder(place, to, below=project)
    return written


def _chosen(targets: Sequence[Target], platforms: Sequence[str]) -> list[Target]:
    """Those on some platforms, or all. Raises `WrongUsage` for a platform that the lock does not serve."""
    known = sorted({target.platform for target in targets})
    for platform in platforms:
        if platform not in known:
            raise WrongUsage(
                f"the lock serves no target on {platform}",
                because=[f"it serves: {', '.join(known)}"],
                remedy=f"rabbet declare --target {platform} && rabbet resolve",
            )
    return [target for target in targets if not platforms or target.platform in platforms]


class _Collected:
    """The files that targets need, each once; what is no file is noted."""

    def __init__(self, lock: Lock, declaration: Declaration, targets: Sequence[Target]) -> None:
        self.files: list[LockedFile] = []
        self.pythons: dict[str, str] = {}
        self.notes: dict[str, None] = {}
        self._seen: set[str] = set()
        for target in targets:
            for library in libraries_for(lock, target, lock.everything):
                self._add_wheels(library, target)
            own = own_project(lock, target, declaration)
            for item in (*needed(lock, target, lock.everything, declaration), *([own] if own else [])):
                self._add(item, target)

    def _add(self, item: ToInstall, target: Target) -> None:
        """Libraries to build are carried with all their build requirements."""
        if isinstance(item, Needed):
            self._add_wheels(item.locked, target)
            return
        if isinstance(item.source, LockedFile):
            self._add_file(item.source, item.locked)
        elif not item.own:
            self.notes[f"{item.what} is a checkout or a repository, not a file: it is not carried"] = None
        for part in item.environment:
            self._add(part, target)

    def _add_wheels(self, library: LockedLibrary, target: Target) -> None:
        for wheel in library.wheels:
            if any(tag in target.tags for tag in parse_wheel_name(wheel.filename).tags or ()):
                self._add_file(wheel, library)

    def _add_file(self, file: LockedFile, library: LockedLibrary) -> None:
        if file.sha256 not in self._seen:
            self._seen.add(file.sha256)
            self.files.append(file)
            if library.requires_python:
                self.pythons[file.filename] = library.requires_python


def _fetched(wanted: Sequence[LockedFile], session: Session) -> list[PackedFile]:
    """The files in the store, fetched where it lacks them, several at once."""
    fetcher = fetcher_for(session)
    contents, store = LockedContents(fetcher), fetcher.store
    missing = [file for file in wanted if not store.has(file)]
    session.observer.stage("fetching", len(missing), size=sum(file.size or 0 for file in missing))

    def get(file: LockedFile) -> PackedFile:
        path = contents.taken(file, partial(store.fetched, file))
        return PackedFile(file.filename, path, file.sha256)

    pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="fetch")
    try:
        found = []
        for job in as_finished([pool.submit(get, file) for file in wanted]):
            found.append(job.result())
            session.observer.step(found[-1].name)
        return sorted(found)
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _not_carried(lock: Lock, targets: Sequence[Target]) -> Iterator[str]:
    """Which runtimes of other languages the other machine must have by itself."""
    platforms = {target.platform for target in targets}
    for runtime in lock.runtimes:
        without = sorted(platforms - {archive.platform for archive in runtime.archives})
        if without and runtime.language != "python":
            runtime_text = f"{runtime.language} {runtime.version}"
            yield f"{runtime_text} has no archive in the lock for {', '.join(without)}: install it there"


def _runtimes(
    lock: Lock,
    targets: Sequence[Target],
    scratch: Path,
    session: Session,
) -> tuple[list[PackedFile], str]:
    """The archives of locked runtimes for these targets, and a catalogue that offers them."""
    platforms = {target.platform for target in targets}
    if not any(runtime.archives for runtime in lock.runtimes):
        return [], ""
    shelf = RuntimeCatalogues(session.project, session.machine)
    found: dict[str, PackedFile] = {}
    offers: list[RuntimeOffer] = []
    for runtime in lock.runtimes:
        for archive in runtime.archives:
            if archive.platform in platforms:
                name = archive_name(archive)
                if name not in found:  # several platforms may share one
                    told = f"fetching {runtime.language} {runtime.version}"
                    session.observer.stage(told, 1, size=archive.size or 0)
                    shelf.fetch_archive(archive, scratch / name, session.observer)
                    found[name] = PackedFile.of(name, scratch / name)
                offers = with_offer(offers, _offer(runtime, replace(archive, url=name)))
    return sorted(found.values()), catalogue_text(offers) if offers else ""


def _offer(runtime: LockedRuntime, archive: RuntimeArchive) -> RuntimeOffer:
    return RuntimeOffer(
        language=runtime.language,
        version=runtime.version,
        where="",
        distributor=runtime.distributor,
        archives=(archive,),
    )


def take_carried(session: Session, place: Path) -> tuple[str, ...]:
    """Put into the store what a carried folder, or an archive of one, holds of what this machine needs.

    Every file is verified against the lock. What the folder lacks is told; the store may have it.
    Raises `NotUnderstood`, `IntegrityFailed`, `CannotWrite`, `NoLock`.
    """
    if place.is_file():
        with tempfile.TemporaryDirectory(prefix="rabbet-carried-") as name:
            session.observer.stage(f"unpacking {place.name}")
            with cannot_write(Path(name)):
                unpack_archive(place, Path(name) / "tree")
            inner = next((path.parent for path in (Path(name) / "tree").glob(f"*/{MANIFEST}")), Path(name))
            return _taken(session, inner)
    return _taken(session, place)


def _obtain_carried(lock: Lock, carried: Mapping[str, Path], session: Session) -> None:
    """Unpack the locked runtimes that were carried for this machine's platform."""
    if not any(runtime.archives for runtime in lock.runtimes):
        return
    shelf, target = RuntimeCatalogues(session.project, session.machine), own_target(session.machine)
    for runtime in lock.runtimes:
        for archive in runtime.archives:
            path = carried.get(archive_name(archive))
            if path is not None and archive.platform == target.platform:
                local = replace(archive, url=path.resolve().as_uri())
                shelf.obtain(_offer(runtime, local), local, session.observer)


def _taken(session: Session, folder: Path) -> tuple[str, ...]:
    manifest = read_manifest(folder)
    lock, declaration = session.lock(), session.declaration()
    by_digest = {file.sha256: folder / file.path for file in manifest.files}
    by_name = {Path(file.path).name: folder / file.path for file in manifest.files}
    _obtain_carried(lock, by_name, session)  # the Python may be among them
    target = target_of(chosen_runtime(declaration, pythons_of(session), lock))
    found = _Collected(lock, declaration, [target])
    here = [file for file in found.files if file.sha256 in by_digest]
    damaged = [file.filename for file in here if not is_sound(by_digest[file.sha256], file.sha256)]
    if damaged:
        raise IntegrityFailed(
            f"{folder} is not what was carried",
            because=[f"{name} is damaged, or gone" for name in damaged],
            note="carry it once more: only what is missing is written",
        )
    session.observer.stage("taking what was carried", len(here))
    for file in here:
        session.machine.store.fetched(file, partial(read_pieces, by_digest[file.sha256]))
        session.observer.step(file.filename)
    lacking = [file.filename for file in found.files if file.sha256 not in by_digest]
    return tuple(f"{name} is not among what was carried" for name in lacking)
