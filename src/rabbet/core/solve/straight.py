"""The solution that needs no search: each library at the release that the policy tries first.

That is the best liked version, or the newest usable release that a requirement admits. If all of them go
together, the search would find the same: it decides on what the policy tries first wherever that is still
possible, and what belongs to a solution stays possible while all decisions belong to it too. So nothing is in
conflict, nothing that is kept has to move, and the final pass finds nothing to raise. Most targets of most
locks are like that, as what is liked are the versions of the lock before and those of other targets.
"""

from packaging.utils import NormalizedName

from rabbet.core.model.release import Candidate, Rejected
from rabbet.core.needs.need import Need, Part
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.problem.problem import Problem
from rabbet.core.solve.problem.provider import Policy

__all__ = ["straight_solution"]


def straight_solution(problem: Problem, policy: Policy) -> Solution | None:
    """The solution of a fresh problem in which everyone gets what is tried first; `None` if it is none.

    A policy that raises or lowers libraries asks for more than that, and gets `None`. So does one that likes
    nothing: it knows too little for a walk that breaks off not to have asked for what nobody needs.
    """
    if policy.raised or policy.lowest or not (policy.kept or policy.preferred):
        return None
    chosen: dict[NormalizedName, Candidate] = {}
    needs: dict[Part, tuple[Need, ...]] = {}
    waiting = list(problem.open())
    for need in waiting:  # grows meanwhile
        release = _first(problem, policy, need, chosen.get(need.name))
        if release is None:
            return None
        chosen[need.name] = release
        for part in need.parts:
            if part not in needs:
                needs[part] = problem.needs(part, release)
                if not all(map(problem.may_come, needs[part])):
                    return None
                problem.expect(needs[part])
                waiting += needs[part]
    return Solution(
        target=problem.target, chosen=dict(sorted(chosen.items())), needs=dict(sorted(needs.items()))
    )


def _first(problem: Problem, policy: Policy, need: Need, chosen: Candidate | None) -> Candidate | None:
    """The release that the policy tries first of those that a requirement and the project's limits admit.

    `None` without one, if another one is `chosen` already, and for one that has to be built before its
    requirements are known: whether that is worth it the search decides.
    """
    candidates, likes = problem.candidates(need.name), policy.likes(need.name)
    admitted = problem.mask(need) & problem.limit(need.name)
    if likes:
        admitted &= 1 << candidates.place_of(likes[0])
    while admitted:
        place = admitted.bit_length() - 1
        release = candidates.releases[place]
        if release is chosen:
            return release
        if release.only_source and not likes:
            return None
        if not isinstance(problem.metadata(release), Rejected):
            return release if chosen is None else None
        admitted ^= 1 << place
    return None
