"""A catalogue of runtimes as JSON, in Rabbet's own form (docs/reference/catalogues-and-languages.md)."""

from collections.abc import Iterator, Sequence

import msgspec
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet

from rabbet.archives.places import ARCHIVE_ENDINGS, is_inside
from rabbet.core.limits import LONGEST_LINE, MOST_FILES, UNREADABLE, beyond, is_size
from rabbet.core.model.language import is_language, version_of
from rabbet.core.model.runtime import RuntimeArchive, RuntimeOffer
from rabbet.core.needs.wording import specifiers_text
from rabbet.formats.text.address import NotAnAddress, linked
from rabbet.formats.text.requirement import is_digest

__all__ = ["SOURCE", "NotACatalogue", "catalogue_text", "read_catalogue", "with_offer"]

_NAME, _FORMAT = "rabbet.catalogue", 1  # 1: first form
SOURCE = "source"  # the platform of what has to be built
_MOST_WORDS, _MOST_MINUTES = 1_000, 10_000


class NotACatalogue(ValueError):
    """The content is not a catalogue that this Rabbet can read; the text says why."""


class _Head(msgspec.Struct):
    """The part that is read first: whether it is a catalogue, and of which form."""

    schema: str = ""


class _Archive(msgspec.Struct, omit_defaults=True):
    platform: str
    url: str
    program: str
    size: int | None = None
    sha256: str = ""
    sha512: str = ""
    baseline: str = ""
    steps: list[list[str]] = []
    system: list[str] = []
    minutes: int = 0


class _Runtime(msgspec.Struct, omit_defaults=True):
    language: str
    version: str
    archives: list[_Archive]
    distributor: str = ""
    needs: dict[str, str] = {}


class _Catalogue(msgspec.Struct):
    schema: str
    runtimes: list[_Runtime]


_HEAD = msgspec.json.Decoder(_Head)
_WHOLE = msgspec.json.Decoder(_Catalogue)


def read_catalogue(content: bytes, address: str) -> tuple[RuntimeOffer, ...]:
    """Read the offers of a catalogue; addresses in it are relative to its own.

    Raises `NotACatalogue`.
    """
    try:
        name, _, number = _HEAD.decode(content).schema.partition("/")
        if name != _NAME or not number.isdecimal():
            raise NotACatalogue(f"its schema is not {_NAME}/{_FORMAT}")
        if number != str(_FORMAT):
            raise NotACatalogue(f"it is of form {number[:9]}, and this Rabbet reads form {_FORMAT}")
        read = _WHOLE.decode(content)
    except (msgspec.MsgspecError, *UNREADABLE) as error:
        raise NotACatalogue(str(error)) from error
    if sum(len(runtime.archives) for runtime in read.runtimes) > MOST_FILES:
        raise NotACatalogue(f"it offers more than {MOST_FILES} archives")
    return tuple(_offer(runtime, address) for runtime in read.runtimes)


def _offer(runtime: _Runtime, address: str) -> RuntimeOffer:
    if not is_language(runtime.language):
        raise NotACatalogue(f"'{runtime.language[:60]}' is not a language's name")
    version = version_of(runtime.version) if beyond(runtime.version) is None else None
    if version is None:
        raise NotACatalogue(f"'{runtime.version[:60]}' is not a version of {runtime.language[:60]}")
    try:
        needs = {language: SpecifierSet(text[:LONGEST_LINE]) for language, text in runtime.needs.items()}
    except ValueError as error:
        raise NotACatalogue(f"{runtime.language[:60]} {version}: {error}") from error
    return RuntimeOffer(
        language=runtime.language,
        version=version,
        where=address,
        distributor=runtime.distributor[:LONGEST_LINE],
        needs=needs,
        archives=tuple(_archive(archive, address) for archive in runtime.archives),
    )


