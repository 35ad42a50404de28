"""Small changes to a declaration that were tried with the solver, and do give a solution."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations, islice

from packaging.requirements import Requirement
from packaging.specifiers import Specifier, SpecifierSet
from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import Version

from rabbet.core.model.declaration import Declared
from rabbet.core.model.solution import Solution
from rabbet.core.model.target import Target
from rabbet.core.solve.policy import Policy
from rabbet.core.solve.problem import ROOT
from rabbet.core.solve.proof import facts_of, prove
from rabbet.core.solve.provider import Provider
from rabbet.core.solve.solver import Refutation, solve

__all__ = ["Change", "Suggestion", "runtime_matters", "suggestions"]

_MOST_TRIALS = 40
_MOST_SHOWN = 4
_MOST_RUNTIMES = 1
_LOWER = frozenset({">=", ">"})
_UPPER = frozenset({"<", "<="})


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """One declared requirement becomes another one, or (`after` is `None`) is dropped."""

    declared: Declared
    after: Requirement | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Suggestion:
    """Changes that together give a solution, or a runtime that does.

    `chosen` are the versions that come of it.
    """

    changes: tuple[Change, ...] = ()
    runtime: str = ""
    chosen: Mapping[NormalizedName, Version]


def suggestions(
    refutation: Refutation,
    declared: Sequence[Declared],
    provider: Provider,
    target: Target,
    others: Iterable[tuple[Target, Provider]],
) -> tuple[Suggestion, ...]:
    """The smallest changes first: loosening one requirement, another runtime, dropping one, pairs.

    `others` are further targets with their providers, the likeliest first; where the runtime matters, the
    first that helps is suggested. Every suggestion was solved. An empty result says that nothing so small
    helps.
    """
    trial = _Trial(declared, provider, target)
    involved = _involved(refutation, declared)
    found = trial.all_of(trial.loosened, [(one,) for one in involved])
    if runtime_matters(refutation):
        found += islice(_runtimes(declared, others), _MOST_RUNTIMES)
    found += trial.all_of(trial.dropped, [(one,) for one in involved])
    if not found:
        pairs = list(combinations(involved, 2))
        found = trial.all_of(trial.loosened, pairs) or trial.all_of(trial.dropped, pairs)
    return tuple(found[:_MOST_SHOWN])


def runtime_matters(refutation: Refutation) -> bool:
    """Whether releases that the clash is about are out of reach because of the runtime or the system."""
    candidates = refutation.problem.candidates
    facts = facts_of(refutation)
    names = {name for fact in facts for name in (fact.about, fact.requirer.name) if name}
    aside = any(not one.unbuilt for name in names for one in candidates(name).aside)
    return aside or any("needs Python" in reason for fact in facts for reason in fact.unusable.values())


def _involved(refutation: Refutation, declared: Sequence[Declared]) -> list[Declared]:
    """The declared requirements that the clash rests on."""
    proof = prove(refutation)
    facts = facts_of(refutation)
    if proof is not None:
        facts = tuple(step.fact for step in proof.steps) + tuple(
            step.fact for step in (proof.cases.relies_on if proof.cases else ())
        )
    texts = {str(fact.demands[0][1]) for fact in facts if fact.requirer == ROOT}
    return [one for one in declared if str(one.requirement) in texts]


def _runtimes(
    declared: Sequence[Declared], others: Iterable[tuple[Target, Provider]]
) -> Iterator[Suggestion]:
    for target, provider in others:
        if isinstance(solve(provider, target, declared), Solution):
            yield Suggestion(runtime=f"python=={target.python.major}.{target.python.minor}.*", chosen={})


class _Trial:
    """Tries changes with the solver, a limited number of times."""

    def __init__(self, declared: Sequence[Declared], provider: Provider, target: Target) -> None:
        self._declared = declared
        self._provider = provider
        self._target = target
        self._left = _MOST_TRIALS

    def all_of(
        self,
        trial: Callable[[Sequence[Declared]], Suggestion | None],
        choices: Iterable[Sequence[Declared]],
    ) -> list[Suggestion]:
        """The choices for which a trial gives a solution."""
        return [found for choice in choices if (found := trial(choice)) is not None]

    def loosened(self, which: Sequence[Declared]) -> Suggestion | None:
        """Open the bounds of these just as far as it takes: downwards, else upwards, else on both sides."""
        for side in (_LOWER, _UPPER, _LOWER | _UPPER):
            found = self._opened(which, side)
            if found is not None:
                return found
        return None

    def _opened(self, which: Sequence[Declared], side: frozenset[str]) -> Suggestion | None:
        """Free one side to see which releases would do, then open it as far as to these."""
        freed = {one: _with(one.requirement, _freed(one.requirement.specifier, side)) for one in which}
        if any(freed[one] == one.requirement for one in which):
            return None
        nearest = _names(which) if side == _UPPER else frozenset()
        free = self._solved(freed, Policy(lowest=nearest))
        if free is None:
            return None
        opened = {one: _opened(one.requirement.specifier, _version(free, one)) for one in which}
        after = {one: _with(one.requirement, opened[one]) for one in which}
        solution = self._solved(after)
        if solution is None:
            return None
        changes = tuple(Change(declared=one, after=after[one]) for one in which)
        return Suggestion(changes=changes, chosen=_chosen(solution, which))

    def dropped(self, which: Sequence[Declared]) -> Suggestion | None:
        """Take these out."""
        solution = self._solved(dict.fromkeys(which))
        if solution is None:
            return None
        changes = tuple(Change(declared=one, after=None) for one in which)
        return Suggestion(changes=changes, chosen={})

    def _solved(
        self, after: Mapping[Declared, Requirement | None], policy: Policy | None = None
    ) -> Solution | None:
        if self._left <= 0:
            return None
        self._left -= 1
        changed = [(one.section, after.get(one, one.requirement)) for one in self._declared]
        kept = [Declared(requirement=one, section=section) for section, one in changed if one is not None]
        answer = solve(self._provider, self._target, kept, policy=policy)
        return answer if isinstance(answer, Solution) else None


def _names(which: Iterable[Declared]) -> frozenset[NormalizedName]:
    return frozenset(canonicalize_name(one.requirement.name) for one in which)


def _freed(specifiers: SpecifierSet, side: frozenset[str]) -> SpecifierSet:
    """The specifiers without their bounds on one side; a pin becomes a bound on the other side."""
    if side == _LOWER | _UPPER:
        return SpecifierSet()
    kept = []
    for clause in specifiers:
        if clause.operator == "==" and not clause.version.endswith(".*"):
            kept.append(f"{'<=' if side == _LOWER else '>='}{Version(clause.version).public}")
        elif clause.operator not in side:
            kept.append(str(clause))
    return SpecifierSet(",".join(kept))


def _chosen(solution: Solution, which: Iterable[Declared]) -> dict[NormalizedName, Version]:
    return {canonicalize_name(one.requirement.name): _version(solution, one) for one in which}


def _version(solution: Solution, one: Declared) -> Version:
    return solution.chosen[canonicalize_name(one.requirement.name)].version


def _with(requirement: Requirement, specifiers: SpecifierSet) -> Requirement:
    changed = Requirement(str(requirement))
    changed.specifier = specifiers
    return changed


def _opened(specifiers: SpecifierSet, version: Version) -> SpecifierSet:
    """The specifiers, those that exclude the version opened as far as to it."""
    clauses = [one if one.contains(version, prereleases=True) else _open(one, version) for one in specifiers]
    return SpecifierSet(",".join(str(clause) for clause in clauses if clause is not None))


def _open(clause: Specifier, version: Version) -> Specifier | None:
    """A lower bound moves down to the version, an upper bound up; a pin becomes a bound on the other side.

    Bounds have no local part, and admit every one (PEP 440).
    """
    if clause.operator in (">=", ">"):
        return Specifier(f">={version.public}")
    if clause.operator in ("<", "<="):
        return Specifier(f"<={version.public}")
    if clause.operator == "!=":
        return None
    pinned = Version(clause.version.removesuffix(".*"))
    return Specifier(f">={pinned.public}" if version > pinned else f"<={pinned.public}")
