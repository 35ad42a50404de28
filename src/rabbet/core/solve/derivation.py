"""A refutation in plain sentences: only the facts that matter, each once, from the project outwards."""

from collections import defaultdict
from collections.abc import Iterator
from typing import TypeAlias

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name
from packaging.version import InvalidVersion, Version

from rabbet.core.solve.incompatibility import Demand, Incompatibility, Learned, Unusable
from rabbet.core.solve.problem import ROOT
from rabbet.core.solve.solver import Refutation
from rabbet.core.wording import requirement_text

__all__ = ["clash", "facts", "reasons"]

_Pair: TypeAlias = tuple[int, str, str]  # depth and name of the requirer, and what it requires

_SHOWN_VERSIONS = 4


def facts(refutation: Refutation) -> Iterator[Incompatibility]:
    """The stated incompatibilities from which the refutation was derived, each once."""
    seen: set[int] = set()
    waiting = [refutation.root]
    while waiting:
        one = waiting.pop()
        if id(one) in seen:
            continue
        seen.add(id(one))
        if isinstance(one.cause, Learned):
            waiting += [one.cause.right, one.cause.left]
        else:
            yield one


def reasons(refutation: Refutation, project: str) -> tuple[str, ...]:
    """One sentence for each fact that the refutation rests on, what is nearest to the project first."""
    demands: defaultdict[_Pair, dict[Version, Requirement]] = defaultdict(dict)
    unusable: defaultdict[tuple[int, str, str], list[Version]] = defaultdict(list)
    own: set[str] = set()
    asked: dict[str, Requirement] = {}
    problem = refutation.problem
    for fact in facts(refutation):
        cause = fact.cause
        if isinstance(cause, Unusable):
            slot, bit = fact.terms[0]
            key = (problem.depth[slot], problem.slots[slot].name, cause.reason)
            unusable[key].append(problem.candidate(slot, bit).version)
        elif isinstance(cause, Demand):
            asked[canonicalize_name(cause.requirement.name)] = cause.requirement
            if cause.requirer == ROOT:
                maker = f"group {cause.group} of {project}" if cause.group else project
                own.add(f"{maker} needs {requirement_text(cause.requirement, marker=False)}")
            else:
                slot, bit = next(term for term in fact.terms if problem.slots[term[0]] == cause.requirer)
                pair = (problem.depth[slot], str(cause.requirer), cause.requirement.name)
                demands[pair][problem.candidate(slot, bit).version] = cause.requirement
    lines = sorted(own)
    for (_, requirer, _), by_version in sorted(demands.items()):
        lines += _demands(requirer, by_version)
    lines += [
        f"{name} {_versions(versions)} can't be used: {reason}"
        for (_, name, reason), versions in sorted(unusable.items())
    ]
    lines += [line for name in sorted(asked) for line in _nothing_admitted(refutation, asked[name])]
    return tuple(lines)


def _demands(requirer: str, by_version: dict[Version, Requirement]) -> Iterator[str]:
    """What a library's releases ask of another one: a sentence for those that ask the same."""
    same: defaultdict[str, list[Version]] = defaultdict(list)
    for version in sorted(by_version):
        same[requirement_text(by_version[version], marker=False)].append(version)
    if len(same) > _SHOWN_VERSIONS:
        first, *_, last = same
        yield f"{requirer} {_versions(list(by_version))} need, each its own, from {first} to {last}"
        return
    for requirement, versions in same.items():
        yield f"{requirer} {_versions(versions)} {'need' if len(versions) > 1 else 'needs'} {requirement}"


def clash(refutation: Refutation) -> tuple[str, ...]:
    """The names of the libraries on which requirements clash, for the headline."""
    counts: defaultdict[str, set[str]] = defaultdict(set)
    for fact in facts(refutation):
        if isinstance(fact.cause, Demand):
            name = canonicalize_name(fact.cause.requirement.name)
            counts[name].add(f"{fact.cause.requirer} {fact.cause.requirement.specifier}")
    contested = sorted(name for name, requirers in counts.items() if len(requirers) > 1)
    return tuple(contested or sorted(counts))


def _nothing_admitted(refutation: Refutation, requirement: Requirement) -> Iterator[str]:
    """What there is of a library, when a requirement admits none of it."""
    problem = refutation.problem
    name = canonicalize_name(requirement.name)
    found = problem.candidates(name)
    if not found.known:
        yield f"no source knows {name}"
    elif not found.releases:
        yield f"no release of {name} can be used here: " + "; ".join(
            f"{aside.version}: {aside.reason}" for aside in found.aside[-_SHOWN_VERSIONS:]
        )
    elif not problem.mask(requirement):
        offered = _versions([release.version for release in found.releases])
        yield f"of {name} there is {offered}"
        matching = [one for one in found.aside if _contains(requirement, one.version)]
        yield from (
            f"{name} {one.version} can't be used here: {one.reason}" for one in matching[-_SHOWN_VERSIONS:]
        )


def _contains(requirement: Requirement, version: str) -> bool:
    """Whether a release that was set aside would be asked for; it may be known by its file's name only."""
    try:
        return requirement.specifier.contains(version, prereleases=True)
    except InvalidVersion:
        return False


def _versions(versions: list[Version]) -> str:
    """Such as `2.0, 2.1` or `1.0 … 3.2 (17 releases)`."""
    ordered = sorted(set(versions))
    if len(ordered) > _SHOWN_VERSIONS:
        return f"{ordered[0]} … {ordered[-1]} ({len(ordered)} releases)"
    return ", ".join(str(version) for version in ordered)
