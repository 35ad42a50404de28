"""The entry to solving: a declaration's requirements and a provider → a solution or a refutation."""

from collections.abc import Sequence
from dataclasses import dataclass

from rabbet.core.model.declaration import Declared
from rabbet.core.model.solution import Solution
from rabbet.core.model.target import Target
from rabbet.core.solve.incompatibility import Incompatibility
from rabbet.core.solve.policy import Policy
from rabbet.core.solve.polish import polished
from rabbet.core.solve.problem import Problem
from rabbet.core.solve.provider import Provider
from rabbet.core.solve.search import Effort, Search

__all__ = ["Refutation", "solve"]


@dataclass(frozen=True, slots=True)
class Refutation:
    """The proof that there is no solution: an incompatibility without terms and what it was derived from."""

    problem: Problem
    root: Incompatibility


def solve(
    provider: Provider,
    target: Target,
    declared: Sequence[Declared],
    *,
    policy: Policy | None = None,
    effort: Effort | None = None,
) -> Solution | Refutation:
    """Choose releases that meet all requirements on this target: the newest, or as the policy says.

    No single library can be raised to a newer release (those in `policy.lowest`: lowered) while all the
    others stay, except for those that the policy prefers as they are.

    `effort`, when given, is filled with what the search did.
    """
    policy = policy or Policy()
    problem = Problem(provider, target, declared)
    search = Search(problem, policy)
    outcome = search.run()
    if effort is not None:
        effort.decisions, effort.conflicts = search.effort.decisions, search.effort.conflicts
    if isinstance(outcome, Incompatibility):
        return Refutation(problem, outcome)
    found = {problem.slots[slot].name: problem.candidate(slot, bit) for slot, bit in outcome.items()}
    chosen, parts = polished(problem, declared, found, policy)
    needs = {part: problem.needs(part, chosen[part[0]]) for part in sorted(parts)}
    return Solution(target=target, chosen=chosen, needs=needs)
