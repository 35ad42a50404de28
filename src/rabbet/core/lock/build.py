"""Solutions, one for each target → one lock.

An entry that is chosen for all targets alike carries no marker; one that is not carries the shortest marker
that tells exactly its targets from the others. Sections come on top: what the project itself does not need is
marked with the groups and extras that do.
"""

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Declaration, Section
from rabbet.core.lock.marker import separating_marker
from rabbet.core.model.lock import Artifact, Lock, LockedBuild, LockedLibrary, LockedRuntime, LockedSdist
from rabbet.core.model.release import Candidate
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need
from rabbet.core.needs.walk import parts_reached
from rabbet.core.needs.wording import need_text, specifiers_text
from rabbet.core.solve.answer import Solution

__all__ = ["Solved", "build_lock", "merged_builds"]


class Solved(Struct, frozen=True, kw_only=True):
    """A solution with the artifacts to lock for its libraries, the best for its target first.

    `pythons` are the constraints on Python from metadata, for some sources do not list them with files.
    """

    solution: Solution
    artifacts: Mapping[NormalizedName, Sequence[Artifact]]
    pythons: Mapping[NormalizedName, SpecifierSet] = field(default_factory=dict)


def build_lock(
    declaration: Declaration,
    runtimes: tuple[LockedRuntime, ...],
    settled: Sequence[Solved],
    indexes: Mapping[str, str],
) -> Lock:
    """Merge the solutions of all targets into a lock.

    `indexes` gives the address of each source that is an index, by its name.
    """
    needed = [_needed_by(declaration, part.solution) for part in settled]
    entries = sorted({(n, c.version) for part in settled for n, c in part.solution.chosen.items()})
    targets = [part.solution.target for part in settled]
    dependencies = [_dependencies(part.solution) for part in settled]
    return Lock(
        requires_python=specifiers_text(declaration.python) or None,
        environments=tuple(target.environment for target in targets),
        groups=tuple(sorted(declaration.groups)),
        extras=tuple(sorted(declaration.extras)),
        libraries=tuple(
            _entry(name, version, settled, dependencies, indexes, _marker(name, version, settled, needed))
            for name, version in entries
        ),
        fingerprint=declaration.fingerprint(),
        runtimes=runtimes,
        limits=tuple(sorted(need_text(limit) for limit in declaration.limits)),
        without=tuple(sorted(declaration.without)),
        corrections=tuple(sorted(str(correction) for correction in declaration.corrections)),
        pins=tuple(
            sorted(
                {requirement.need.name for requirement in declaration.declared() if requirement.need.is_pin}
            )
        ),
        told=declaration.told,
    )


def merged_builds(builds: Iterable[LockedBuild]) -> tuple[LockedBuild, ...]:
    """Each build once, sorted; what several others need it for may count on different targets."""
    found: dict[tuple[NormalizedName, str, bool], LockedBuild] = {}
    for build in builds:
        key = (build.name, str(build.version), build.own)
        found[key] = _merged(found[key], build) if key in found else build
    return tuple(found[key] for key in sorted(found))


def _merged(build: LockedBuild, other: LockedBuild) -> LockedBuild:
    """The libraries of both, each with the files and the marker of both."""
    found = {(library.name, library.version): library for library in build.libraries}
    for library in other.libraries:
        known = found.setdefault((library.name, library.version), library)
        if known != library:
            markers = dict.fromkeys((known.marker, library.marker))
            found[known.name, known.version] = replace(
                known,
                artifacts=tuple(dict.fromkeys((*known.artifacts, *library.artifacts))),
                dependencies=tuple(sorted({*known.dependencies, *library.dependencies})),
                marker=None if None in markers else " or ".join(f"({marker})" for marker in markers),
            )
    return replace(build, libraries=tuple(found[key] for key in sorted(found)))


