"""Catalogues of runtimes that count for a project, and the runtimes that were obtained from them."""

from collections.abc import Collection, Iterator
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace
from packaging.version import Version

from rabbet.core.declaration.model import CatalogueEntry
from rabbet.core.model.lock import LockedRuntime
from rabbet.core.model.runtime import RuntimeArchive, RuntimeOffer
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import specifiers_text
from rabbet.core.progress import Observer
from rabbet.core.shell import quoted
from rabbet.errors import NoRuntime, RabbetError, SourceFailed
from rabbet.formats.text.address import is_address, joined, parse_address
from rabbet.net.http.client import HttpClient
from rabbet.python.sources.files.file_reader import FileReader
from rabbet.python.sources.opening import open_source
from rabbet.runtimes.catalogues import JsonCatalogue, Registry, RuntimeCatalogue, Wheels
from rabbet.store.obtained import Obtained, ObtainedRuntimes, receive_archive
from rabbet.workspace.fetching.opening import open_client
from rabbet.workspace.known_sources import known_sources
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.runtimes.obtained_here import (
    NOBODY,
    SOURCE,
    belonging_to,
    catalogue_address,
    source_address,
    users_catalogues,
)
from rabbet.workspace.runtimes.pythons import own_target

__all__ = [
    "OfferedRuntime",
    "RuntimeCatalogues",
    "anybodys_client",
    "new_enough",
    "with_way_to_obtain",
]

_SHOWN = 5  # offers that an error names


class OfferedRuntime(Struct, frozen=True, kw_only=True):
    """A runtime that a catalogue offers; without an `archive` for this machine it says why it has none.

    Then there may be a `source` that it could be built from. A catalogue of the user's own (`by_user`) may
    have that done here, any other one only if it is asked for.
    """

    catalogue: str
    offer: RuntimeOffer
    archive: RuntimeArchive | None
    reason: str = ""
    source: RuntimeArchive | None = None
    by_user: bool = False


