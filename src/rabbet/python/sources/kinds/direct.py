"""Files that the declaration names by their address (PEP 508, direct references)."""

from collections.abc import Iterable, Mapping, Sequence

from packaging.utils import NormalizedName

from rabbet.core.model.lock import LockedArchive
from rabbet.core.model.release import DECLARED_ADDRESS, ListedFile, Listing
from rabbet.core.needs.need import Need
from rabbet.errors import NotUnderstood
from rabbet.formats.text.address import parse_address, shown
from rabbet.formats.text.requirement import is_file
from rabbet.python.choosing.file_name import BadFileName, listed_file, parse_file_name
from rabbet.python.sources.files.file_reader import FileReader

__all__ = ["DirectSource", "direct_addresses"]


def direct_addresses(needs: Iterable[Need]) -> Mapping[NormalizedName, str]:
    """The address of each library that is required from one, of a file or a repository.

    Raises `NotUnderstood` for two addresses of one library, and for a file of another library.
    """
    found: dict[NormalizedName, str] = {}
    for need in needs:
        if need.url is None:
            continue
        name = need.name
        if found.setdefault(name, need.url) != need.url:
            raise NotUnderstood(
                f"{name} is declared from two addresses",
                because=[shown(address) for address in (found[name], need.url)],
            )
        if is_file(need.url):
            try:
                named = parse_file_name(parse_address(need.url).filename, name).name
            except BadFileName:
                named = None
            if named != name:
                raise NotUnderstood(
                    f"what {name} is declared from is not a wheel or source archive of that name",
                    because=[shown(need.url)],
                )
    return found


class DirectSource:
    """Knows exactly the libraries that are required from the address of a file."""

    name = DECLARED_ADDRESS
    index: str | None = None

    def __init__(self, addresses: Mapping[NormalizedName, str], reader: FileReader) -> None:
        self._addresses = addresses
        self._reader = reader

    def listing(self, name: NormalizedName) -> Listing | None:
        """The one file of the library."""
        if name not in self._addresses:
            return None
        address = parse_address(self._addresses[name])
        parsed = parse_file_name(address.filename, name)
        file = listed_file(parsed, address.filename, address.text, self.name)
        file = file._replace(sha256=address.marks.get("sha256"))
        return Listing(name=name, source=self.name, files=(file,))

    def metadata(self, file: ListedFile) -> bytes:
        """Read from the file, or by ranges."""
        return self._reader.metadata(file)

    def locked(self, file: ListedFile) -> LockedArchive:
        """Hash and size come from the content."""
        sha256, size = self._reader.measured(file)
        return LockedArchive(filename=file.filename, sha256=sha256, size=size, url=file.location)

    def names(self) -> Sequence[str]:
        """The libraries that are required from an address."""
        return sorted(self._addresses)
