"""The JSON documents of rules: those that count, and what breaks them."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.rules.breach import Breach, Vulnerability
from rabbet.core.rules.model import RuleSet
from rabbet.tasks.drifting.rules import BrokenRule, RulesReport

__all__ = ["RulesDocument", "breach_document", "vulnerability_document"]


class RulesDocument(Struct, frozen=True):
    """The rules that count, the records they rest on, what breaks a rule and what would mend it."""

    schema: ClassVar[str] = "rules"

    report: RulesReport

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        report = self.report
        counted = report.counted
        return {
            "refuses": report.refuses,
            "judged": report.judged,
            "sets": [_rule_set(rules) for rules in counted.sets] if counted else [],
            "records": [
                {
                    "place": place.shown,
                    "records": place.facts.records,
                    "newest": place.facts.newest or None,
                    "age_seconds": int(place.age),
                    "broken": place.facts.broken,
                    "named": list(place.facts.named),
                }
                for place in counted.records.places
            ]
            if counted
            else [],
            "too_old": list(counted.records.too_old) if counted else [],
            "broken": [_broken(found) for found in report.broken],
            "moves": [
                {
                    "name": move.name,
                    "before": None if move.before is None else str(move.before),
                    "after": None if move.after is None else str(move.after),
                    "reason": move.reason,
                }
                for move in report.moves
            ],
            "stuck": report.stuck or None,
            "no_solution": report.no_solution,
            "lacks_ages": report.lacks_ages,
        }


def _rule_set(rules: RuleSet) -> dict[str, object]:
    licences, age, origin = rules.licences, rules.age, rules.origin
    return {
        "where": rules.where,
        "advisories": len(rules.advisories),
        "stale_after_seconds": rules.stale_after,
        "severity": rules.severity,
        "accept": [{"id": one.id, "reason": one.reason, "until": str(one.until)} for one in rules.accepted],
        "licences": {
            "allow": list(licences.allowed),
            "except": dict(licences.exempt),
            "unknown": "refuse" if licences.unknown_refuses else "note",
        }
        if licences
        else None,
        "age": {
            "least_seconds": age.seconds,
            "libraries": list(age.libraries),
            "sources": list(age.sources),
        }
        if age
        else None,
        "from": {
            "only": {name: list(sources) for name, sources in origin.only.items()},
            "builds": origin.builds,
            "addresses": origin.addresses,
            "commits": origin.commits,
            "yanked": origin.yanked,
        }
        if origin
        else None,
        "stops": sorted(rules.stops),
    }


def _broken(found: BrokenRule) -> dict[str, object]:
    return {
        **breach_document(found.breach),
        "locked": found.locked,
        "installed": found.installed,
        "brought": list(found.brought),
    }


def breach_document(breach: Breach) -> dict[str, object]:
    """One breach: the library, the rule, whether it refuses, and the vulnerability if it is one."""
    return {
        "name": breach.name,
        "version": str(breach.version),
        "rule": str(breach.rule),
        "refuses": breach.refuses,
        "detail": breach.told,
        "places": list(breach.places),
        "vulnerability": vulnerability_document(breach.vulnerability) if breach.vulnerability else None,
    }


def vulnerability_document(known: Vulnerability) -> dict[str, object]:
    """One vulnerability, with what the team said of it."""
    return {
        "id": known.id,
        "aliases": list(known.aliases),
        "summary": known.summary or None,
        "published": known.published or None,
        "score": known.score,
        "vectors": list(known.vectors),
        "mended": None if known.mended is None else str(known.mended),
        "accepted": {
            "id": known.accepted.id,
            "reason": known.accepted.reason,
            "until": str(known.accepted.until),
            "expired": known.expired,
        }
        if known.accepted
        else None,
    }
