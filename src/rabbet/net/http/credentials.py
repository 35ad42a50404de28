"""User names and passwords for sources; they are sent to the origin they belong to, and never shown.

Which origin that is (scheme, host and port) is said by the user, not by a project: a clone may call its
source as it likes. For an origin count, in this order: what an address itself holds; the variables
`RABBET_SOURCE_<NAME>_USERNAME` and `_PASSWORD`, if `RABBET_SOURCE_<NAME>_ORIGIN` or the settings say that the
name means this origin; an entry of its host in the user's netrc file, whose `default` counts for origins that
the user named. Nothing is sent where others could read it on the way.
"""

import re
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.disk.regular_file import read_regular
from rabbet.errors import NotUnderstood
from rabbet.formats.text.address import Address, NotAnAddress, is_address, parse_address

if TYPE_CHECKING:
    from netrc import netrc

__all__ = ["Credentials"]

_ORIGIN = re.compile(r"RABBET_SOURCE_([A-Z0-9_]+)_ORIGIN")


class Credentials:
    """Which `user:password` goes to which origin.

    `addresses` are those that a project names, which may hold credentials of their own. `origins` are what
    the user's own files name: an address by the name of a source.
    """

    def __init__(
        self,
        addresses: Iterable[str],
        origins: Mapping[str, str],
        environ: Mapping[str, str],
        netrc_file: Path,
    ) -> None:
        self._by_origin: dict[str, str] = {}
        self._named: set[str] = set()  # origins that the user named
        self._netrc_file = netrc_file
        self._netrc: netrc | None = None
        self._looked = False
        for text in addresses:
            self._note(text, "")
        for name, text in {**origins, **_named_in(environ)}.items():
            origin = self._note(text, _in_variables(name, environ))
            if origin:
                self._named.add(origin)

    def _note(self, text: str, otherwise: str) -> str:
        """Note what an address holds, or what else belongs to it; its origin, empty where there is none."""
        if not is_address(text):
            return ""  # a folder's path
        try:
            address = parse_address(text)
        except NotAnAddress:
            return ""  # opening it reports the error
        known = self._by_origin.get(address.origin) or address.credentials or otherwise
        if known:
            self._by_origin[address.origin] = known
        return address.origin

    def for_address(self, address: Address) -> str | None:
        """The credentials for an address, if any. Raises `NotUnderstood` for a broken netrc file."""
        if not address.is_private:
            return None
        known = self._by_origin.get(address.origin)
        if known:
            return known
        hosts = self._hosts()
        if hosts is None or not (address.hostname in hosts.hosts or address.origin in self._named):
            return None
        entry = hosts.authenticators(address.hostname)
        return f"{entry[0] or entry[1]}:{entry[2]}" if entry else None

    def _hosts(self) -> "netrc | None":
        """The netrc file's hosts, read on first use; `None` without such a file."""
        if self._netrc is None and not self._looked:
            self._looked = True
            try:
                read_regular(self._netrc_file, most=MOST_TEXT_FILE)  # the library would wait for a pipe
            except FileNotFoundError:
                return None
            except OSError as error:
                raise self._unreadable(type(error).__name__) from error
            from netrc import NetrcParseError, netrc  # here: few people have such a file

            try:
                self._netrc = netrc(self._netrc_file)
            except (NetrcParseError, OSError, ValueError) as error:
                said = error.msg if isinstance(error, NetrcParseError) else type(error).__name__
                raise self._unreadable(said) from error
        return self._netrc

    def _unreadable(self, why: str) -> NotUnderstood:
        self._looked = False  # the next caller gets the error too
        return NotUnderstood(f"{self._netrc_file} can't be read", because=[why])


def _named_in(environ: Mapping[str, str]) -> dict[str, str]:
    """The addresses that variables name, by the names of sources as variables spell them."""
    found = ((_ORIGIN.fullmatch(name), value) for name, value in environ.items())
    return {match[1]: value for match, value in found if match}


def _in_variables(name: str, environ: Mapping[str, str]) -> str:
    prefix = "RABBET_SOURCE_" + re.sub(r"[^A-Z0-9]", "_", name.upper())
    user, password = environ.get(f"{prefix}_USERNAME", ""), environ.get(f"{prefix}_PASSWORD", "")
    return f"{user}:{password}" if user or password else ""
