"""The rules that leave the solver fewer releases: age, origin, and advisories that refuse.

What is locked already stays a candidate: that it breaks a rule today is told, and moves nothing in silence.
"""

import threading
from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import timedelta

from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.lock import LockedCheckout, LockedCommit
from rabbet.core.model.release import DECLARED_ADDRESS, Candidate, SourceTree
from rabbet.core.rules.advisory import Advisory
from rabbet.core.rules.breach import refusing
from rabbet.core.rules.judge import Origin, ReleaseFacts, duration_text
from rabbet.core.solve.problem.provider import Until
from rabbet.workspace.rules.judging import CountedRules

__all__ = ["RulesNarrowing"]


class RulesNarrowing:
    """Narrows a project's releases (it is a `Narrowing`), but for versions that are `spared`.

    May be used from many threads.
    """

    def __init__(self, rules: CountedRules, spared: Mapping[NormalizedName, Collection[Version]]) -> None:
        self._rules = rules
        self._spared = spared
        self._guard = threading.Lock()
        self._advisories: dict[NormalizedName, Sequence[Advisory]] = {}

    def untils(self, name: NormalizedName, source: str) -> Sequence[Until]:
        """How old the files of a library must be."""
        return list(self._untils(name, source))

    def _untils(self, name: NormalizedName, source: str) -> Iterator[Until]:
        for rules in self._rules.sets:
            age = rules.age
            if age is not None and not age.exempts(name, source):
                told = f"and the rule age wants {duration_text(age.seconds)}"
                moment = self._rules.now - timedelta(seconds=age.seconds)
                yield Until(moment, told, frozenset(self._spared.get(name, ())), ruled=True)

    def refusal(self, candidate: Candidate) -> str:
        """Why a release is refused; empty if it is not."""
        if candidate.version in self._spared.get(candidate.name, ()):
            return ""
        facts = ReleaseFacts(name=candidate.name, version=candidate.version, origin=_origin(candidate))
        breaches = refusing(self._rules.judged(facts, {candidate.name: self._about(candidate.name)}))
        return "; ".join(f"refused by the rule {breach.rule}: {breach.short}" for breach in breaches[:1])

    def _about(self, name: NormalizedName) -> Sequence[Advisory]:
        with self._guard:
            if name not in self._advisories:
                self._advisories[name] = self._rules.records.about([name]).get(name, ())
            return self._advisories[name]


def _origin(candidate: Candidate) -> Origin | None:
    """Where a candidate comes from; a checkout is the team's own."""
    tree = candidate.offered.locked if isinstance(candidate.offered, SourceTree) else None
    if isinstance(tree, LockedCheckout):
        return None
    return Origin(
        source=candidate.source,
        only_source=candidate.only_source,
        address=candidate.source == DECLARED_ADDRESS,
        commit=isinstance(tree, LockedCommit),
        yanked=candidate.yanked,
    )
