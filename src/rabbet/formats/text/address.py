"""Addresses (RFC 3986): taken apart at this one place, which refuses what is not one.

What a user put before the `@` is kept apart from the first moment on: no text that is made of an `Address`
holds it, so it can't get into the store, the lock or a message.
"""

import posixpath
import re
from functools import lru_cache
from typing import NamedTuple
from urllib.parse import parse_qsl, quote, unquote, urljoin, urlsplit, urlunsplit

from rabbet.core.limits import MOST_ADDRESS

__all__ = [
    "Address",
    "NotAnAddress",
    "hidden",
    "is_address",
    "joined",
    "linked",
    "moved",
    "parse_address",
    "shown",
]

_LONGEST_HOST = 255  # characters (RFC 1035)
_KEPT = "!$%&'()*+,/:;=?@[]~"  # what has a meaning in an address, or stands for itself
_FAR = ("http", "https")
_OWN = re.compile(r"localhost|::1|127(\.\d{1,3}){3}")  # this machine (RFC 6761, RFC 4291, RFC 1122)


class NotAnAddress(ValueError):
    """A text that is no address, and why; the message does not repeat the text, which may hold a secret."""


class Address(NamedTuple):
    """An address in parts. `host` has the port, if one is given; `credentials` are `user:password`, or empty.

    With `ssh` the user's name is a part of the host: there it is no secret.
    """

    scheme: str
    host: str
    path: str
    query: str
    fragment: str
    credentials: str

    @property
    def text(self) -> str:
        """The address as it may be asked, shown and written down: without credentials and fragment."""
        return urlunsplit((self.scheme, self.host, self.path, self.query, ""))

    @property
    def sent(self) -> str:
        """The same as it is sent: in ASCII (RFC 3987, section 3.1)."""
        if self.text.isascii():
            return self.text
        host = self.host if self.host.isascii() else self.host.encode("idna").decode()
        path, query = (quote(part, safe=_KEPT) for part in (self.path, self.query))
        return urlunsplit((self.scheme, host, path, query, ""))

    @property
    def origin(self) -> str:
        """Scheme, host and port: what credentials belong to (RFC 6454)."""
        return f"{self.scheme}://{self.host}".lower()

    @property
    def hostname(self) -> str:
        """The host without a port."""
        return urlsplit(f"//{self.host}").hostname or ""

    @property
    def is_private(self) -> bool:
        """Whether nobody can read on the way what is sent: it is encrypted, or stays on this machine."""
        return self.scheme.endswith(("https", "ssh")) or bool(_OWN.fullmatch(self.hostname))

    @property
    def filename(self) -> str:
        """The last part of the path, its escapes resolved."""
        return unquote(self.path.rpartition("/")[2])

    @property
    def marks(self) -> dict[str, str]:
        """The fragment behind the `#`, such as `sha256=…&subdirectory=lib`."""
        return dict(parse_qsl(self.fragment, keep_blank_values=True))


def is_address(text: str) -> bool:
    """Whether a text is meant as an address, rather than as the path of a folder."""
    scheme, colon, rest = text.partition(":")
    return bool(colon) and (rest.startswith("//") or scheme.lower() == "file")


@lru_cache(maxsize=4096)
def parse_address(text: str) -> Address:
    """Take an address apart. Raises `NotAnAddress`."""
    if len(text) > MOST_ADDRESS:
        raise NotAnAddress(f"it has {len(text)} characters")
    if not text.isprintable() or " " in text:
        raise NotAnAddress("it holds a space or a control character; in an address these are escaped, as %20")
    try:
        parts = urlsplit(text)
        user, _, host = parts.netloc.rpartition("@")
        port = parts.port
        host.encode("idna" if not host.isascii() else "ascii")
    except ValueError as error:
        raise NotAnAddress(_reason(error)) from error
    if parts.scheme in _FAR and (not parts.hostname or len(host) > _LONGEST_HOST or port == 0):
        raise NotAnAddress("it names no host")
    if parts.scheme.endswith("ssh") and user:
        host, user = f"{user.partition(':')[0]}@{host}", ""
    return Address(parts.scheme, host, parts.path, parts.query, parts.fragment, unquote(user))


def _reason(error: ValueError) -> str:
    """Why the standard library refuses it, without the text that its messages repeat."""
    told = str(error)
    if "Port" in told or "port" in told:
        return "what follows its host's colon is not a port; in a password a '/' is written as %2F"
    return "its host can't be one"


def joined(base: str, link: str) -> Address:
    """The address that a link on a page leads to. Raises `NotAnAddress`."""
    try:
        return parse_address(urljoin(base, link))
    except NotAnAddress:
        raise
    except ValueError as error:
        raise NotAnAddress(_reason(error)) from error


def linked(base: str, link: str) -> Address:
    """The address that a link in a document leads to; from http and https only to these.

    What comes over the network can't lead into this machine's files. Raises `NotAnAddress`.
    """
    address = joined(base, link)
    if parse_address(base).scheme in _FAR and address.scheme not in _FAR:
        raise NotAnAddress("it is neither https: nor http:")
    return address


def moved(address: str, old: str, new: str) -> str | None:
    """The address with the same path from `new` as the address has from `old`, both the addresses of folders.

    `None` where `old` and the address are of two origins, the path leads above the root, or one of them is
    no address.
    """
    try:
        at, before, now = parse_address(address), parse_address(old), parse_address(new)
    except NotAnAddress:
        return None
    if at.origin != before.origin:
        return None
    path = posixpath.relpath(at.path or "/", before.path or "/")
    climbs = path.split("/").count("..")
    if climbs > now.path.rstrip("/").count("/"):
        return None
    return joined(now.text.rstrip("/") + "/", path).text


def shown(text: str) -> str:
    """An address as it may be shown, even where it is not valid: then little more than its scheme."""
    try:
        return parse_address(text).text
    except NotAnAddress:
        return hidden(text)


def hidden(text: str) -> str:
    """A text that is no address, without any part that may be a secret, for showing."""
    scheme, colon, rest = text[:200].partition("://")
    return f"{scheme}://…{rest.rpartition('@')[2][:60]}" if colon else text[:60]
