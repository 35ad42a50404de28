"""Building from source: build systems, their options, and metadata from builds."""

from collections.abc import Mapping
from typing import Literal, TypeAlias

from msgspec import Struct, field
from packaging.utils import NormalizedName

from rabbet.core.needs.need import Need

__all__ = ["BuildKind", "BuildOptions", "BuildSystem", "Told"]

BuildKind: TypeAlias = Literal["wheel", "editable"]
"""What is built: a `wheel` that holds all it needs (PEP 517), or an `editable` one that refers to the sources
where they lie (PEP 660)."""


class BuildOptions(Struct, frozen=True, kw_only=True):
    """The declared options of one library's build.

    The `variables` are set for its processes, the `settings` handed to its back end (PEP 517,
    `config_settings`), and the `needs` installed into its environment.
    """

    variables: Mapping[str, str] = field(default_factory=dict)
    settings: Mapping[str, str] = field(default_factory=dict)
    needs: tuple[Need, ...] = ()

    @property
    def facts(self) -> list[list[str]]:
        """All of it in a form that is the same for the same content; empty where nothing is given."""
        return [
            *(["variable", *pair] for pair in sorted(self.variables.items())),
            *(["setting", *pair] for pair in sorted(self.settings.items())),
            *(["need", text] for text in sorted(map(str, self.needs))),
        ]


class Told(Struct, frozen=True, kw_only=True):
    """Metadata that only a project's build told, because its declaration leaves it open.

    That is its name, the versions of Python, what it `requires` (PEP 508, with conditions on its extras), and
    its extras. The `state` is a digest of the files that it followed from.
    """

    name: NormalizedName
    python: str
    requires: tuple[str, ...]
    extras: tuple[NormalizedName, ...]
    state: str

    @property
    def facts(self) -> str:
        """The state of the files that the build read."""
        return self.state


class BuildSystem(Struct, frozen=True, kw_only=True):
    """How a source tree is built (PEP 517, 518).

    `requires` is what has to be installed for that, `backend` the object that builds (`MODULE:OBJECT`), and
    `backend_path` the folders of the tree that hold it, where it comes with the sources.
    """

    requires: tuple[Need, ...]
    backend: str
    backend_path: tuple[str, ...] = ()

    @property
    def facts(self) -> list[object]:
        """All of it in a form that is the same for the same content."""
        return [self.backend, list(self.backend_path), sorted({str(need) for need in self.requires})]
