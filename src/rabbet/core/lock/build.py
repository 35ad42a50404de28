"""A solution → a lock."""

from collections.abc import Iterable, Mapping, Sequence

from packaging.requirements import Requirement
from packaging.utils import NormalizedName, canonicalize_name

from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock, LockedLibrary, LockedRuntime, LockedWheel
from rabbet.core.model.release import Candidate
from rabbet.core.model.solution import Part, Solution
from rabbet.core.wording import specifiers_text

__all__ = ["build_lock"]


def build_lock(
    declaration: Declaration,
    runtime: LockedRuntime,
    solution: Solution,
    wheels: Mapping[NormalizedName, Sequence[LockedWheel]],
    indexes: Mapping[str, str],
) -> Lock:
    """Put a solution into the form of a lock.

    `wheels` are each library's files with hash and place; `indexes` gives the address of each source that is
    an index, by its name.
    """
    groups = tuple(sorted(declaration.groups))
    default = _reached(solution, declaration.requirements)
    by_group = {group: _reached(solution, declaration.groups[group]) for group in groups}
    requirements = [one.requirement for one in declaration.declared()]
    direct = {canonicalize_name(one.name) for one in requirements if one.url is not None}
    libraries = tuple(
        LockedLibrary(
            name=name,
            version=candidate.version,
            wheels=tuple(wheels[name]),
            dependencies=_dependencies(solution, name),
            requires_python=candidate.wheels[0].requires_python,
            marker=None if name in default else _marker(group for group in groups if name in by_group[group]),
            index=indexes.get(candidate.wheels[0].source),
            direct=name in direct,
        )
        for name, candidate in _sorted(solution.chosen)
    )
    return Lock(
        requires_python=specifiers_text(declaration.python) or None,
        environments=(solution.target.environment,),
        groups=groups,
        libraries=libraries,
        fingerprint=declaration.fingerprint(),
        runtime=runtime,
        pins=tuple(sorted({canonicalize_name(one.name) for one in requirements if _is_pin(one)})),
    )


def _is_pin(requirement: Requirement) -> bool:
    pinning = [one for one in requirement.specifier if one.operator in ("==", "===")]
    return any(not one.version.endswith(".*") for one in pinning)


def _sorted(chosen: Mapping[NormalizedName, Candidate]) -> list[tuple[NormalizedName, Candidate]]:
    return sorted(chosen.items())


def _reached(solution: Solution, roots: Iterable[Requirement]) -> frozenset[NormalizedName]:
    """The libraries that these requirements need on the solution's target, directly or not."""
    reached: set[Part] = set()
    waiting = [root for root in roots if solution.target.admits(root.marker)]
    while waiting:
        need = waiting.pop()
        name = canonicalize_name(need.name)
        for extra in ("", *(canonicalize_name(extra) for extra in need.extras)):
            if (name, extra) not in reached:
                reached.add((name, extra))
                waiting.extend(solution.needs[name, extra])
    return frozenset(name for name, _ in reached)


def _dependencies(solution: Solution, name: NormalizedName) -> tuple[NormalizedName, ...]:
    """What a library needs with all extras that were asked for, itself left out."""
    needs = (need for (library, _), part in solution.needs.items() if library == name for need in part)
    return tuple(sorted({canonicalize_name(need.name) for need in needs} - {name}))


def _marker(groups: Iterable[str]) -> str:
    return " or ".join(f"'{group}' in dependency_groups" for group in groups)
