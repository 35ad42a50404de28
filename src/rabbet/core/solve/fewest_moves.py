"""Find the smallest set of locked libraries that has to move.

An attempt that keeps too much is refuted, and its refutation names kept libraries of which at least one has
to move. The smallest set that holds one of each such group is let go next (the implicit hitting sets of
Davies and Bacchus, 2011): the first attempt that then succeeds moves no more than any other solution does.
"""

from collections.abc import Callable, Collection, Mapping, Sequence
from itertools import count
from typing import TypeAlias

from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.solve.answer import Refutation, Solution
from rabbet.core.solve.problem.incompatibility import Kept
from rabbet.core.solve.problem.problem import Wishes
from rabbet.core.solve.problem.provider import Policy

__all__ = ["with_fewest_moves"]

_MOST_ATTEMPTS = 40
Group: TypeAlias = frozenset[NormalizedName]
"""Kept libraries of which one has to move."""


Firm: TypeAlias = Mapping[NormalizedName, tuple[Version, ...]]
"""Versions that come before all that is kept."""

Attempt: TypeAlias = Callable[[Wishes], Solution | Refutation]


def with_fewest_moves(attempt: Attempt, policy: Policy) -> Solution | Refutation:
    """The solution that has what is wanted, raises what is to be raised, and otherwise moves the least.

    A refutation that is returned rests on requirements alone.
    """
    firm = _newest(attempt, policy, _wanted(attempt, policy.wanted))
    if isinstance(firm, Refutation):
        return firm
    kept = {**policy.kept, **firm}
    outcome = attempt(Wishes(kept=kept))
    if isinstance(outcome, Solution) or not _kept_by(outcome):
        return outcome
    best = attempt(Wishes(kept=firm))
    if isinstance(best, Refutation):
        return best
    groups: list[Group] = []
    moving: Group = frozenset()
    while isinstance(outcome, Refutation) and len(moving) < _moved(best, policy):
        groups.append(_kept_by(outcome) - set(firm))
        enough = len(groups) < _MOST_ATTEMPTS
        moving = _fewest(groups) if enough else frozenset[NormalizedName]().union(*groups)
        outcome = attempt(Wishes(kept={name: kept[name] for name in kept if name not in moving}))
    if isinstance(outcome, Solution) and _moved(outcome, policy) <= _moved(best, policy):
        return outcome
    return best


def _wanted(attempt: Attempt, wanted: Mapping[NormalizedName, Version]) -> Firm:
    """The wanted versions that solve: all of them, or each that goes with those before it."""
    firm = {name: (version,) for name, version in wanted.items()}
    if not firm or isinstance(attempt(Wishes(kept=firm)), Solution):
        return firm
    found: dict[NormalizedName, tuple[Version, ...]] = {}
    for name, versions in firm.items():
        if isinstance(attempt(Wishes(kept={**found, name: versions})), Solution):
            found[name] = versions
    return found


def _newest(attempt: Attempt, policy: Policy, firm: Firm) -> Firm | Refutation:
    """With what is firm already, the newest release that any solution allows of each that is to be raised.

    Each is asked for by itself, so that the presence of one does not lower another that is named before it.
    One that the usual solution does without is raised as far as everything that is kept allows. What can't be
    there beside those before it is left out.
    """
    found, raised = dict(firm), list[NormalizedName]()
    for name in policy.raised:
        kept: Firm = found
        usual = attempt(Wishes(kept=kept, first=tuple(raised)))
        if isinstance(usual, Refutation):
            return usual
        if name not in usual.chosen:
            kept = {**policy.kept, **found}
            usual = attempt(Wishes(kept=kept, first=tuple(raised)))
        if isinstance(usual, Solution) and name in usual.chosen:
            outcome = attempt(Wishes(kept=kept, first=(*raised, name)))
            if isinstance(outcome, Solution) and outcome.chosen.keys() >= {*raised, name}:
                found[name] = (outcome.chosen[name].version,)
                raised.append(name)
    return found


def _kept_by(refutation: Refutation) -> Group:
    return frozenset(
        incompatibility.cause.name
        for incompatibility in refutation.stated()
        if isinstance(incompatibility.cause, Kept)
    )


def _moved(solution: Solution, policy: Policy) -> int:
    """How many libraries are not where they were kept."""
    kept, chosen = policy.kept, solution.chosen
    return sum(name in chosen and chosen[name].version not in kept[name] for name in kept)


def _fewest(groups: Sequence[Group]) -> Group:
    """A smallest set that holds one of each group; of several, the first in the order of names."""
    for size in count(_disjoint(groups)):
        found = _hitting(groups, size)
        if found is not None:
            return frozenset(found)
    raise AssertionError


def _hitting(groups: Collection[Group], size: int) -> tuple[NormalizedName, ...] | None:
    """So many names at most, one of each group; `None` if they don't suffice."""
    if not groups:
        return ()
    if _disjoint(groups) > size:
        return None
    smallest = min(groups, key=len)
    for name in sorted(smallest):
        rest = _hitting([group for group in groups if name not in group], size - 1)
        if rest is not None:
            return (name, *rest)
    return None


def _disjoint(groups: Collection[Group]) -> int:
    """A number of groups that share nothing with each other: so many names are needed at least."""
    taken: set[NormalizedName] = set()
    found = 0
    for group in sorted(groups, key=len):
        if taken.isdisjoint(group):
            taken |= group
            found += 1
    return found
