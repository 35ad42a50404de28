"""Wheels that teammates built from source, in a folder or on a server, by the identities of their builds."""

from collections.abc import Mapping
from functools import cached_property

from rabbet.core.limits import MOST_PAGE
from rabbet.core.model.lock import LockedWheel
from rabbet.disk.regular_file import is_there, read_regular
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import joined, shown
from rabbet.net.http.client import HttpClient
from rabbet.net.http.failures import refused
from rabbet.net.local_file import local_path
from rabbet.python.formats.built_wheels import BUILDS_FILE, BuiltWheel, NotBuiltWheels, read_built_wheels

__all__ = ["TeamBuilds"]

_NOT_THERE = (404, 410)


class TeamBuilds:
    """One place that holds such wheels; `address` is that of its folder, and ends with a slash."""

    def __init__(self, name: str, address: str, client: HttpClient) -> None:
        self._name = name
        self._address = address
        self._client = client

    def wheel(self, identity: str) -> LockedWheel | None:
        """The wheel of a build with this identity (`Unbuilt.digest`). Raises `SourceFailed`."""
        wheel = self._wheels.get(identity)
        if wheel is None:
            return None
        url = joined(self._address, wheel.place).text
        return LockedWheel(filename=wheel.filename, sha256=wheel.sha256, size=wheel.size, url=url)

    @cached_property
    def _wheels(self) -> Mapping[str, BuiltWheel]:
        """By identity; none before somebody has carried the first one here."""
        content = self._content()
        if content is None:
            return {}
        try:
            return {wheel.identity: wheel for wheel in read_built_wheels(content)}
        except NotBuiltWheels as error:
            raise SourceFailed(
                f"the builds of '{self._name}' can't be understood",
                because=[shown(self._address) + BUILDS_FILE, str(error)],
                note="correct its address in pyproject.toml, or carry the builds to a new folder",
            ) from error

    def _content(self) -> bytes | None:
        address = self._address + BUILDS_FILE
        path = local_path(address)
        if path is None:
            answer = self._client.get(address)
            if answer.status in _NOT_THERE:
                return None
            if answer.status != 200:
                raise refused(address, answer.status)
            return answer.body
        if not is_there(path):
            return None
        try:
            return read_regular(path, most=MOST_PAGE)
        except OSError as error:
            raise SourceFailed(
                f"the builds of '{self._name}' can't be read", because=[f"{path}: {error.strerror or error}"]
            ) from error
