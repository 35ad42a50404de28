"""What people edit: the runtimes, libraries and sources that a project declares."""

import hashlib
import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet

__all__ = ["Declaration", "Declared", "SourceEntry"]


@dataclass(frozen=True, slots=True, kw_only=True)
class SourceEntry:
    """A place where releases are listed: the address of an index, or a folder of wheels.

    `only` are names or patterns of libraries: these come from here and nowhere else, and no others do.
    """

    name: str
    url: str
    only: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Declared:
    """One requirement and the group that makes it (`None`: the project itself)."""

    requirement: Requirement
    group: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Declaration:
    """A project's declaration, its dependency groups (PEP 735) with their includes resolved.

    `targets` are names of platforms and `pythons` versions such as `3.12` that the lock must serve; empty:
    those of the machine that resolves. `baselines` are the oldest `glibc` and `macos` among them.
    """

    name: str
    python: SpecifierSet
    requirements: tuple[Requirement, ...]
    groups: Mapping[str, tuple[Requirement, ...]]
    sources: tuple[SourceEntry, ...]
    targets: tuple[str, ...] = ()
    pythons: tuple[str, ...] = ()
    baselines: Mapping[str, str] = field(default_factory=dict)

    def declared(self) -> Iterator[Declared]:
        """All requirements with the group that makes them, the project's own first."""
        for requirement in self.requirements:
            yield Declared(requirement=requirement)
        for group, requirements in sorted(self.groups.items()):
            for requirement in requirements:
                yield Declared(requirement=requirement, group=group)

    def fingerprint(self) -> str:
        """A digest of all that bears on the lock, and of nothing else (order and comments do not)."""
        groups = {name: sorted({str(r) for r in content}) for name, content in self.groups.items()}
        content: dict[str, object] = {
            "python": str(self.python),
            "requirements": sorted({str(r) for r in self.requirements}),
            "groups": groups,
            "sources": [[source.name, source.url, *sorted(source.only)] for source in self.sources],
        }
        if self.targets or self.pythons:
            content["targets"] = [sorted(self.targets), sorted(self.pythons), sorted(self.baselines.items())]
        text = json.dumps(content, sort_keys=True, separators=(",", ":"))
        return "sha256:" + hashlib.sha256(text.encode()).hexdigest()
