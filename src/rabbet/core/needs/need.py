"""A need: one requirement on a library, parsed once where its text is read (PEP 508)."""

from typing import TypeAlias

from msgspec import Struct, field
from packaging.markers import Marker
from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName

from rabbet.core.needs.names import library_name

__all__ = ["Need", "Part"]

Part: TypeAlias = tuple[NormalizedName, str]
"""A library and one of its extras; the extra is empty for the library itself."""


class Need(Struct, frozen=True):
    """A requirement on a library: its extras, version specifiers and marker.

    Names are normalized (PEP 503, 685); `spelling` is the library's name as it was written, which makes no
    difference. A need with a `url` asks for what lies there, in place of versions.
    """

    name: NormalizedName
    specifier: SpecifierSet = field(default_factory=SpecifierSet)
    extras: frozenset[NormalizedName] = frozenset()
    marker: Marker | None = None
    url: str | None = None
    spelling: str = ""

    def __eq__(self, other: object) -> bool:
        """However the name is written."""
        return isinstance(other, Need) and self._compared == other._compared

    def __hash__(self) -> int:
        return hash(self._compared)

    @property
    def _compared(self) -> tuple[object, ...]:
        return (self.name, self.specifier, self.extras, self.marker, self.url)

    @classmethod
    def parse(cls, text: str) -> "Need":
        """Read a requirement. Raises `packaging.requirements.InvalidRequirement`."""
        read = Requirement(text)
        return cls(
            name=library_name(read.name),
            specifier=read.specifier,
            extras=frozenset(library_name(extra) for extra in read.extras),
            marker=read.marker,
            url=read.url,
            spelling=read.name,
        )

    @property
    def written_name(self) -> str:
        """The library's name as it was written."""
        return self.spelling or self.name

    @property
    def parts(self) -> list[Part]:
        """The library that is asked for, and those of its extras."""
        return [(self.name, extra) for extra in ("", *sorted(self.extras))]

    @property
    def is_bare(self) -> bool:
        """Whether it is nothing but a name."""
        return not (self.extras or self.specifier or self.url or self.marker)

    @property
    def is_pin(self) -> bool:
        """Whether it leaves a single version to choose from."""
        exact = (clause.version for clause in self.specifier if clause.operator in ("==", "==="))
        return any(not version.endswith(".*") for version in exact)

    def __str__(self) -> str:
        """As the standard writes it, by the name that was written."""
        extras = f"[{','.join(sorted(self.extras))}]" if self.extras else ""
        place = f" @ {self.url}" + (" " if self.marker else "") if self.url else ""
        marker = f"; {self.marker}" if self.marker else ""
        return f"{self.written_name}{extras}{self.specifier}{place}{marker}"
