"""The simple repository API: a library's page, as JSON (PEP 691, 700) or HTML (PEP 503) → a listing."""

from functools import lru_cache
from urllib.parse import unquote, urljoin, urlsplit

import msgspec
from packaging.utils import NormalizedName

from rabbet.core.file_name import parse_file_name
from rabbet.core.model.release import ListedFile, Listing, SetAside

__all__ = ["NotAnIndexPage", "parse_html", "parse_json", "parse_names_html", "parse_names_json"]

_SUPPORTED_MAJOR = "1"


class NotAnIndexPage(ValueError):
    """The answer is no page of a simple repository."""


class _File(msgspec.Struct, rename="kebab"):
    filename: str
    url: str
    hashes: dict[str, str] = {}
    requires_python: str | None = None
    yanked: bool | str = False
    size: int | None = None
    upload_time: str | None = None
    core_metadata: bool | dict[str, str] | None = None
    dist_info_metadata: bool | dict[str, str] | None = None


class _Meta(msgspec.Struct, rename="kebab"):
    api_version: str = "1.0"


class _Page(msgspec.Struct):
    files: list[_File]
    meta: _Meta = msgspec.field(default_factory=_Meta)


class _Name(msgspec.Struct):
    name: str


class _Names(msgspec.Struct):
    projects: list[_Name]


# Made here and not where they are used: pages are read in several threads, and what the library has to find
# out about a type before its first use would be found out by all of them at once, which crashes it.
_PAGE = msgspec.json.Decoder(_Page)
_NAMES = msgspec.json.Decoder(_Names)


def parse_json(content: bytes, *, name: NormalizedName, source: str, address: str) -> Listing:
    """Read a library's JSON page; `address` is where it came from, for relative links.

    Raises `NotAnIndexPage`.
    """
    try:
        page = _PAGE.decode(content)
    except (msgspec.MsgspecError, RecursionError, UnicodeDecodeError) as error:
        raise NotAnIndexPage(f"the answer is no page of an index: {error}") from error
    _check_version(page.meta.api_version)
    return _listing(page.files, name=name, source=source, address=address)


def parse_html(content: bytes, *, name: NormalizedName, source: str, address: str) -> Listing:
    """Read a library's HTML page.

    Raises `NotAnIndexPage` when it is no HTML, or of an unknown version.
    """
    links = _links(content)
    files = [_file_of(link) for link in links if link.get("href")]
    return _listing(files, name=name, source=source, address=address)


def parse_names_json(content: bytes) -> tuple[str, ...]:
    """All names on an index's JSON front page. Raises `NotAnIndexPage`."""
    try:
        return tuple(one.name for one in _NAMES.decode(content).projects)
    except (msgspec.MsgspecError, RecursionError, UnicodeDecodeError) as error:
        raise NotAnIndexPage(f"the answer is no page of an index: {error}") from error


def parse_names_html(content: bytes) -> tuple[str, ...]:
    """All names on an index's HTML front page. Raises `NotAnIndexPage`."""
    return tuple((link.get("href") or "").rstrip("/").rpartition("/")[2] for link in _links(content))


def _check_version(version: str) -> None:
    if version.partition(".")[0] != _SUPPORTED_MAJOR:
        raise NotAnIndexPage(f"the index speaks version {version} of the simple API; Rabbet knows version 1")


def _listing(files: list[_File], *, name: NormalizedName, source: str, address: str) -> Listing:
    usable, aside = [], []
    for file in files:
        if not file.filename.endswith((".whl", ".tar.gz", ".zip")):
            continue
        listed = _listed(file, name, source=source, address=address)
        if isinstance(listed, str):
            aside.append(SetAside(version=file.filename, reason=listed))
        else:
            usable.append(listed)
    return Listing(name=name, source=source, files=tuple(usable), aside=tuple(aside))


def _listed(file: _File, name: NormalizedName, *, source: str, address: str) -> ListedFile | str:
    """One entry as a wheel or a source archive, or why it is none."""
    parsed = parse_file_name(file.filename, name)
    if isinstance(parsed, str):
        return parsed
    if parsed.name != name:
        return f"it is a file of {parsed.name}"
    offered = file.core_metadata if file.core_metadata is not None else file.dist_info_metadata
    beside = offered.get("sha256", "") if isinstance(offered, dict) else ("" if offered else None)
    return ListedFile(
        file.filename,
        *parsed,
        file.url if file.url.startswith("https://") else _joined(address, file.url),
        source,
        file.size,
        _checked_digest(file.hashes.get("sha256", "")),
        file.requires_python or None,
        beside,
        file.upload_time,
        file.yanked if isinstance(file.yanked, str) else ("" if file.yanked else None),
    )


def _joined(address: str, link: str) -> str:
    """A link on a page at this address. Thousands of links lead to one folder, which is worked out once."""
    folder, slash, name = link.rpartition("/")
    if not slash or "?" in link or "#" in link:
        return urljoin(address, link)
    return _folder(address, folder + slash) + name


@lru_cache(maxsize=64)
def _folder(address: str, link: str) -> str:
    return urljoin(address, link)


def _checked_digest(digest: str) -> str | None:
    """A digest as it may be used in names of files; anything else counts as none."""
    return digest.lower() if len(digest) == 64 and digest.isascii() and digest.isalnum() else None


def _links(content: bytes) -> list[dict[str, str | None]]:
    """The attributes of all links on an HTML page."""
    from rabbet.formats.html_links import LinkParser

    parser = LinkParser()
    parser.feed(content.decode("utf-8", errors="replace"))
    if not parser.is_html:
        raise NotAnIndexPage("the answer is neither JSON nor HTML")
    _check_version(parser.version)
    return parser.links


def _file_of(link: dict[str, str | None]) -> _File:
    """A link's attributes in the shape of a JSON entry."""
    href = link["href"] or ""
    url, _, fragment = href.partition("#")
    algorithm, _, digest = fragment.partition("=")
    offered = link.get("data-core-metadata", link.get("data-dist-info-metadata"))
    key, _, value = (offered or "").partition("=")
    return _File(
        filename=unquote(urlsplit(url).path.rpartition("/")[2]),
        url=url,
        hashes={algorithm: digest} if digest else {},
        requires_python=link.get("data-requires-python"),
        yanked=(link["data-yanked"] or True) if "data-yanked" in link else False,
        core_metadata=None if offered is None else ({key: value} if value else True),
    )
