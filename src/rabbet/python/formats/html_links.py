"""The links of an HTML page, and the version that the page announces (PEP 503, PEP 629)."""

from html.parser import HTMLParser

from rabbet.core.limits import MOST_ADDRESS, MOST_FILES

__all__ = ["LinkParser", "unreadable"]

# A link has two tags, and often a line break; a few attributes, parts of an address, and escapes.
_MOST_MARKS = {
    b"<": 4 * MOST_FILES,
    **dict.fromkeys((b" ", b"\t", b"\n", b"\r", b"/", b"&"), 10 * MOST_FILES),
}
_LONGEST_TAG = 4 * MOST_ADDRESS  # characters: a link's address and what else is told of it
_WANTED = frozenset(
    ("href", "data-requires-python", "data-yanked", "data-core-metadata", "data-dist-info-metadata")
)


def unreadable(content: bytes) -> str | None:
    """Why a page would take the parser minutes or fill the memory; `None` if it would not."""
    for mark, most in _MOST_MARKS.items():
        if content.count(mark) > most:
            return f"it holds {mark.decode()!r} more than {most} times"
    if any(len(tag) > _LONGEST_TAG and b">" not in tag[:_LONGEST_TAG] for tag in content.split(b"<")[1:]):
        return f"it holds a tag of more than {_LONGEST_TAG} characters"
    return None


class LinkParser(HTMLParser):
    """Collects what counts of all links; raises `ValueError` where there are more than any library has."""

    def __init__(self) -> None:
        super().__init__()
        self.links: list[dict[str, str | None]] = []
        self.version = "1.0"
        self.is_html = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Note one tag."""
        self.is_html = self.is_html or tag in ("html", "head", "body", "a")
        if tag == "a":
            self.links.append({name: value for name, value in attrs if name in _WANTED})
            if len(self.links) > MOST_FILES:
                raise ValueError(f"it holds more than {MOST_FILES} links")
        elif tag == "meta" and dict(attrs).get("name") == "pypi:repository-version":
            self.version = dict(attrs).get("content") or self.version