def _archive(archive: _Archive, address: str) -> RuntimeArchive:
    algorithm = "sha256" if archive.sha256 else "sha512"
    digest = archive.sha256 or archive.sha512
    try:
        url = linked(address, archive.url)
    except NotAnAddress as error:
        raise NotACatalogue(f"an address in it is not valid: {error}") from error
    wrong = [
        "its digest is not one" * (not is_digest(algorithm, digest)),
        "its size is not one" * (archive.size is not None and not is_size(archive.size)),
        "its program is not inside" * (not is_inside(archive.program)),
        f"its name ends with none of {', '.join(ARCHIVE_ENDINGS)}"
        * (not url.filename.endswith(ARCHIVE_ENDINGS) or "/" in url.filename),
        _wrong_steps(archive),
        "it is to be had neither over https, http nor from a folder"
        * (url.scheme not in ("https", "http", "file")),
    ]
    if any(wrong):
        raise NotACatalogue(f"{archive.url[:LONGEST_LINE]}: {next(filter(None, wrong))}")
    return RuntimeArchive(
        platform=archive.platform[:LONGEST_LINE],
        filename=url.filename,
        url=url.text,
        algorithm=algorithm,
        digest=digest,
        program=archive.program,
        size=archive.size,
        baseline=archive.baseline[:LONGEST_LINE],
        steps=tuple(tuple(step) for step in archive.steps),
        system=tuple(archive.system),
        minutes=archive.minutes,
    )


def _wrong_steps(archive: _Archive) -> str:
    """The mistakes in an archive's build steps; empty for correct steps, or none."""
    if (archive.platform == SOURCE) != bool(archive.steps):
        return f"steps belong to what is for the platform '{SOURCE}', and to nothing else"
    words = [word for step in archive.steps for word in step]
    if (
        len(words) > _MOST_WORDS
        or not all(archive.steps)
        or not all(map(_is_word, [*words, *archive.system]))
    ):
        return "its steps are no commands, or too many"
    return "" if 0 <= archive.minutes <= _MOST_MINUTES else "its minutes are no such number"


def _is_word(text: str) -> bool:
    return bool(text) and text.isprintable() and len(text) <= LONGEST_LINE


def with_offer(offers: Sequence[RuntimeOffer], new: RuntimeOffer) -> list[RuntimeOffer]:
    """Offers with another one; its archives take the place of those for the same platforms."""

    def same(offer: RuntimeOffer) -> bool:
        return (offer.language, offer.version, offer.distributor) == (
            new.language,
            new.version,
            new.distributor,
        )

    platforms = {archive.platform for archive in new.archives}
    before = next((offer for offer in offers if same(offer)), new)
    kept = tuple(archive for archive in before.archives if archive.platform not in platforms)
    others = [offer for offer in offers if not same(offer)]
    return [*others, replace(before, archives=(*kept, *new.archives))]


def catalogue_text(offers: Sequence[RuntimeOffer], folder: str = "") -> str:
    """A catalogue as it is written, sorted; addresses in its own `folder` are relative to that."""
    catalogue = _Catalogue(schema=f"{_NAME}/{_FORMAT}", runtimes=list(_written(offers, f"{folder}/")))
    content = msgspec.json.encode(catalogue)
    return msgspec.json.format(content, indent=2).decode() + "\n"


def _written(offers: Sequence[RuntimeOffer], folder: str) -> Iterator[_Runtime]:
    for offer in sorted(offers, key=lambda offer: (offer.language, offer.version, offer.distributor)):
        archives = [
            _Archive(
                platform=archive.platform,
                url=archive.url.removeprefix(folder),
                program=archive.program,
                size=archive.size,
                sha256=archive.digest if archive.algorithm == "sha256" else "",
                sha512=archive.digest if archive.algorithm == "sha512" else "",
                baseline=archive.baseline,
                steps=[list(step) for step in archive.steps],
                system=list(archive.system),
                minutes=archive.minutes,
            )
            for archive in sorted(offer.archives, key=lambda archive: archive.platform)
        ]
        yield _Runtime(
            language=offer.language,
            version=str(offer.version),
            archives=archives,
            distributor=offer.distributor,
            needs={language: specifiers_text(versions) for language, versions in offer.needs.items()},
        )
