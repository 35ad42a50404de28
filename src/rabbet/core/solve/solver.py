"""The entry to solving: a declaration's requirements and a provider → a solution or a refutation."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.declaration import Declared
from rabbet.core.model.solution import Solution
from rabbet.core.model.target import Target
from rabbet.core.solve.incompatibility import Incompatibility
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
    preferred: Mapping[NormalizedName, Version] | None = None,
    effort: Effort | None = None,
) -> Solution | Refutation:
    """Choose the newest releases that meet all requirements on this target.

    `preferred` versions (of an earlier lock) stay where they can. No other library can be raised to a newer
    release while all the others stay. `effort`, when given, is filled with what the search did.
    """
    problem = Problem(provider, target, declared)
    search = Search(problem, preferred or {})
    outcome = search.run()
    if effort is not None:
        effort.decisions, effort.conflicts = search.effort.decisions, search.effort.conflicts
    if isinstance(outcome, Incompatibility):
        return Refutation(problem, outcome)
    found = {problem.slots[slot].name: problem.candidate(slot, bit) for slot, bit in outcome.items()}
    kept = {
        name
        for name, version in (preferred or {}).items()
        if name in found and found[name].version == version
    }
    chosen, parts = polished(problem, declared, found, kept=frozenset(kept))
    needs = {part: problem.needs(part, chosen[part[0]]) for part in sorted(parts)}
    return Solution(target=target, chosen=chosen, needs=needs)
