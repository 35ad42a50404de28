"""A proof in plain sentences: each fact once, numbered where it is referred to again, ending in the clash."""

from collections.abc import Iterator, Sequence

from msgspec import Struct
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import InvalidVersion

from rabbet.core.model.release import Rejected
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text
from rabbet.core.solve.explain.proof import Fact, Proof, ProofStep, contested, facts_of, prove
from rabbet.core.solve.problem.problem import ROOT, Problem
from rabbet.core.solve.solver import Refutation

__all__ = ["Explanation", "explained"]

_SHOWN = 4  # so many releases are named; of more, the first and the last
_PATCH = "python_full_version"  # the variable of markers that tells one patch release from the next
_ASIDE = 3  # so many reasons are told why releases can't be used


class Explanation(Struct, frozen=True):
    """The sentences, and the library on which requirements clash."""

    clash: str
    sentences: tuple[str, ...]


def explained(refutation: Refutation, project: str) -> Explanation:
    """Tell why there is no solution."""
    proof = prove(refutation)
    teller = _Teller(refutation.problem, project)
    if proof is None:
        facts = facts_of(refutation)
        return Explanation(facts[-1].about, tuple(f"{teller.fact(fact)}." for fact in facts))
    return Explanation(contested(proof), tuple(teller.proof(proof)))