def _entry(
    name: NormalizedName,
    version: Version,
    settled: Sequence[Solved],
    dependencies: Sequence[Mapping[NormalizedName, set[NormalizedName]]],
    indexes: Mapping[str, str],
    marker: str,
) -> LockedLibrary:
    """One library at one version, with the files and edges of all targets that chose it."""
    positions = [place for place, part in enumerate(settled) if _chose(part.solution, name, version)]
    choosing = [settled[place] for place in positions]
    chosen = choosing[0].solution.chosen[name]
    artifacts = dict.fromkeys(artifact for part in choosing for artifact in part.artifacts[name])
    edges = {edge for place in positions for edge in dependencies[place][name]}
    return LockedLibrary(
        name=name,
        version=version,
        artifacts=tuple(sorted(artifacts, key=lambda artifact: isinstance(artifact, LockedSdist))),
        dependencies=tuple(sorted(edges)),
        requires_python=_requires_python(
            [part.solution.chosen[name] for part in choosing], choosing[0].pythons.get(name)
        ),
        marker=marker or None,
        index=indexes.get(chosen.source),
        yanked=chosen.withdrawn,
    )


def _requires_python(chosen: Sequence[Candidate], stated: SpecifierSet | None) -> str | None:
    """`requires-python` of an entry: its files' if they agree and it is valid, else its metadata's.

    It is left out where they don't agree: each target was held against the files that serve it.
    """
    told = {file.requires_python for candidate in chosen for file in candidate.files}
    if told <= {None}:
        return specifiers_text(stated) or None if stated is not None else None
    text = told.pop() if len(told) == 1 else None
    try:
        return specifiers_text(SpecifierSet(text)) or None if text else None
    except InvalidSpecifier:
        return None


def _chose(solution: Solution, name: NormalizedName, version: Version) -> bool:
    return name in solution.chosen and solution.chosen[name].version == version


def _marker(
    name: NormalizedName,
    version: Version,
    settled: Sequence[Solved],
    needed: Sequence[Mapping[NormalizedName, frozenset[Section] | None]],
) -> str:
    """The marker of an entry: where the project needs it, and where each section does.

    A section's marker may also hold on targets where the entry is always needed.
    """
    targets: list[Target] = [part.solution.target for part in settled]
    always: set[int] = set()
    by_section: dict[Section, set[int]] = {}
    for position, solved in enumerate(settled):
        if _chose(solved.solution, name, version):
            sections = needed[position][name]
            if sections is None:
                always.add(position)
            for section in sections or ():
                by_section.setdefault(section, set()).add(position)
    together: dict[frozenset[int], list[Section]] = {}
    for section, positions in sorted(by_section.items()):
        together.setdefault(frozenset(positions), []).append(section)
    parts = [separating_marker(targets, frozenset(always))] if always else []
    for where_asked, asking in sorted(together.items(), key=lambda item: item[1]):
        where = separating_marker(targets, where_asked, frozenset(always))
        who = " or ".join(section.marker for section in asking)
        parts.append(_joined(where, who))
    return "" if "" in parts else " or ".join(parts)


def _joined(where: str, who: str) -> str:
    """Both conditions with `and`, in brackets where precedence asks for them."""
    if not where:
        return who
    both = [f"({text})" if " or " in text else text for text in (where, who)]
    return " and ".join(both)


def _needed_by(
    declaration: Declaration, solution: Solution
) -> Mapping[NormalizedName, frozenset[Section] | None]:
    """For each chosen library the sections that need it; `None` for what the project itself needs."""
    default = _reached(solution, declaration.needs)
    by_section = {section: _reached(solution, needs) for section, needs in declaration.sections.items()}
    return {
        name: None
        if name in default
        else frozenset(section for section, reached in by_section.items() if name in reached)
        for name in solution.chosen
    }


def _reached(solution: Solution, roots: Iterable[Need]) -> frozenset[NormalizedName]:
    """The libraries that these requirements need on the solution's target, directly or not."""
    counting = (root for root in roots if solution.target.admits(root.marker))
    return frozenset(name for name, _ in parts_reached(counting, lambda part: solution.needs[part]))


def _dependencies(solution: Solution) -> Mapping[NormalizedName, set[NormalizedName]]:
    """The dependencies of each chosen library with all requested extras, without itself."""
    found: dict[NormalizedName, set[NormalizedName]] = {name: set() for name in solution.chosen}
    for (name, _), needs in solution.needs.items():
        found.setdefault(name, set()).update(need.name for need in needs if need.name != name)
    return found