class RuntimeCatalogues:
    """The catalogues of a project, or of the user where there is none, and the store that they fill."""

    def __init__(self, project: Project | None, machine: Machine) -> None:
        self.project = project
        self.machine = machine
        self._declaration = project.declaration() if project else NOBODY
        self._folder = project.folder if project else machine.home
        self._client = open_client(self._declaration, machine)
        self._store = ObtainedRuntimes(machine.store_folder)
        self._users_own: set[str] = set()  # addresses of catalogues that the user's settings name
        self.catalogues: tuple[RuntimeCatalogue, ...] = tuple(self._open())

    def offers(self, language: str, target: Target, *, only_named: bool = False) -> list[OfferedRuntime]:
        """All that the catalogues offer of a language, the newest first; of one version the first counts.

        That is, if asked for, of those alone that somebody `named`.
        """
        found: dict[tuple[Version, str], OfferedRuntime] = {}
        for catalogue in (known for known in self.catalogues if known.named or not only_named):
            for offer in catalogue.offers(language):
                archive = _fitting(offer, target)
                key = (offer.version, offer.distributor)
                known = found.get(key)
                if known is None or (known.archive is None and archive is not None):
                    found[key] = OfferedRuntime(
                        catalogue=catalogue.name,
                        offer=offer,
                        archive=archive,
                        reason="" if archive else _misfit(offer, target),
                        source=next((archive for archive in offer.archives if archive.is_source), None),
                        by_user=not self._users_own.isdisjoint(catalogue.addresses),
                    )
        return sorted(found.values(), key=lambda offered: offered.offer.version, reverse=True)

    def pick(
        self, need: Need, target: Target, *, from_source: bool = False
    ) -> tuple[OfferedRuntime, RuntimeArchive]:
        """The newest that is allowed and fits this machine, and its archive.

        Where none does, it may be the newest that can be built: from a catalogue of the user's own, or from
        any one with `from_source`. Raises `NoRuntime`, `SourceFailed`.
        """
        offers = self.offers(need.name, target)
        able = {
            offer.offer.version: (offer, offer.archive)
            for offer in reversed(offers)
            if offer.archive is not None
        }
        sources = {
            offer.offer.version: (offer, offer.source)
            for offer in reversed(offers)
            if offer.source is not None
        }
        allowed = {version: pair for version, pair in sources.items() if from_source or pair[0].by_user}
        for found in (able, allowed):
            chosen = max(need.specifier.filter(found), default=None)
            if chosen is not None:
                return found[chosen]
        buildable = max(need.specifier.filter(sources), default=None)
        if buildable is not None:
            raise _not_without_asking(need, sources[buildable][0], target)
        told = [f"{offer.catalogue}: {offer.offer.version}{_why(offer, need)}" for offer in offers[:_SHOWN]]
        if len(offers) > _SHOWN:
            told.append(f"and {len(offers) - _SHOWN} older ones")
        names = ", ".join(catalogue.name for catalogue in self.catalogues)
        raise NoRuntime(
            f"no catalogue offers {need.written_name}{need.specifier} for {target.platform}",
            because=told or [f"asked were: {names}" if names else "no catalogue is known"],
            note="declare --catalogue names one, for all projects settings.toml does",
            remedy="rabbet help declare",
        )

    def with_way(self, error: NoRuntime, need: Need) -> NoRuntime:
        """The failure where a runtime is missing, with the command that obtains one, if any is offered.

        A catalogue that can't be read offers none: the failure is told all the same.
        """
        try:
            picked, archive = self.pick(need, own_target(self.machine), from_source=True)
        except RabbetError:
            return error
        how = "built from the source in" if archive.is_source else "had from"
        return NoRuntime(
            str(error),
            because=error.because,
            note=f"{picked.offer.language} {picked.offer.version} can be {how} '{picked.catalogue}':",
            remedy=_obtain_command(need, from_source=archive.is_source and not picked.by_user),
        )

    def with_archives(self, runtime: LockedRuntime, platforms: Collection[str]) -> LockedRuntime:
        """A runtime to lock with where it can be had for these platforms, if a catalogue offers that version.

        Else it keeps what it has. What nobody named counts only for what was chosen from there. Addresses
        inside the project's folder become relative to it.
        """
        for catalogue in self.catalogues:
            if not catalogue.named and self._absolute(runtime.catalogue) not in catalogue.addresses:
                continue
            for offer in catalogue.offers(runtime.language):
                asked = {runtime.distributor, offer.distributor} - {""}
                if offer.version == runtime.version and len(asked) < 2:
                    archives = tuple(archive for archive in offer.archives if archive.platform in platforms)
                    if archives:
                        return replace(
                            runtime,
                            catalogue=self.relative(offer.where),
                            archives=tuple(
                                replace(archive, url=self.relative(archive.url)) for archive in archives
                            ),
                        )
        return runtime

    def obtain_locked(self, runtime: LockedRuntime, target: Target, observer: Observer) -> Obtained:
        """Obtain a locked runtime for this machine. Raises `NoRuntime`, and what `obtain` raises."""
        offer = RuntimeOffer(
            language=runtime.language,
            version=runtime.version,
            where="",  # the lock's word: it may say what it likes of a catalogue
            distributor=runtime.distributor,
            archives=tuple(replace(archive, url=self._absolute(archive.url)) for archive in runtime.archives),
        )
        archive = _fitting(offer, target)
        if archive is None:
            raise NoRuntime(
                f"the lock tells of no {runtime.language} {runtime.version} for this machine",
                because=[_misfit(offer, target)],
                remedy=f"rabbet runtimes lookup {runtime.language}",
            )
        return self.obtain(offer, archive, observer)

    def fetch_archive(self, archive: RuntimeArchive, path: Path, observer: Observer) -> None:
        """Fetch a locked archive into a new file, and verify it.

        Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
        """
        reader = FileReader(self._client)

        def content() -> Iterator[bytes]:
            for piece in reader.content(self._absolute(archive.url)):
                observer.received(len(piece), archive.filename, archive.size or 0)
                yield piece

        receive_archive(archive, content(), path)

    def relative(self, address: str) -> str:
        """An address as the lock has it: one in the project's folder is relative to that."""
        root = self._folder.as_uri() + "/"
        return address.removeprefix(root).removesuffix(belonging_to(self._folder))

    def _absolute(self, address: str) -> str:
        if address.startswith(SOURCE):
            return address + belonging_to(self._folder)
        if not address or is_address(address):
            return address
        return joined(self._folder.as_uri() + "/", address).text

    def obtain(self, offer: RuntimeOffer, archive: RuntimeArchive, observer: Observer) -> Obtained:
        """Fetch, verify and unpack a runtime, unless it is there.

        Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
        """
        observer.stage(f"fetching {offer.language} {offer.version}", 1, size=archive.size or 0)
        if archive.is_source:
            from rabbet.workspace.runtimes.from_source import build_from_source  # here: few are built

            target = own_target(self.machine)
            reader = FileReader(self._client)
            return build_from_source(
                offer, archive, lambda: reader.content(archive.url), target, self.machine, observer
            )
        reader = FileReader(self._client)

        def content() -> Iterator[bytes]:
            for piece in reader.content(archive.url):
                observer.received(len(piece), archive.filename, archive.size or 0)
                yield piece
            observer.step(archive.filename)
            observer.stage("unpacking")

        return self._store.obtain(offer, archive, content)

    def _open(self) -> Iterator[RuntimeCatalogue]:
        settings = self.machine.settings()
        users_folder, users = users_catalogues(self.machine)
        for folder, entries in ((self._folder, self._declaration.catalogues), (users_folder, users)):
            for entry in entries:
                opened = _opened(entry, folder, self._client)
                if entries is users:
                    self._users_own.update(opened.addresses)
                yield opened
        if not (self._declaration.sources or settings.source or self.machine.environ.get("RABBET_SOURCE")):
            return
        memory_of = self.machine.listings
        yield Wheels(
            [
                (
                    open_source(entry, project=self._folder, client=self._client, memory_of=memory_of),
                    source_address(entry, self._folder),
                )
                for entry in known_sources(self._declaration, self.machine)
            ]
        )


