"""The links of an HTML page, and the version that the page announces (PEP 503, PEP 629)."""

from html.parser import HTMLParser

__all__ = ["LinkParser"]


class LinkParser(HTMLParser):
    """Collects the attributes of all links."""

    def __init__(self) -> None:
        super().__init__()
        self.links: list[dict[str, str | None]] = []
        self.version = "1.0"
        self.is_html = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Note one tag."""
        attributes = dict(attrs)
        self.is_html = self.is_html or tag in ("html", "head", "body", "a")
        if tag == "a":
            self.links.append(attributes)
        elif tag == "meta" and attributes.get("name") == "pypi:repository-version":
            self.version = attributes.get("content") or self.version
