"""A refutation → the shortest chain of steps that a person can follow to the clash.

The derivation that the search leaves behind is sound but not for reading: it goes release by release. Here
the facts it rests on are grouped (all that one library's releases ask of another is one fact), facts that are
not needed are dropped one by one, and the clash is derived again from the rest: what is needed leaves fewer
and fewer releases of some library until none is left. Where that does not suffice, releases are taken case by
case.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import count

from msgspec import Struct, field
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Section
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.solve.answer import Refutation
from rabbet.core.solve.problem.incompatibility import Demand, Slot, Unusable
from rabbet.core.solve.problem.problem import ROOT

__all__ = ["Cases", "Fact", "Proof", "ProofStep", "contested", "facts_of", "prove"]

_MOST_BRANCHES = 150
_MOST_MINIMIZED = 80


class Fact(Struct, frozen=True, eq=False):
    """All that one requirer's releases ask of the library `about`, or why they can't be used.

    `demands` maps a release's bit (0 for the project itself) to the releases that it admits and how it says
    so; `unusable` maps bits to reasons. A `limit` of the project counts where something needs the library.
    """

    requirer: Slot
    about: NormalizedName
    section: Section | None = None
    limit: bool = False
    demands: Mapping[int, tuple[int, Need]] = field(default_factory=dict)
    unusable: Mapping[int, str] = field(default_factory=dict)


class ProofStep(Struct, frozen=True, eq=False):
    """A fact is applied: of the library `about`, the releases `removed` go and `left` stay.

    `relies_on` are earlier steps: those that say which of the requirer's and the required library's releases
    are left. A step that `prunes` drops releases of the requirer, because what they need is gone; one that
    is `assumed` is no step but the case that is being looked at.
    """

    fact: Fact
    about: NormalizedName
    left: int
    removed: int
    relies_on: tuple["ProofStep", ...]
    prunes: bool = False
    assumed: bool = False


class Cases(Struct, frozen=True, eq=False):
    """Every release that is left of the library `about` leads to a clash of its own."""

    about: NormalizedName
    relies_on: tuple[ProofStep, ...]
    cases: tuple[tuple[int, "Proof"], ...]


class Proof(Struct, frozen=True, eq=False):
    """The steps that matter, in order; the last one leaves nothing, or cases follow."""

    steps: tuple[ProofStep, ...]
    cases: Cases | None = None


def facts_of(refutation: Refutation) -> tuple[Fact, ...]:
    """The facts that a refutation rests on, grouped, what is nearest to the project first."""
    problem = refutation.problem
    own: list[Fact] = []
    # one release may ask for a library more than once: the layers
    demands: dict[tuple[Slot, NormalizedName, int], dict[int, tuple[int, Need]]] = {}
    unusable: dict[Slot, dict[int, str]] = {}
    depth: dict[Slot, int] = {}
    for stated in refutation.stated():
        cause = stated.cause
        if isinstance(cause, Demand):
            name = cause.need.name
            bits = problem.bound(cause.need) if cause.limit else problem.mask(cause.need)
            admitted = (bits, cause.need)
            if cause.requirer == ROOT:
                demanded = {0: admitted}
                own.append(Fact(ROOT, name, section=cause.section, limit=cause.limit, demands=demanded))
                continue
            slot, bit = next(term for term in stated.terms if problem.slots[term[0]] == cause.requirer)
            depth[cause.requirer] = problem.depth[slot]
            layer = next(n for n in count() if bit not in demands.get((cause.requirer, name, n), {}))
            demands.setdefault((cause.requirer, name, layer), {})[bit] = admitted
        elif isinstance(cause, Unusable):
            slot, bit = stated.terms[0]
            library = Slot(problem.slots[slot].name)
            depth[library] = problem.depth[slot]
            unusable.setdefault(library, {})[bit] = cause.reason
    grouped = [Fact(requirer, name, demands=bits) for (requirer, name, _), bits in demands.items()]
    grouped += [Fact(slot, slot.name, unusable=bits) for slot, bits in unusable.items()]
    own.sort(key=lambda fact: (str(fact.demands[0][1]), str(fact.section or "")))
    grouped.sort(key=lambda fact: (depth[fact.requirer], str(fact.requirer), fact.about))
    return (*_once(own), *grouped)


def prove(refutation: Refutation) -> Proof | None:
    """A short proof; `None` when the facts call for more cases than anybody would read."""
    facts = list(facts_of(refutation))
    whole = {fact.about: _all_of(refutation, fact.about) for fact in facts}
    whole |= {fact.requirer.name: _all_of(refutation, fact.requirer.name) for fact in facts}
    if _attempt(facts, whole) is None:
        return None
    if len(facts) <= _MOST_MINIMIZED:
        for fact in reversed(facts.copy()):
            without = [other for other in facts if other is not fact]
            if _attempt(without, whole) is not None:
                facts = without
    return _attempt(facts, whole)


def _once(own: Sequence[Fact]) -> list[Fact]:
    """Drop facts of sections that repeat a requirement of the project or of an earlier section."""
    kept: dict[tuple[str, bool], Fact] = {}
    for fact in own:
        kept.setdefault((str(fact.demands[0][1]), fact.limit), fact)
    return list(kept.values())


def _all_of(refutation: Refutation, name: NormalizedName) -> int:
    return (1 << len(refutation.problem.candidates(name).releases)) - 1 if name else 0


def _attempt(facts: Sequence[Fact], whole: Mapping[NormalizedName, int]) -> Proof | None:
    """Derive the clash from these facts, or fail: they may be too few, or call for too many cases."""
    return _State(facts, dict(whole), {}, set(), count()).prove()


class _State:
    """The remaining releases of each library, and the steps that led there."""

    def __init__(
        self,
        facts: Sequence[Fact],
        left: dict[NormalizedName, int],
        because: dict[NormalizedName, ProofStep],
        required: set[Slot],
        branches: "count[int]",
    ) -> None:
        self._facts = facts
        self._left = left
        self._because = because
        self._required = required
        self._branches = branches
        self._steps: list[ProofStep] = []

    def prove(self) -> Proof | None:
        """Apply facts until something has nothing left; then take cases."""
        clash = self._exhaust()
        if clash is not None:
            return Proof(self._sliced([clash]))
        options = [
            (self._left[slot.name].bit_count(), slot.name)
            for slot in self._required
            if not slot.extra and self._left[slot.name].bit_count() > 1
        ]
        for _, library in sorted(options):
            cases = self._cases(library)
            if cases is not None:
                return Proof(self._sliced(cases.relies_on), cases)
            if next(self._branches) > _MOST_BRANCHES:
                return None
        return None

    def _cases(self, library: NormalizedName) -> Cases | None:
        """One proof for each release that is left."""
        proofs = []
        left = self._left[library]
        while left:
            bit = left & -left
            left ^= bit
            if next(self._branches) > _MOST_BRANCHES:
                return None
            earlier = (self._because[library],) if library in self._because else ()
            case = ProofStep(self._facts[0], library, bit, self._left[library] & ~bit, earlier, assumed=True)
            inner = _State(
                self._facts,
                {**self._left, library: bit},
                {**self._because, library: case},
                set(self._required),
                self._branches,
            ).prove()
            if inner is None:
                return None
            proofs.append((bit, inner))
        outer = {step for _, proof in proofs for step in _outside(proof)}
        known = [step for step in self._steps if step in outer]
        if library in self._because:
            known.append(self._because[library])
        return Cases(library, tuple(dict.fromkeys(known)), tuple(proofs))

    def _exhaust(self) -> ProofStep | None:
        """Apply all facts until nothing changes; return the step that leaves nothing."""
        changed = True
        while changed:
            changed = False
            for fact in self._facts:
                step = self._applied(fact)
                if step is not None:
                    self._steps.append(step)
                    self._because[step.about] = step
                    self._left[step.about] = step.left
                    changed = True
                    if not step.left:
                        return step
        return None

    def _applied(self, fact: Fact) -> ProofStep | None:
        """The step that applies a fact, if it removes anything."""
        if fact.limit:
            bound = self._left[fact.about] & fact.demands[0][0]
            return self._narrowed(fact, fact.about, bound) if Slot(fact.about) in self._required else None
        if fact.requirer == ROOT:
            return self._needed(fact, *fact.demands[0])
        if fact.requirer not in self._required:
            return None
        name = fact.requirer.name
        bits = self._left[name]
        if fact.unusable:
            return self._narrowed(fact, name, bits & ~sum(fact.unusable))
        gone = sum(bit for bit, (mask, _) in fact.demands.items() if not mask & self._left[fact.about])
        if bits & gone and bits & ~gone:
            return self._narrowed(fact, name, bits & ~gone, prunes=True)
        if bits & ~sum(fact.demands):
            return None
        admitted, requirement = 0, None
        for bit, (mask, need) in fact.demands.items():
            if bit & bits:
                admitted, requirement = admitted | mask, need
        return None if requirement is None else self._needed(fact, admitted, requirement)

    def _needed(self, fact: Fact, admitted: int, requirement: Need) -> ProofStep | None:
        """The library is needed, in one of the admitted releases."""
        parts = {Slot(fact.about, extra) for extra in ("", *map(library_name, requirement.extras))}
        news = not parts <= self._required
        self._required |= parts
        return self._narrowed(fact, fact.about, self._left[fact.about] & admitted, news=news)

    def _narrowed(
        self, fact: Fact, library: NormalizedName, left: int, *, prunes: bool = False, news: bool = False
    ) -> ProofStep | None:
        before = self._left[library]
        if left == before and not news:
            return None
        names = dict.fromkeys((fact.requirer.name, fact.about))
        relies_on = tuple(self._because[name] for name in names if name in self._because)
        return ProofStep(fact, library, left, before & ~left, relies_on, prunes)

    def _sliced(self, ends: Iterable[ProofStep]) -> tuple[ProofStep, ...]:
        """The steps of this level that these rely on, and these themselves, in order."""
        wanted: set[ProofStep] = set()
        waiting = list(ends)
        while waiting:
            step = waiting.pop()
            if step not in wanted:
                wanted.add(step)
                waiting += step.relies_on
        return tuple(step for step in self._steps if step in wanted)


def _outside(proof: Proof) -> Iterator[ProofStep]:
    """The steps that a proof relies on and does not hold itself."""
    own = set(proof.steps)
    relied = [premise for step in proof.steps for premise in step.relies_on]
    if proof.cases:
        relied += proof.cases.relies_on
        relied += [step for _, inner in proof.cases.cases for step in _outside(inner)]
    for premise in relied:
        if premise.assumed:
            yield from premise.relies_on
        elif premise not in own:
            yield premise


def contested(proof: Proof) -> NormalizedName:
    """The library of which nothing is left."""
    return proof.cases.about if proof.cases else proof.steps[-1].about
