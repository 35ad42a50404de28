"""Where runtimes come from: catalogues in Rabbet's form, wheels that carry one, the JavaScript registry."""

import base64
import json
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from importlib.resources import files
from typing import Protocol
from urllib.parse import quote

from msgspec import Struct, field
from packaging.version import Version

from rabbet.core.limits import MOST_PAGE, UNREADABLE
from rabbet.core.model.language import version_of
from rabbet.core.model.lock import LockedFile
from rabbet.core.model.release import ListedFile, Listing
from rabbet.core.model.runtime import RuntimeArchive, RuntimeOffer
from rabbet.core.model.target import Target
from rabbet.core.needs.names import library_name
from rabbet.disk.regular_file import read_regular
from rabbet.errors import SourceFailed
from rabbet.formats.runtime_catalogue import NotACatalogue, read_catalogue
from rabbet.formats.text.address import joined, linked, shown
from rabbet.formats.text.requirement import is_digest
from rabbet.formats.text.toml import Table, parse_toml
from rabbet.net.http.client import HttpClient
from rabbet.net.http.failures import refused
from rabbet.net.local_file import local_path
from rabbet.python.choosing.targets import PLATFORMS, baseline_needed, named_target
from rabbet.python.sources.base import FileSource, Source

__all__ = ["JsonCatalogue", "Registry", "RuntimeCatalogue", "Wheels"]

_ANY_PYTHON = "3.12"  # wheels that carry a runtime are for any
_OLDEST = {"glibc": "2.5", "macos": "10.6", "musl": "1.0"}


class RuntimeCatalogue(Protocol):
    """Offers runtimes. Raises `SourceFailed` where it does not work.

    One that nobody `named` comes along with the project's sources.
    """

    name: str
    named: bool

    @property
    def addresses(self) -> Sequence[str]:
        """Where its offers say they come from."""

    def offers(self, language: str) -> Sequence[RuntimeOffer]:
        """All runtimes of a language that could be obtained, for whichever platform."""


class JsonCatalogue:
    """A catalogue in Rabbet's own form, at an address (`https`, `http`, `file`)."""

    named = True

    def __init__(self, name: str, address: str, client: HttpClient) -> None:
        self.name = name
        self.addresses = [address]
        self._address = address
        self._client = client
        self._read: tuple[RuntimeOffer, ...] | None = None

    def offers(self, language: str) -> Sequence[RuntimeOffer]:
        """The versions of a language that it offers."""
        if self._read is None:
            try:
                self._read = read_catalogue(self._content(), self._address)
            except NotACatalogue as error:
                raise SourceFailed(
                    f"the catalogue '{self.name}' can't be understood",
                    because=[shown(self._address), str(error)],
                    note="correct its address under [[tool.rabbet.catalogues]], or tell its maintainer",
                ) from error
        return [offer for offer in self._read if offer.language == language]

    def _content(self) -> bytes:
        path = local_path(self._address)
        if path is not None:
            try:
                return read_regular(path, most=MOST_PAGE)
            except OSError as error:
                raise SourceFailed(
                    f"the catalogue '{self.name}' can't be read",
                    because=[f"{path}: {error.strerror or error}"],
                    note="correct its address under [[tool.rabbet.catalogues]] in pyproject.toml",
                ) from error
        answer = self._client.get(self._address)
        if answer.status != 200:
            raise refused(self._address, answer.status)
        return answer.body


class Wheels:
    """Libraries of a project's own sources whose wheels carry a runtime: a table of data says which ones."""

    name = "wheels"
    named = False

    def __init__(self, sources: Sequence[tuple[Source, str]]) -> None:
        """`sources` come with the addresses that tell them from all others."""
        self._sources = sources
        self.addresses = [address for _, address in sources]

    def offers(self, language: str) -> Sequence[RuntimeOffer]:
        """The list of the first source that knows the library; of several builds of a version the last."""
        carrier = _carriers("wheels").get(language)
        if carrier is None:
            return ()
        name = library_name(carrier.source)
        for source, where in self._sources:
            listing = source.listing(name)
            if listing is not None:
                return self._carried(listing, source, where, language)
        return ()

    @staticmethod
    def _carried(listing: Listing, source: Source, where: str, language: str) -> Sequence[RuntimeOffer]:
        carrier = _carriers("wheels")[language]
        found: dict[Version, dict[str, RuntimeArchive]] = {}
        for file in sorted(listing.files, key=lambda listed: listed.version):
            sha256 = _sha256(file, source) if file.is_wheel and file.yanked is None else None
            for archive in _of_wheel(file, sha256, carrier) if sha256 else ():
                found.setdefault(carrier.version(file.version), {})[archive.platform] = archive
        return [
            RuntimeOffer(
                language=language,
                version=version,
                where=where,
                archives=tuple(archives.values()),
            )
            for version, archives in found.items()
        ]


