"""A final pass that raises (or lowers) single libraries while all others stay.

The search takes the newest release whenever it chooses, yet after a jump back a library may be left lower
than it has to be. Polishing needs no search: a release may take another's place if everyone who asks for the
library admits it, and what it needs is already chosen. Each step moves a version one way, so it ends.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence

from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declared
from rabbet.core.model.release import Candidate, Rejected
from rabbet.core.needs.need import Need, Part
from rabbet.core.needs.walk import parts_reached
from rabbet.core.solve.problem.problem import Problem
from rabbet.core.solve.problem.provider import Policy

__all__ = ["better_alone", "parts_of", "polished"]

Chosen = Mapping[NormalizedName, Candidate]


def polished(
    problem: Problem, declared: Sequence[Declared], chosen: Chosen, policy: Policy
) -> tuple[dict[NormalizedName, Candidate], frozenset[Part]]:
    """The chosen releases, moved as far as single moves go, and the parts that are still asked for.

    Libraries that have the version which the policy prefers stay. What nobody asks for any more after a move
    is dropped.
    """
    current = dict(chosen)
    roots = [
        requirement.need
        for requirement in declared
        if problem.counts(requirement.need) and not requirement.limit
    ]
    while True:
        parts = parts_of(problem, roots, current)
        current = {name: current[name] for name in sorted({name for name, _ in parts})}
        moved = next(better_alone(problem, roots, current, policy), None)
        if moved is None:
            return current, parts
        current[moved.name] = moved


def better_alone(
    problem: Problem, roots: Sequence[Need], chosen: Chosen, policy: Policy
) -> Iterator[Candidate]:
    """Each release that the policy likes better and that could be chosen while all the others stay."""
    parts = parts_of(problem, roots, chosen)
    asked = [*roots, *(need for part in sorted(parts) for need in problem.needs(part, chosen[part[0]]))]
    admitted: dict[NormalizedName, int] = {}
    for need in asked:
        name = need.name
        admitted[name] = admitted.get(name, -1) & problem.mask(need)
    for name in sorted(chosen):
        if chosen[name].version in policy.likes(name):
            continue
        releases, allowed = problem.candidates(name).releases, admitted[name] & problem.limit(name)
        present = releases.index(chosen[name])
        better = range(present) if name in policy.lowest else range(len(releases) - 1, present, -1)
        for position in better:
            if allowed >> position & 1 and _fits(problem, releases[position], chosen, parts):
                yield releases[position]
                break


def parts_of(problem: Problem, roots: Iterable[Need], chosen: Chosen) -> frozenset[Part]:
    """The libraries and extras reached from these requirements."""
    return parts_reached(roots, lambda part: problem.needs(part, chosen[part[0]]))


def _fits(problem: Problem, release: Candidate, chosen: Chosen, parts: frozenset[Part]) -> bool:
    """Whether all that this release needs is chosen already."""
    if isinstance(problem.metadata(release), Rejected):
        return False
    replaced = {**chosen, release.name: release}
    own = [part for part in parts if part[0] == release.name]
    return all(_met(problem, need, replaced, parts) for part in own for need in problem.needs(part, release))


def _met(problem: Problem, need: Need, chosen: Chosen, parts: frozenset[Part]) -> bool:
    if need.url is not None or need.name not in chosen:
        return False
    position = problem.candidates(need.name).releases.index(chosen[need.name])
    return bool(problem.mask(need) >> position & 1) and parts.issuperset(need.parts)