def with_way_to_obtain(error: NoRuntime, need: Need, project: Project | None, machine: Machine) -> NoRuntime:
    """The failure as `RuntimeCatalogues.with_way` tells it; where no catalogue can be opened, as it was."""
    try:
        shelf = RuntimeCatalogues(project, machine)
    except RabbetError:
        return error
    return shelf.with_way(error, need)


def _obtain_command(need: Need, *, from_source: bool) -> str:
    constraint = quoted(f"{need.name}{specifiers_text(need.specifier)}")
    return f"rabbet runtimes obtain {constraint}{' --from-source' * from_source}"


def _not_without_asking(need: Need, offered: OfferedRuntime, target: Target) -> NoRuntime:
    """The failure where there is nothing but a source, in a catalogue that the user's settings don't name."""
    steps = offered.source.steps if offered.source else ()
    what = f"{need.name} {offered.offer.version}"
    return NoRuntime(
        f"of {what}, '{offered.catalogue}' has nothing but the source for {target.platform}",
        because=["building it runs these steps here, as you:", *(f"  {' '.join(step)}" for step in steps)],
        remedy=_obtain_command(need, from_source=True),
    )


def anybodys_client(machine: Machine) -> HttpClient:
    """A client for addresses that somebody names on the command line, outside of any project."""
    return open_client(NOBODY, machine)


def _opened(entry: CatalogueEntry, folder: Path, client: HttpClient) -> RuntimeCatalogue:
    """Open a catalogue. Raises `SourceFailed` for an unsupported address."""
    address = catalogue_address(entry, folder)
    if parse_address(address).scheme not in ("http", "https", "file"):
        raise SourceFailed(
            f"the catalogue '{entry.name}' has an unsupported address",
            because=[f"{address} is neither https, http nor a file"],
            note="correct its url under [[tool.rabbet.catalogues]] in pyproject.toml",
        )
    opened = Registry if entry.registry else JsonCatalogue
    return opened(entry.name, address, client)


def _fitting(offer: RuntimeOffer, target: Target) -> RuntimeArchive | None:
    """The archive that this machine can use, if the offer holds one."""
    for archive in offer.archives:
        if (
            not archive.is_source
            and archive.platform == target.platform
            and new_enough(archive.baseline, target)
        ):
            return archive
    return None


def new_enough(baseline: str, target: Target) -> bool:
    """Whether a machine has the C library, or system, that something asks for, such as `glibc=2.31`."""
    library, _, version = baseline.partition("=")
    if not library:
        return True
    try:
        return library == target.libc[0] and Version(target.libc[1]) >= Version(version)
    except ValueError:
        return False


def _misfit(offer: RuntimeOffer, target: Target) -> str:
    own = [archive for archive in offer.archives if archive.platform == target.platform]
    if own:
        return f"needs {own[0].baseline}, here is {'='.join(target.libc)}"
    source = next((archive for archive in offer.archives if archive.is_source), None)
    if source is not None:
        return f"as source{f', about {source.minutes} min' if source.minutes else ''}"
    return f"not for {target.platform}"


def _why(offered: OfferedRuntime, need: Need) -> str:
    if not need.specifier.contains(offered.offer.version, prereleases=True):
        return f" is not {need.written_name}{need.specifier}"
    return f" {offered.reason}" if offered.reason else " is a pre-release"
