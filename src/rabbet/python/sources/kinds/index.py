"""An index over HTTP: the simple repository API (PEP 503, 691, 700), metadata files (PEP 658), ranges."""

import hashlib
import threading
from collections.abc import Sequence
from concurrent.futures import Future

from packaging.utils import NormalizedName

from rabbet.core.model.lock import LockedSdist, LockedWheel
from rabbet.core.model.release import ListedFile, Listing
from rabbet.errors import SourceFailed
from rabbet.net.http.client import HttpAnswer, HttpClient
from rabbet.net.http.failures import refused
from rabbet.net.http.headers import announced_size
from rabbet.python.formats.simple_index import (
    NotAnIndexPage,
    parse_html,
    parse_json,
    parse_names_html,
    parse_names_json,
)
from rabbet.python.sources.files.file_reader import FileReader
from rabbet.python.sources.kinds.pages import KeptPage, Pages
from rabbet.work.pools import awaited

__all__ = ["IndexSource"]

_JSON = "application/vnd.pypi.simple.v1+json"
_ACCEPT = {"Accept": f"{_JSON}, application/vnd.pypi.simple.v1+html;q=0.2, text/html;q=0.1"}
_MOST_NAMES = 4_000_000  # bytes of a front page that are still read for near names


class IndexSource:
    """One index; its address, which holds no credentials, is made to end with a slash."""

    def __init__(
        self, name: str, address: str, client: HttpClient, pages: Pages, *, refresh: bool = False
    ) -> None:
        self.name = name
        self._refresh = refresh
        self.address = address if address.endswith("/") else address + "/"
        self._client = client
        self._reader = FileReader(client)
        self._pages = pages
        self._guard = threading.Lock()
        self._kept: dict[NormalizedName, KeptPage | None] = {}
        self._asked: dict[NormalizedName, Future[HttpAnswer] | None] = {}
        self._read: dict[NormalizedName, Listing | None] = {}

    @property
    def index(self) -> str | None:
        """The address."""
        return self.address

    def ask_listing(self, name: NormalizedName) -> "Future[HttpAnswer] | None":
        """Ask for a library's page, once, and wait for nothing; `None` where what is kept of it will do.

        A page that an earlier run read is taken while it is fresh, else the index is told what is known of
        it.
        """
        with self._guard:
            if name not in self._asked:
                self._asked[name] = self._begin(name)
            return self._asked[name]

    def ask_metadata(self, file: ListedFile) -> "Future[HttpAnswer] | None":
        """Ask for the metadata file beside a file, and wait for nothing; `None` where there is none."""
        return self._reader.ask_metadata(file)

    def listing(self, name: NormalizedName) -> Listing | None:
        """Read the library's page, once; an answer of 404 says that the index does not know it.

        A page that an earlier run read is taken while it is fresh, or when the index says that it is
        unchanged.
        """
        if name not in self._read:
            self._read[name] = self._listing(name)
            self._kept[name] = self._asked[name] = None  # pages are large
        return self._read[name]

    def metadata(self, file: ListedFile) -> bytes:
        """From the file beside it, else by ranges from its end, else from the whole of it."""
        return self._reader.metadata(file)

    def locked(self, file: ListedFile) -> LockedWheel | LockedSdist:
        """Hash and size as listed; what the listing leaves out, from the file itself."""
        return self._reader.locked(file)

    def names(self) -> Sequence[str]:
        """Read the front page, unless it is huge."""
        if self._client.offline:
            return ()
        answer = self._client.get(self.address, _ACCEPT, method="HEAD")
        if answer.status == 404:
            raise SourceFailed(
                f"the source '{self.name}' is not an index",
                because=[f"{self.address} answers 404, for its front page too"],
                note="check its address: that of an index often ends in /simple/",
            )
        if answer.status != 200 or not _is_small(answer):
            return ()
        answer = self._client.get(self.address, _ACCEPT)
        try:
            return parse_names_json(answer.body) if _is_json(answer) else parse_names_html(answer.body)
        except NotAnIndexPage:
            return ()

    def _begin(self, name: NormalizedName) -> "Future[HttpAnswer] | None":
        kept = self._kept[name] = self._pages.recall(self._page(name))
        if kept is not None and ((kept.fresh and not self._refresh) or self._client.offline):
            return None
        known = {"If-None-Match": kept.etag} if kept is not None and kept.etag else {}
        return self._client.begin(self._page(name), {**_ACCEPT, **known})

    def _page(self, name: NormalizedName) -> str:
        return f"{self.address}{name}/"

    def _listing(self, name: NormalizedName) -> Listing | None:
        address, asked = self._page(name), self.ask_listing(name)
        kept = self._kept[name]
        if asked is None and kept is not None:
            return kept.listing(name, self.name)
        if name in self._read:  # another thread was faster
            return self._read[name]
        answer = awaited(asked) if asked is not None else self._client.get(address, _ACCEPT)
        if answer.status == 304 and kept is not None:
            self._pages.renew(address, kept, answer.headers)
            return kept.listing(name, self.name)
        if answer.status == 404:
            return None
        if answer.status != 200:
            raise refused(answer.address, answer.status)
        content = hashlib.sha256(answer.address.encode() + b"\n" + answer.body).hexdigest()
        if kept is not None and kept.content == content:
            self._pages.renew(address, kept, answer.headers)
            return kept.listing(name, self.name)
        parse = parse_json if _is_json(answer) else parse_html
        try:
            listing = parse(answer.body, name=name, source=self.name, address=answer.address)
        except NotAnIndexPage as error:
            raise SourceFailed(
                f"the source '{self.name}' is not an index",
                because=[answer.address, str(error)],
                note="check its address: that of an index often ends in /simple/",
            ) from error
        self._pages.keep(address, listing, content, answer.headers)
        return listing


def _is_small(answer: HttpAnswer) -> bool:
    size = announced_size(answer.headers)
    return size is not None and size < _MOST_NAMES


def _is_json(answer: HttpAnswer) -> bool:
    kind = answer.headers.get("content-type", "").partition(";")[0].strip()
    return kind in (_JSON, "application/json")
