"""The entry to solving: a declaration's requirements and a provider → a solution or a refutation."""

from collections.abc import Sequence

from rabbet.core.declaration.model import Declared
from rabbet.core.model.target import Target
from rabbet.core.solve.answer import Refutation, Solution
from rabbet.core.solve.fewest_moves import with_fewest_moves
from rabbet.core.solve.problem.incompatibility import Incompatibility
from rabbet.core.solve.problem.problem import Problem, Wishes
from rabbet.core.solve.problem.provider import Policy, Provider
from rabbet.core.solve.search.search import Effort, Search
from rabbet.core.solve.straight import straight_solution
from rabbet.core.solve.upgrade_pass import polished

__all__ = ["Refutation", "searched", "solve"]


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
    others stay, except for those that the policy likes as they are.

    `effort`, when given, is filled with what the searches did; where none was needed, that is nothing.
    """
    policy = policy or Policy()
    straight = straight_solution(Problem(provider, target, declared), policy)
    return (
        straight
        if straight is not None
        else searched(provider, target, declared, policy=policy, effort=effort)
    )


def searched(
    provider: Provider,
    target: Target,
    declared: Sequence[Declared],
    *,
    policy: Policy,
    effort: Effort | None = None,
) -> Solution | Refutation:
    """The same by searching, whether or not a solution is found without."""

    def attempt(wishes: Wishes) -> Solution | Refutation:
        problem = Problem(provider, target, declared, wishes)
        search = Search(problem, policy)
        outcome = search.run()
        if effort is not None:
            effort.decisions += search.effort.decisions
            effort.conflicts += search.effort.conflicts
        if isinstance(outcome, Incompatibility):
            return Refutation(problem, outcome)
        found = {problem.slots[slot].name: problem.candidate(slot, bit) for slot, bit in outcome.items()}
        chosen, parts = polished(problem, declared, found, policy)
        needs = {part: problem.needs(part, chosen[part[0]]) for part in sorted(parts)}
        return Solution(target=target, chosen=chosen, needs=needs)

    return with_fewest_moves(attempt, policy)
