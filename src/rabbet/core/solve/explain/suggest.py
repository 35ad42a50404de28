"""Small changes to a declaration that were tried with the solver, for all targets, and do help."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import combinations

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.specifiers import Specifier, SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import InvalidVersion, Version

from rabbet.core.declaration.model import Declared
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.explain.proof import facts_of, prove
from rabbet.core.solve.problem.problem import ROOT
from rabbet.core.solve.problem.provider import Policy, Provider
from rabbet.core.solve.solver import Refutation, solve

__all__ = [
    "Asked",
    "Question",
    "RequirementChange",
    "Suggestion",
    "Suggestions",
    "runtime_matters",
    "suggestions",
]

_MOST_SHOWN = 4
_MOST_BREAKAGES = 3
_LOWER = frozenset({">=", ">"})
_UPPER = frozenset({"<", "<="})
Asked = tuple[Target, Provider]
"""A target, and what answers for it."""


class RequirementChange(Struct, frozen=True, kw_only=True):
    """One declared requirement becomes another one, or (`after` is `None`) is dropped."""

    declared: Declared
    after: Need | None


class Suggestion(Struct, frozen=True, kw_only=True):
    """Changes that together give a solution, or other targets that do.

    A `runtime` is a constraint on Python such as `==3.12.*`, a `baseline` such as `glibc=2.34`; `left_out`
    names a platform that is no target then. `chosen` are the versions that come of it.
    """

    changes: tuple[RequirementChange, ...] = ()
    runtime: str = ""
    baseline: str = ""
    left_out: str = ""
    chosen: Mapping[NormalizedName, tuple[Version, ...]] = field(default_factory=dict)


class Question(Struct, frozen=True, kw_only=True):
    """A declaration's requirements and limits for all of its targets, of which the first has no solution.

    `others` are further ways to put it, each a suggestion with the targets that it leads to, the likeliest
    first; they are asked only where the runtime or the system matters. `in_time` says whether there is time
    left for another try.
    """

    declared: Sequence[Declared]
    targets: Sequence[Asked]
    others: Iterable[tuple[Suggestion, Sequence[Asked]]] = ()
    in_time: Callable[[], bool] = lambda: True


class Suggestions(Struct, frozen=True, kw_only=True):
    """Changes that help, smallest first; `cut_short` when time ran out before all were tried.

    `further` are clashes that have nothing to do with the first one, and stay when it is mended.
    """

    found: tuple[Suggestion, ...]
    further: tuple[Refutation, ...] = ()
    cut_short: bool = False


def suggestions(refutation: Refutation, question: Question) -> Suggestions:
    """Loosen one requirement, ask for another runtime, drop an extra or a requirement; else several of them.

    Every suggestion was solved for all targets. Where nothing was found and not cut short, nothing so small
    helps.
    """
    trial = _Trial(question)
    clashes = _clashes(refutation, trial)
    breakages = [involved for _, involved in clashes]
    single = [(breakage,) for breakage in breakages[0]] if len(breakages) == 1 else []
    found = trial.all_of(trial.loosened, single)
    if runtime_matters(refutation):
        found += trial.elsewhere()
    found += trial.all_of(trial.without_extras, single) + trial.all_of(trial.dropped, single)
    if not found and not single:  # to retract one may take along what another clash is about
        names = _names(target for each in breakages for target in each)
        found = trial.all_of(
            trial.dropped,
            [(requirement,) for requirement in question.declared if requirement.need.name in names],
        )
        found = found or _each_mended(breakages, trial)
    if not found:
        pairs = list(combinations([target for each in breakages for target in each], 2))
        found = trial.all_of(trial.loosened, pairs) or trial.all_of(trial.dropped, pairs)
    further = tuple(clash for clash, _ in clashes[1:])
    return Suggestions(found=tuple(found[:_MOST_SHOWN]), further=further, cut_short=trial.cut_short)


def runtime_matters(refutation: Refutation) -> bool:
    """Whether releases that the clash is about are out of reach because of the runtime or the system."""
    candidates = refutation.problem.candidates
    facts = facts_of(refutation)
    names = {name for fact in facts for name in (fact.about, fact.requirer.name) if name}
    refused = any(not rejected.unbuilt for name in names for rejected in candidates(name).rejected)
    return refused or any("needs Python" in reason for fact in facts for reason in fact.unusable.values())


def _clashes(refutation: Refutation, trial: "_Trial") -> list[tuple[Refutation, list[Declared]]]:
    """Independent clashes, each with the requirements that it rests on: without these there is the next."""
    found: list[tuple[Refutation, list[Declared]]] = []
    current: Refutation | None = refutation
    while current is not None and len(found) < _MOST_BREAKAGES:
        known = [target for _, each in found for target in each]
        involved = [
            requirement
            for requirement in _involved(current, trial.question.declared)
            if requirement not in known
        ]
        if found and not involved:
            break
        found.append((current, involved))
        answer = trial.answer(dict.fromkeys([*known, *involved]))
        current = answer if isinstance(answer, Refutation) else None
    return found


def _each_mended(breakages: Sequence[Sequence[Declared]], trial: "_Trial") -> list[Suggestion]:
    """One change for each of several clashes: each is looked for where the others are out of the way.

    What goes with a requirement that is dropped needs no change of its own.
    """
    after: dict[Declared, Need | None] = {}
    chosen: dict[NormalizedName, tuple[Version, ...]] = {}
    for number, involved in enumerate(breakages):
        others = dict.fromkeys(target for each in breakages[number + 1 :] for target in each)
        alone = _Trial(trial.question, {**others, **after})
        single = [(requirement,) for requirement in involved]
        for kind in (alone.loosened, alone.without_extras, alone.dropped):
            found = alone.all_of(kind, single)[:1]
            if found:
                break
        trial.cut_short |= alone.cut_short
        if not found:
            return []
        after |= {change.declared: change.after for change in found[0].changes}
        chosen |= found[0].chosen
    dropped = [declared for declared, what in after.items() if what is None]
    gone = [
        requirement
        for requirement in trial.question.declared
        if any(_goes_with(requirement, other) for other in dropped)
    ]
    after = {declared: what for declared, what in after.items() if what is None or declared not in gone}
    mended = _Trial(trial.question, {**dict.fromkeys(gone), **after}).answer({})
    if mended is None or isinstance(mended, Refutation):
        return []
    changes = tuple(RequirementChange(declared=declared, after=what) for declared, what in after.items())
    kept = _names(declared for declared, what in after.items() if what is not None)
    return [
        Suggestion(
            changes=changes, chosen={name: versions for name, versions in chosen.items() if name in kept}
        )
    ]


def _involved(refutation: Refutation, declared: Sequence[Declared]) -> list[Declared]:
    """The declared requirements that the clash rests on."""
    proof = prove(refutation)
    facts = facts_of(refutation)
    if proof is not None:
        facts = tuple(step.fact for step in proof.steps) + tuple(
            step.fact for step in (proof.cases.relies_on if proof.cases else ())
        )
    texts = {(str(fact.demands[0][1]), fact.limit) for fact in facts if fact.requirer == ROOT}
    return [requirement for requirement in declared if (str(requirement.need), requirement.limit) in texts]


class _Trial:
    """Tries changes with the solver, on top of those that are `given`, while there is time."""

    def __init__(self, question: Question, given: Mapping[Declared, Need | None] | None = None) -> None:
        self.question = question
        self._given = given or {}
        self.cut_short = False

    def all_of(
        self,
        trial: Callable[[Sequence[Declared]], Suggestion | None],
        choices: Iterable[Sequence[Declared]],
    ) -> list[Suggestion]:
        """The suggestions for which a trial finds a solution, as many as are shown."""
        found: dict[object, Suggestion] = {}
        for choice in choices:
            suggestion = trial(choice) if len(found) < _MOST_SHOWN else None
            if suggestion is not None:
                found.setdefault(_texts(suggestion), suggestion)
        return list(found.values())

    def loosened(self, which: Sequence[Declared]) -> Suggestion | None:
        """Loosen these as little as possible: their lower bounds, else the upper ones, else both."""
        for side in (_LOWER, _UPPER, _LOWER | _UPPER):
            found = self._opened(which, side)
            if found is not None:
                return found
        return None

    def _opened(self, which: Sequence[Declared], side: frozenset[str]) -> Suggestion | None:
        """Drop one side's bounds, solve, then tighten them again to the releases that were chosen."""
        freed = {
            requirement: replace(requirement.need, specifier=_freed(requirement.need.specifier, side))
            for requirement in which
        }
        if any(freed[requirement] == requirement.need for requirement in which):
            return None
        nearest = _names(which) if side == _UPPER else frozenset()
        free = self._solved(freed, Policy(lowest=nearest))
        if free is None or not all(_versions(free, requirement) for requirement in which):
            return None
        after = {
            requirement: replace(
                requirement.need,
                specifier=_opened(requirement, _versions(free, requirement), self._releases(requirement)),
            )
            for requirement in which
        }
        solutions = self._solved(after)
        if solutions is None:
            return None
        changes = tuple(
            RequirementChange(declared=requirement, after=after[requirement]) for requirement in which
        )
        return Suggestion(changes=changes, chosen=_chosen(solutions, which))

    def _releases(self, requirement: Declared) -> frozenset[Version]:
        """The releases of what is required that can be used on some target."""
        name = requirement.need.name
        candidates = (provider.candidates(name) for _, provider in self.question.targets)
        return frozenset(release.version for found in candidates for release in found.releases)

    def without_extras(self, which: Sequence[Declared]) -> Suggestion | None:
        """Leave out the extras that these ask for."""
        if not all(requirement.need.extras for requirement in which):
            return None
        after = {requirement: replace(requirement.need, extras=frozenset()) for requirement in which}
        if self._solved(after) is None:
            return None
        return Suggestion(
            changes=tuple(
                RequirementChange(declared=requirement, after=after[requirement]) for requirement in which
            )
        )

    def dropped(self, which: Sequence[Declared]) -> Suggestion | None:
        """Take these out, with all that is declared of the same libraries in the same place."""
        gone = [
            requirement
            for requirement in self.question.declared
            if any(_goes_with(requirement, other) for other in which)
        ]
        if self._solved(dict.fromkeys(gone)) is None:
            return None
        return Suggestion(
            changes=tuple(RequirementChange(declared=requirement, after=None) for requirement in which)
        )

    def elsewhere(self) -> list[Suggestion]:
        """The first alternative set of targets that has a solution."""
        for suggestion, targets in self.question.others:
            if self._solved({}, targets=targets) is not None:
                return [suggestion]
        return []

    def answer(
        self,
        after: Mapping[Declared, Need | None],
        policy: Policy | None = None,
        targets: Sequence[Asked] | None = None,
    ) -> list[Solution] | Refutation | None:
        """The solutions for all targets, or why one has none; `None` when the time is up."""
        every = {**self._given, **after}
        changed = [
            (requirement, every.get(requirement, requirement.need)) for requirement in self.question.declared
        ]
        kept = [
            Declared(need=after, section=declared.section, limit=declared.limit)
            for declared, after in changed
            if after is not None
        ]
        found = []
        for target, provider in self.question.targets if targets is None else targets:
            if not self.question.in_time():
                self.cut_short = True
                return None
            answer = solve(provider, target, kept, policy=policy)
            if isinstance(answer, Refutation):
                return answer
            found.append(answer)
        return found

    def _solved(
        self,
        after: Mapping[Declared, Need | None],
        policy: Policy | None = None,
        targets: Sequence[Asked] | None = None,
    ) -> list[Solution] | None:
        answer = self.answer(after, policy, targets)
        return None if isinstance(answer, Refutation) else answer