class Registry:
    """The registry of the JavaScript world, where Node.js is published in a package for each platform."""

    named = True

    def __init__(self, name: str, address: str, client: HttpClient) -> None:
        self.name = name
        self._address = address.rstrip("/") + "/"
        self.addresses = [self._address]
        self._client = client

    def offers(self, language: str) -> Sequence[RuntimeOffer]:
        """The offers of the packages for all platforms, by version."""
        carrier = _carriers("registry").get(language)
        found: defaultdict[Version, list[RuntimeArchive]] = defaultdict(list)
        for platform, package in carrier.packages.items() if carrier else ():
            for version, archive in self._archives(platform, package, carrier.program if carrier else ""):
                found[version].append(archive)
        return [
            RuntimeOffer(language=language, version=version, where=self._address, archives=tuple(archives))
            for version, archives in found.items()
        ]

    def _archives(
        self, platform: str, package: str, program: str
    ) -> Iterator[tuple[Version, RuntimeArchive]]:
        answer = self._client.get(joined(self._address, quote(package, safe="")).text)
        if answer.status == 404:
            return  # not every platform has a package
        if answer.status != 200:
            raise refused(answer.address, answer.status)
        try:
            releases = json.loads(answer.body)["versions"]
            for text, release in releases.items():
                version, dist = version_of(text), release["dist"]
                algorithm, _, digest = dist.get("integrity", "").partition("-")
                url = linked(self._address, dist["tarball"])
                told = base64.b64decode(digest, validate=True).hex() if algorithm == "sha512" else ""
                if version is not None and is_digest("sha512", told) and not release.get("deprecated"):
                    yield (
                        version,
                        RuntimeArchive(
                            platform=platform,
                            filename=url.filename,
                            url=url.text,
                            algorithm="sha512",
                            digest=told,
                            program=program,
                        ),
                    )
        except (KeyError, TypeError, AttributeError, *UNREADABLE) as error:
            raise SourceFailed(
                f"the registry '{self.name}' answers with something else than a package",
                because=[f"{shown(self._address)}{package}: {type(error).__name__}: {error}"],
                note="correct its address under [[tool.rabbet.catalogues]] in pyproject.toml",
            ) from error


class _Carrier(Struct, frozen=True, kw_only=True):
    """A library or packages that carry runtimes of a language: see `carriers.toml`."""

    source: str
    program: str
    parts: int
    packages: Mapping[str, str] = field(default_factory=dict)

    def version(self, release: Version) -> Version:
        """The runtime's version, by that of a release."""
        if not self.parts:
            return release
        numbers = ".".join(map(str, release.release[: self.parts]))
        return Version(f"{numbers}{''.join(map(str, release.pre or ()))}")


@cache
def _carriers(kind: str) -> Mapping[str, _Carrier]:
    name = "carriers.toml"
    table = parse_toml(files("rabbet.runtimes").joinpath(name).read_text(encoding="utf-8"), name).table(kind)
    carriers = {language: _carrier(table.table(language)) for language in table}
    table.problems.raise_if_any()
    return carriers


def _carrier(entry: Table) -> _Carrier:
    packages = entry.table("packages")
    return _Carrier(
        source=entry.text("library") or "",
        program=entry.required("program"),
        parts=entry.get("parts", int, 0),
        packages={platform: packages.required(platform) for platform in packages},
    )


def _of_wheel(file: ListedFile, sha256: str, carrier: _Carrier) -> Iterator[RuntimeArchive]:
    """A wheel for each platform that it fits, with the oldest C library that it asks for."""
    tags = file.tags or frozenset()
    for platform in PLATFORMS:
        target = _oldest_target(platform)
        needed = baseline_needed(target, tags)
        fits = any(tag in target.tags for tag in tags)
        if fits or needed:
            yield RuntimeArchive(
                platform=platform,
                filename=file.filename,
                url=file.location,
                algorithm="sha256",
                digest=sha256,
                program=carrier.program.replace("{version}", file.filename.split("-")[1]),
                size=file.size,
                baseline="" if fits or needed is None else "=".join(needed),
            )


def _sha256(file: ListedFile, source: Source) -> str | None:
    """The digest that is listed; of a file on this machine the one that it has."""
    if file.sha256 or local_path(file.location) is None or not isinstance(source, FileSource):
        return file.sha256
    artifact = source.locked(file)
    return artifact.sha256 if isinstance(artifact, LockedFile) else None


@cache
def _oldest_target(platform: str) -> Target:
    return named_target(platform, _ANY_PYTHON, _OLDEST)
