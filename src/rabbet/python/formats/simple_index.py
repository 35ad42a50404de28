"""The simple repository API: a library's page, as JSON (PEP 691, 700) or HTML (PEP 503) → a listing."""

import re
from functools import lru_cache

import msgspec
from packaging.utils import NormalizedName

from rabbet.core.limits import LONGEST_LINE, LONGEST_TEXT, MOST_ADDRESS, MOST_FILES, UNREADABLE, is_size
from rabbet.core.model.release import ListedFile, Listing, Rejected
from rabbet.formats.text.address import NotAnAddress, joined, parse_address
from rabbet.formats.text.requirement import is_sha256
from rabbet.python.choosing.file_name import BadFileName, parse_file_name

__all__ = ["NotAnIndexPage", "parse_html", "parse_json", "parse_names_html", "parse_names_json"]

_SUPPORTED_MAJOR = "1"
_PLAIN_ADDRESS = re.compile(r"https://[a-z0-9.-]{1,250}/[!$-;=?A-Z_a-z~]*\Z")  # it needs no further look
_PLAIN_NAME = re.compile(r"[A-Za-z0-9_.%+!~-]+\Z")


class NotAnIndexPage(ValueError):
    """The answer is not a page of a simple repository."""


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
    except (msgspec.MsgspecError, *UNREADABLE) as error:
        raise NotAnIndexPage(f"the answer is not a page of an index: {error}") from error
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
        return tuple(project.name for project in _NAMES.decode(content).projects)
    except (msgspec.MsgspecError, *UNREADABLE) as error:
        raise NotAnIndexPage(f"the answer is not a page of an index: {error}") from error


def parse_names_html(content: bytes) -> tuple[str, ...]:
    """All names on an index's HTML front page. Raises `NotAnIndexPage`."""
    return tuple((link.get("href") or "").rstrip("/").rpartition("/")[2] for link in _links(content))


def _check_version(version: str) -> None:
    if version.partition(".")[0] != _SUPPORTED_MAJOR:
        raise NotAnIndexPage(f"the index speaks version {version} of the simple API; Rabbet knows version 1")


def _listing(files: list[_File], *, name: NormalizedName, source: str, address: str) -> Listing:
    if len(files) > MOST_FILES:
        raise NotAnIndexPage(f"the page lists {len(files)} files, more than any library has")
    usable, rejected = [], []
    tags: set[frozenset[str] | None] = set()
    for file in files:
        if not file.filename.endswith((".whl", ".tar.gz", ".zip")):
            continue
        try:
            listed = _listed(file, name, source=source, address=address)
        except _UnusableEntry as error:
            rejected.append(Rejected(version=file.filename[:LONGEST_LINE], reason=str(error)))
        else:
            usable.append(listed)
            tags.add(listed.tags)
    if sum(len(tag or ()) for tag in tags) > MOST_FILES:
        raise NotAnIndexPage("the names on the page stand for more kinds of machines than there are")
    return Listing(name=name, source=source, files=tuple(usable), rejected=tuple(rejected))


class _UnusableEntry(ValueError):
    """An entry contradicts itself."""


def _listed(file: _File, name: NormalizedName, *, source: str, address: str) -> ListedFile:
    """One entry as a wheel or a source archive. Raises `_UnusableEntry`."""
    try:
        parsed = parse_file_name(file.filename, name)
        location = file.url if _PLAIN_ADDRESS.match(file.url) else _joined(address, file.url)
    except BadFileName as error:
        raise _UnusableEntry(str(error)) from error
    except NotAnAddress as error:
        raise _UnusableEntry(f"its address is not valid: {error}") from error
    if parsed.name != name:
        raise _UnusableEntry(f"it is a file of {parsed.name}")
    sha256 = file.hashes.get("sha256")
    sha256 = sha256.lower() if sha256 is not None else None
    if sha256 is not None and not is_sha256(sha256):
        raise _UnusableEntry("its sha256 is not 64 hexadecimal digits")
    _check(file, location, address)
    offered = file.core_metadata if file.core_metadata is not None else file.dist_info_metadata
    beside = offered.get("sha256", "") if isinstance(offered, dict) else ("" if offered else None)
    return ListedFile(
        file.filename,
        *parsed,
        location,
        source,
        file.size,
        sha256,
        _constraint(file.requires_python),
        beside,
        file.upload_time,
        file.yanked[:LONGEST_LINE] if isinstance(file.yanked, str) else ("" if file.yanked else None),
    )


def _constraint(text: str | None) -> str | None:
    """A file's `requires-python`; an unreadable one excludes no version (PEP 503)."""
    return text if text and len(text) <= LONGEST_TEXT else None


def _check(file: _File, location: str, page: str) -> None:
    """Raise `_UnusableEntry` for an address or a size that can't be."""
    if len(location) > MOST_ADDRESS:
        raise _UnusableEntry(f"its address has {len(location)} characters")
    if not location.startswith(("https://", "http://")) and page.startswith("http"):
        raise _UnusableEntry("its address is neither https: nor http:")
    if file.size is not None and not is_size(file.size):
        raise _UnusableEntry("its size is not one")


def _joined(address: str, link: str) -> str:
    """A link on a page at this address. Thousands of links lead to one folder, which is worked out once.

    Raises `NotAnAddress`.
    """
    folder, slash, name = link.rpartition("/")
    if not slash or not _PLAIN_NAME.match(name):
        return joined(address, link).text
    return _folder(address, folder + slash) + name


@lru_cache(maxsize=64)
def _folder(address: str, link: str) -> str:
    return joined(address, link).text


def _links(content: bytes) -> list[dict[str, str | None]]:
    """The attributes of all links on an HTML page."""
    from rabbet.python.formats.html_links import LinkParser, unreadable

    wrong = unreadable(content)
    if wrong:
        raise NotAnIndexPage(f"the answer is not a page of an index: {wrong}")
    parser = LinkParser()
    try:
        parser.feed(content.decode("utf-8", errors="replace"))
    except (AssertionError, ValueError) as error:  # the library's own complaints about what is no HTML
        raise NotAnIndexPage(f"the answer is not a page of an index: {error}") from error
    if not parser.is_html:
        raise NotAnIndexPage("the answer is neither JSON nor HTML")
    _check_version(parser.version)
    return parser.links


def _filename(url: str) -> str:
    """The name of the file that a link leads to; its last part as it stands where the link is no address."""
    try:
        return parse_address(url).filename
    except NotAnAddress:
        return url.rpartition("/")[2]


def _file_of(link: dict[str, str | None]) -> _File:
    """A link's attributes in the shape of a JSON entry."""
    href = (link["href"] or "").strip()
    url, _, fragment = href.partition("#")
    algorithm, _, digest = fragment.partition("=")
    offered = link.get("data-core-metadata", link.get("data-dist-info-metadata"))
    key, _, value = (offered or "").partition("=")
    return _File(
        filename=_filename(url),
        url=url,
        hashes={algorithm: digest} if digest else {},
        requires_python=link.get("data-requires-python"),
        yanked=(link["data-yanked"] or True) if "data-yanked" in link else False,
        core_metadata=None if offered is None else ({key: value} if value else True),
    )
