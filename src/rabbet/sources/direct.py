"""Files that the declaration names by their address (PEP 508, direct references)."""

from collections.abc import Iterable, Mapping, Sequence
from urllib.parse import unquote, urlsplit

from packaging.requirements import Requirement
from packaging.utils import NormalizedName, canonicalize_name

from rabbet.core.file_name import parse_file_name
from rabbet.core.model.lock import LockedFile
from rabbet.core.model.release import ListedFile, Listing
from rabbet.core.shown_text import without_credentials
from rabbet.errors import NotUnderstood
from rabbet.formats.requirement import is_file
from rabbet.sources.file_reader import FileReader

__all__ = ["DirectSource", "direct_addresses"]


def direct_addresses(requirements: Iterable[Requirement]) -> Mapping[NormalizedName, str]:
    """The address of each library that is required from one, of a file or a repository.

    Raises `NotUnderstood` for two addresses of one library, and for a file of another library.
    """
    found: dict[NormalizedName, str] = {}
    for requirement in requirements:
        if requirement.url is None:
            continue
        name = canonicalize_name(requirement.name)
        if found.setdefault(name, requirement.url) != requirement.url:
            raise NotUnderstood(
                f"{name} is declared from two addresses",
                because=[without_credentials(one) for one in (found[name], requirement.url)],
            )
        if is_file(requirement.url):
            parsed = parse_file_name(_filename(requirement.url), name)
            if isinstance(parsed, str) or parsed.name != name:
                raise NotUnderstood(
                    f"what {name} is declared from is no wheel or source archive of that name",
                    because=[without_credentials(requirement.url)],
                )
    return found


class DirectSource:
    """Knows exactly the libraries that are required from the address of a file."""

    name = "declared addresses"
    index: str | None = None

    def __init__(self, addresses: Mapping[NormalizedName, str], reader: FileReader) -> None:
        self._addresses = addresses
        self._reader = reader

    def listing(self, name: NormalizedName) -> Listing | None:
        """The one file of the library."""
        address = self._addresses.get(name, "")
        filename = _filename(address)
        parsed = parse_file_name(filename, name)
        if isinstance(parsed, str):
            return None
        file = ListedFile.named(parsed, filename, address, self.name)
        return Listing(name=name, source=self.name, files=(file,))

    def metadata(self, file: ListedFile) -> bytes:
        """Read from the file, or by ranges."""
        return self._reader.metadata(file)

    def locked(self, file: ListedFile) -> LockedFile:
        """Hash and size come from the content."""
        return self._reader.locked(file)

    def names(self) -> Sequence[str]:
        """The libraries that are required from an address."""
        return sorted(self._addresses)


def _filename(address: str) -> str:
    return unquote(urlsplit(address).path.rpartition("/")[2])
