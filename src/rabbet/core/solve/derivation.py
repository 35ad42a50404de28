"""A refutation in plain sentences: only the facts that matter, each once, from the project outwards."""

from collections import defaultdict
from collections.abc import Iterator

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name
from packaging.version import Version

from rabbet.core.solve.incompatibility import Demand, Incompatibility, Learned, Unusable
from rabbet.core.solve.problem import ROOT
from rabbet.core.solve.solver import Refutation

__all__ = ["clash", "reasons"]

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
    demands: defaultdict[tuple[int, str, str], list[Version]] = defaultdict(list)
    unusable: defaultdict[tuple[int, str, str], list[Version]] = defaultdict(list)
    asked: dict[str, Requirement] = {}
    problem = refutation.problem
    for fact in facts(refutation):
        if isinstance(fact.cause, Demand):
            _note_demand(fact, refutation, project, demands)
            asked[canonicalize_name(fact.cause.requirement.name)] = fact.cause.requirement
        elif isinstance(fact.cause, Unusable):
            slot, bit = fact.terms[0]
            key = (problem.depth[slot], problem.slots[slot].name, fact.cause.reason)
            unusable[key].append(problem.candidate(slot, bit).version)
    lines = [
        f"{subject} {_versions(versions)}needs {requirement}"
        if versions
        else f"{subject} needs {requirement}"
        for (_, subject, requirement), versions in sorted(demands.items())
    ]
    lines += [
        f"{name} {_versions(versions)}can't be used: {reason}"
        for (_, name, reason), versions in sorted(unusable.items())
    ]
    lines += [line for requirement in _by_name(asked) for line in _nothing_admitted(refutation, requirement)]
    return tuple(lines)


def clash(refutation: Refutation) -> tuple[str, ...]:
    """The names of the libraries on which requirements clash, for the headline."""
    counts: defaultdict[str, set[str]] = defaultdict(set)
    for fact in facts(refutation):
        if isinstance(fact.cause, Demand):
            name = canonicalize_name(fact.cause.requirement.name)
            counts[name].add(f"{fact.cause.requirer} {fact.cause.requirement.specifier}")
    contested = sorted(name for name, requirers in counts.items() if len(requirers) > 1)
    return tuple(contested or sorted(counts))


def _note_demand(
    fact: Incompatibility,
    refutation: Refutation,
    project: str,
    demands: defaultdict[tuple[int, str, str], list[Version]],
) -> None:
    """Group one demand with those of the requirer's other releases that say the same."""
    problem, cause = refutation.problem, fact.cause
    if not isinstance(cause, Demand):
        return
    if cause.requirer == ROOT:
        subject = f"group {cause.group} of {project}" if cause.group else project
        demands.setdefault((0, subject, _bare(cause.requirement)), [])
        return
    slot, bit = next(term for term in fact.terms if problem.slots[term[0]] == cause.requirer)
    key = (problem.depth[slot], str(cause.requirer), _bare(cause.requirement))
    demands[key].append(problem.candidate(slot, bit).version)


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
        offered = _versions([release.version for release in found.releases]).strip()
        yield f"of {name} there is {offered}"


def _by_name(asked: dict[str, Requirement]) -> list[Requirement]:
    return [asked[name] for name in sorted(asked)]


def _bare(requirement: Requirement) -> str:
    """A requirement without its marker, which has done its work by now."""
    extras = f"[{','.join(sorted(requirement.extras))}]" if requirement.extras else ""
    return f"{requirement.name}{extras}{requirement.specifier}"


def _versions(versions: list[Version]) -> str:
    """Such as `2.0, 2.1 ` or `1.0 … 3.2 (17 releases) `, with a space to join on; empty for none."""
    ordered = sorted(set(versions))
    if not ordered:
        return ""
    if len(ordered) > _SHOWN_VERSIONS:
        return f"{ordered[0]} … {ordered[-1]} ({len(ordered)} releases) "
    return ", ".join(str(version) for version in ordered) + " "