def _texts(suggestion: Suggestion) -> object:
    """A key for suggestions that come to the same edits."""
    return frozenset(
        (change.declared.section, change.declared.need.name, str(change.after))
        for change in suggestion.changes
    )


def _goes_with(declared: Declared, other: Declared) -> bool:
    """Whether retracting the other retracts this one too."""
    same = declared.need.name == other.need.name
    return same and declared.limit == other.limit and other.section in (None, declared.section)


def _names(which: Iterable[Declared]) -> frozenset[NormalizedName]:
    return frozenset(requirement.need.name for requirement in which)


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


def _chosen(
    solutions: Sequence[Solution], which: Iterable[Declared]
) -> dict[NormalizedName, tuple[Version, ...]]:
    """The versions that come of each, the lowest first."""
    return {
        requirement.need.name: tuple(sorted(set(_versions(solutions, requirement)))) for requirement in which
    }


def _versions(solutions: Sequence[Solution], declared: Declared) -> list[Version]:
    """The versions chosen on targets where this requirement counts; empty if it is chosen nowhere."""
    name = declared.need.name
    counting = [each for each in solutions if each.target.admits(declared.need.marker)]
    return [each.chosen[name].version for each in counting if name in each.chosen]


def _opened(declared: Declared, versions: Iterable[Version], releases: frozenset[Version]) -> SpecifierSet:
    """The specifiers, those that exclude a version opened as far as to it."""
    opened = declared.need.specifier
    for version in versions:
        clauses = [
            each if each.contains(version, prereleases=True) else _open(each, version, releases)
            for each in opened
        ]
        opened = SpecifierSet(",".join(str(clause) for clause in clauses if clause is not None))
    return opened


def _open(clause: Specifier, version: Version, releases: frozenset[Version]) -> Specifier | None:
    """A lower bound moves down to the version, an upper bound up; a pin becomes a bound on the other side.

    A pin to a version that no release has moves to the one that was chosen. Bounds have no local part, and
    admit every one (PEP 440). A pin to what is no version goes.
    """
    if clause.operator in (">=", ">"):
        return Specifier(f">={version.public}")
    if clause.operator in ("<", "<="):
        return Specifier(f"<={version.public}")
    if clause.operator == "!=":
        return None
    try:
        pinned = Version(clause.version.removesuffix(".*"))
    except InvalidVersion:  # after `===`, any text may stand
        return None
    if clause.operator == "==" and not any(clause.contains(each, prereleases=True) for each in releases):
        return Specifier(f"=={version.public}")
    return Specifier(f">={pinned.public}" if version > pinned else f"<={pinned.public}")
