"""The JSON document of `culprit`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.culprit.mixture import Mixture, StateChange
from rabbet.tasks.drifting.culprit import Case

__all__ = ["CulpritDocument", "untried"]


class CulpritDocument(Struct, frozen=True):
    """The culprits and the innocent, how that was found out, and what keeps the culprits out."""

    schema: ClassVar[str] = "culprit"

    case: Case

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        case, verdict = self.case, self.case.verdict
        return {
            "good": case.good,
            "bad": case.bad,
            "command": list(case.command),
            "answer": str(verdict.answer),
            "culprits": [
                {
                    "guilty": [
                        [_change(case.changes[name]) for name in sorted(group)] for group in culprit.groups
                    ],
                    "company": sorted(culprit.company),
                    "unclear": sorted(culprit.unclear),
                    "passing": sorted(culprit.passing),
                    "failing": sorted(culprit.failing),
                }
                for culprit in verdict.culprits
            ],
            "innocent": sorted(verdict.innocent),
            "untried": sorted(untried(case)),
            "changes": [_change(change) for change in case.changes.values()],
            "steps": [
                {
                    "mixture": sorted(mixture),
                    "ends": [str(end) for end in tried.ends],
                    "reason": tried.reason,
                    "seconds": round(tried.seconds, 3),
                }
                for mixture, tried in case.tried.items()
            ],
            "chance_of_luck": verdict.luck,
            "seconds": round(case.seconds, 3),
            "recalled": case.recalled,
            "notes": list(case.notes),
            "release_notes": dict(case.release_notes),
            "keeping_out": {
                "command": case.keeping.command,
                "instead": dict(case.keeping.instead),
                "reason": case.keeping.reason,
            }
            if case.keeping
            else None,
            "kept": case.kept or None,
        }


def _change(change: StateChange) -> dict[str, object]:
    return {"name": change.name, "good": change.good or None, "bad": change.bad or None}


def untried(case: Case) -> Mixture:
    """The changes that neither helped to fail nor were proven innocent."""
    told = (culprit.failing for culprit in case.verdict.culprits)
    return frozenset(case.changes) - case.verdict.innocent - frozenset().union(*told)