class _Teller:
    """Turns steps into sentences, numbering them as they are referred to."""

    def __init__(self, problem: Problem, project: str) -> None:
        self._problem = problem
        self._project = project
        self._numbers: dict[ProofStep, int] = {}

    def proof(self, proof: Proof, *, indent: str = "") -> Iterator[str]:
        """All sentences of a proof, and of its cases."""
        for step in _referred(proof):
            self._numbers.setdefault(step, len(self._numbers) + 1)
        for step in proof.steps:
            number = f"({self._numbers[step]}) " if step in self._numbers else ""
            yield f"{indent}{number}{self._step(step)}"
        if proof.cases is not None:
            for bit, inner in proof.cases.cases:
                yield f"{indent}Take {proof.cases.about} {self._versions(proof.cases.about, bit)}:"
                yield from self.proof(inner, indent=indent + "  ")
            yield f"{indent}So no release of {proof.cases.about} is left."

    def fact(self, fact: Fact) -> str:
        """A fact by itself."""
        if fact.unusable:
            return self._unusable(fact, sum(fact.unusable))
        return self._says(fact, sum(fact.demands))

    def _step(self, step: ProofStep) -> str:
        fact = step.fact
        if fact.unusable:
            return f"{self._unusable(fact, step.removed)}{self._leaves(step, '; that')}"
        if step.prunes:
            said = self._says(fact, step.removed)
            return f"{said}, but {self._only(fact.about, step)}{self._leaves(step, ': that')}"
        subject = 0 if fact.requirer == ROOT else self._subject(step)
        said = self._says(fact, subject)
        if step.left:
            return f"{said}{self._leaves(step)}"
        return f"{said}, but {self._only(fact.about, step)}."

    def _subject(self, step: ProofStep) -> int:
        """Which releases of the requirer are left at this step."""
        name = step.fact.requirer.name
        before = [premise for premise in step.relies_on if premise.about == name]
        left = before[-1].left if before else (1 << len(self._problem.candidates(name).releases)) - 1
        return left & sum(step.fact.demands) or sum(step.fact.demands)

    def _says(self, fact: Fact, bits: int) -> str:
        """Who needs what."""
        if fact.requirer == ROOT:
            maker = f"{fact.section} of {self._project}" if fact.section else self._project
            if fact.limit:
                return f"{maker} sets the limit {need_text(fact.demands[0][1], marker=False)}"
            return f"{maker} needs {self._needed(fact.demands[0][1])}"
        name = str(fact.requirer)
        chosen = {bit: need for bit, (_, need) in sorted(fact.demands.items()) if bit & bits}
        texts = list(dict.fromkeys(map(self._needed, chosen.values())))
        who = f"{name} {self._versions(fact.requirer.name, sum(chosen))}"
        if len(texts) == 1:
            return f"{who} {'need' if len(chosen) > 1 else 'needs'} {texts[0]}"
        if len(texts) == 2:
            return " and ".join(self._says(fact, self._saying(fact, text) & bits) for text in texts)
        return f"{who} need, each its own, from {texts[0]} to {texts[-1]}"

    def _saying(self, fact: Fact, text: str) -> int:
        """The releases that make a requirement in these words."""
        return sum(b for b, (_, need) in fact.demands.items() if self._needed(need) == text)

    def _needed(self, need: Need) -> str:
        """A requirement with the machine-dependent part of its marker, and the patch release if it counts."""
        known, marker = self._problem.target.markers, str(need.marker or "")
        if not any(key in marker for key in known):
            return need_text(need, marker=False)
        here = f" (here {known[_PATCH]})" if _PATCH in marker else ""
        return f"{need_text(need, marker=False)} where {marker}{here}"

    def _leaves(self, step: ProofStep, joint: str = ", which") -> str:
        """The releases that remain, unless the step removed none."""
        if not step.left:
            return f"{joint} leaves no release of {step.about}."
        if not step.removed:
            return "."
        return f"{joint} leaves {step.about} {self._versions(step.about, step.left)}."

    def _only(self, library: NormalizedName, step: ProofStep) -> str:
        """The releases of a library that remained before this step, and the sentence that says so."""
        found = self._problem.candidates(library)
        before = [premise for premise in step.relies_on if premise.about == library]
        if before and before[-1].assumed:
            return f"{library} {self._versions(library, before[-1].left)} is taken"
        if before:
            left = self._versions(library, before[-1].left, last=" or ")
            return f"by ({self._numbers[before[-1]]}) {library} can only be {left}"
        if not found.known:
            return f"no source knows {library}"
        requirement = next(iter(step.fact.demands.values()))[1]
        refused = [
            rejected for rejected in found.rejected if _contained(requirement.specifier, rejected.version)
        ]
        reasons = _refused(refused)
        if not found.releases:
            return f"no release of it can be used here ({reasons or 'it has no wheels'})"
        there = f"there is only {library} {self._versions(library, (1 << len(found.releases)) - 1)}"
        return f"{there} ({reasons})" if reasons else there

    def _unusable(self, fact: Fact, bits: int) -> str:
        reasons = list(dict.fromkeys(reason for bit, reason in fact.unusable.items() if bit & bits))
        versions = self._versions(fact.about, bits)
        return f"{fact.about} {versions} can't be used: {'; '.join(reasons[:_ASIDE])}"

    def _versions(self, name: NormalizedName, bits: int, *, last: str = " and ") -> str:
        """Such as `2.0 and 2.1`, or `1.0 … 3.2 (17 releases)`."""
        releases = self._problem.candidates(name).releases
        shown = [
            str(candidate.version) for position, candidate in enumerate(releases) if bits >> position & 1
        ]
        if len(shown) > _SHOWN:
            return f"{shown[0]} … {shown[-1]} ({len(shown)} releases)"
        return last.join([", ".join(shown[:-1]), shown[-1]] if len(shown) > 1 else shown)


def _referred(proof: Proof) -> Iterator[ProofStep]:
    """The steps whose number some sentence of this proof, or of its cases, will need."""
    for step in proof.steps:
        needs_number = (step.prunes or not step.left) and not step.fact.unusable
        for earlier in step.relies_on:
            if needs_number and earlier.about == step.fact.about and not earlier.assumed:
                yield earlier
    if proof.cases is not None:
        for _, inner in proof.cases.cases:
            yield from _referred(inner)


def _refused(releases: Sequence[Rejected]) -> str:
    """Releases that were set aside, the newest first, those with the same reason together."""
    same: dict[str, list[str]] = {}
    for rejected in reversed(releases):
        same.setdefault(rejected.reason, []).append(rejected.version)
    told = [
        f"{versions[0]}{f' and {len(versions) - 1} older' if versions[1:] else ''}: {reason}"
        for reason, versions in same.items()
    ]
    return "; ".join(told[:_ASIDE])


def _contained(specifiers: SpecifierSet, version: str) -> bool:
    """Whether a release that was set aside would be asked for; it may be known by its file's name only."""
    try:
        return specifiers.contains(version, prereleases=True)
    except InvalidVersion:
        return False
