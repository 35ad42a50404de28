"""A provider from a few lines of text, for tests of the solver."""

from collections.abc import Iterable, Mapping
from functools import cache

from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Declaration, Declared, Section
from rabbet.core.model.release import Candidate, ListedFile, Metadata, Rejected
from rabbet.core.model.target import Target
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.solve.problem.candidates import Candidates

MARKERS = {
    "implementation_name": "cpython",
    "implementation_version": "3.12.1",
    "os_name": "posix",
    "platform_machine": "x86_64",
    "platform_python_implementation": "CPython",
    "platform_release": "6",
    "platform_system": "Linux",
    "platform_version": "1",
    "python_full_version": "3.12.1",
    "python_version": "3.12",
    "sys_platform": "linux",
}
TARGET = Target(platform="linux-x86_64", python=Version("3.12.1"), markers=MARKERS, tags={"py3-none-any": 0})
EMPTY = Declaration(name="hivescale", python=SpecifierSet(), needs=(), groups={}, sources=())
requirement = cache(Need.parse)


def declared(*texts: str) -> list[Declared]:
    """Requirements of the project; `group: requirement` for those of a group, `limit: ` before a limit."""
    parts = [text.rpartition(": ") for text in texts]
    return [
        Declared(need=requirement(text), limit=True)
        if group == "limit"
        else Declared(need=requirement(text), section=Section("group", group) if group else None)
        for group, _, text in parts
    ]


class DictProvider:
    """Releases from a mapping: library → version (a trailing `!` says yanked) → requirements.

    A release whose only requirement is `broken` has metadata that can't be read.
    """

    def __init__(self, releases: Mapping[str, Mapping[str, list[str]]]) -> None:
        self.reads: list[str] = []
        self._needs: dict[tuple[str, Version], list[str]] = {}
        self._candidates: dict[str, Candidates] = {}
        for name, versions in releases.items():
            chosen = sorted(
                (_candidate(name, text.rstrip("!"), yanked=text.endswith("!")) for text in versions),
                key=lambda one: one.version,
            )
            self._candidates[name] = Candidates(name=library_name(name), releases=tuple(chosen))
            for text, needs in versions.items():
                self._needs[name, Version(text.rstrip("!"))] = needs

    def know(self, name: str, rejected: tuple[Rejected, ...]) -> None:
        """Let a library be known of which no release can be used."""
        known = library_name(name)
        self._candidates[known] = Candidates(name=known, releases=(), rejected=rejected)

    def candidates(self, name: NormalizedName) -> Candidates:
        return self._candidates.get(name) or Candidates(name=name, releases=(), known=False)

    def metadata(self, candidate: Candidate) -> Metadata | Rejected:
        self.reads.append(str(candidate))
        needs = self._needs[candidate.name, candidate.version]
        if needs == ["broken"]:
            return Rejected(version=str(candidate.version), reason="its metadata can't be read")
        return Metadata(
            name=candidate.name,
            version=candidate.version,
            requires_python=SpecifierSet(),
            needs=tuple(requirement(need) for need in needs),
            extras=frozenset(),
        )

    def expect(self, requirements: Iterable[Need]) -> None:
        pass


def _candidate(name: str, version: str, *, yanked: bool) -> Candidate:
    wheel = ListedFile(
        filename=f"{name}-{version}-py3-none-any.whl",
        name=library_name(name),
        version=Version(version),
        build=(0, ""),
        tags=frozenset({"py3-none-any"}),
        location="",
        source="test",
        yanked="" if yanked else None,
    )
    return Candidate(name=wheel.name, version=wheel.version, source="test", offered=(wheel,))
