"""Mends: the few actions that can mend a finding, each a command."""

from collections.abc import Iterable
from enum import StrEnum

from rabbet.core.model.cause import Reason, RuleBroken
from rabbet.core.model.finding import PYTHON, Finding, Kind, Weight
from rabbet.core.rules.breach import MOVING

__all__ = ["Mend", "is_by_hand", "mend_of", "mends_of"]


class Mend(StrEnum):
    """The actions that mend findings."""

    RESOLVE = "resolve"
    RAISE = "raise"
    CHECK_LOCK = "check-lock"
    RECREATE = "recreate"
    OBTAIN = "obtain"
    EVERYTHING = "everything"
    COMPILE = "compile"
    PUT_ASIDE = "put-aside"
    LOOK_FOR_RUNTIME = "look-for-runtime"
    MEET_RULES = "meet-rules"
    LOOK_AT_RULES = "look-at-rules"


_BY_REASON = {
    Reason.NOT_MADE_HERE: Mend.PUT_ASIDE,
    Reason.EDITED_LOCK: Mend.RESOLVE,
    Reason.DECLARATION_CHANGED: Mend.RESOLVE,
    Reason.YANKED: Mend.RAISE,
    Reason.OBTAINABLE: Mend.OBTAIN,
    Reason.OTHER_LOCK: Mend.RECREATE,
    Reason.OTHER_SECTIONS: Mend.EVERYTHING,
    Reason.COMPILED_LATER: Mend.COMPILE,
    Reason.EXPORTED: None,  # no environment is mended by it
    Reason.KERNEL_LOST: None,  # nor by this
    Reason.NOT_ON_SYSTEM: None,  # the system installs it, as its administrator
    Reason.SYSTEM_UNKNOWN: None,
    Reason.RULES_UNKNOWN: Mend.LOOK_AT_RULES,
    Reason.SHADOWED: None,  # what is to become of the file only its author can say
}


def mend_of(finding: Finding) -> Mend | None:
    """The action that mends a finding; `None` if no command does."""
    if finding.reason in _BY_REASON:
        return _BY_REASON[finding.reason]
    if finding.kind is Kind.RULE:
        return _mend_of_rule(finding)
    if finding.kind is Kind.UNEXPECTED and finding.installed is not None:
        return None  # the lock may have it so, too; where it does not, another finding says what mends
    if finding.kind is Kind.RUNTIME:
        if finding.weight is Weight.NOTE:
            return None  # another machine made the lock
        nothing_fits = finding.subject != PYTHON and finding.weight is Weight.BREAKS
        return Mend.LOOK_FOR_RUNTIME if nothing_fits else Mend.RECREATE
    if finding.unmet and finding.locked is None and finding.kind in (Kind.VERSION, Kind.MISSING):
        return Mend.CHECK_LOCK  # the environment is as locked, and a requirement is not met all the same
    return None if finding.weight is Weight.NOTE else Mend.RECREATE


def _mend_of_rule(finding: Finding) -> Mend | None:
    """What mends a broken rule: the lock's move, or the lock itself where another version is installed."""
    if finding.weight is Weight.NOTE:
        return None
    if finding.locked != finding.installed:
        return Mend.RECREATE
    moving = isinstance(finding.cause, RuleBroken) and finding.cause.rule in MOVING
    return Mend.MEET_RULES if moving else Mend.LOOK_AT_RULES


def mends_of(findings: Iterable[Finding]) -> frozenset[Mend]:
    """The actions that mend all findings above notes.

    Where the lock was edited by hand it is written whole first: else nothing is made from it.
    """
    known = list(findings)
    weighty = {mend_of(finding) for finding in known if finding.weight is not Weight.NOTE}
    if weighty and any(finding.reason is Reason.EDITED_LOCK for finding in known):
        weighty.add(Mend.RESOLVE)
    return frozenset(mend for mend in weighty if mend is not None)


def is_by_hand(finding: Finding) -> bool:
    """Whether somebody installed another version, or what is not locked: that can be kept, too."""
    there = finding.installed is not None and finding.kind in (Kind.VERSION, Kind.SURPLUS)
    return there and finding.by_hand is not None
