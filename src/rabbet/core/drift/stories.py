"""Findings that one deed brought about, told together: what somebody installed, and what came with it."""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from rabbet.core.model.cause import ByHand, Reason
from rabbet.core.model.finding import Finding

__all__ = ["Story", "stories"]

_TOGETHER = 120.0  # seconds within which one run of an installer puts everything in its place


class Story(Struct, frozen=True, kw_only=True):
    """The finding that others follow from: they came `along`, or that is `guessed` by installer and time."""

    cause: Finding
    along: tuple[Finding, ...]
    guessed: tuple[Finding, ...] = ()


def stories(findings: Sequence[Finding]) -> tuple[Story, ...]:
    """The stories that hold more than one finding; each finding is in one at most.

    That an environment was made from another lock explains all that is left over from that. Else a cause is
    something that was installed and that nothing else among the findings needs, or that somebody asked for by
    name. What it needs, directly or not, came along. What the same installer put there at about the same
    time, and nothing else explains, is guessed to have come along too.
    """
    stale = next((finding for finding in findings if finding.reason is Reason.OTHER_LOCK), None)
    left_over = tuple(finding for finding in findings if finding.left_over)
    first = (Story(cause=stale, along=left_over),) if stale and left_over else ()
    return (*first, *_by_hand(findings))


def _by_hand(findings: Sequence[Finding]) -> tuple[Story, ...]:
    """Libraries installed by hand, each with those that it brought along."""
    brought = {finding.name: finding for finding in findings if finding.by_hand}
    how = {finding.name: finding.by_hand for finding in findings if finding.by_hand}
    causes = [finding for name, finding in brought.items() if _is_cause(finding, how[name], how)]
    told: set[str] = {cause.name for cause in causes}
    along: dict[str, list[Finding]] = {cause.name: [] for cause in causes}
    for finding in brought.values():
        root = None if finding.name in told else _root(finding.name, how, along)
        if root is not None:
            along[root].append(finding)
    told |= {finding.name for found in along.values() for finding in found}
    guessed: dict[str, list[Finding]] = {cause.name: [] for cause in causes}
    for name, finding in brought.items():
        near = next((cause for cause in causes if _together(how[cause.name], how[name])), None)
        if near is not None and name not in told:
            guessed[near.name].append(finding)
    found = (
        Story(cause=cause, along=tuple(along[cause.name]), guessed=tuple(guessed[cause.name]))
        for cause in causes
    )
    return tuple(story for story in found if story.along or story.guessed)


def _is_cause(finding: Finding, how: ByHand, brought: Mapping[str, ByHand]) -> bool:
    """Whether it was installed for itself: a locked library in another version is only that if asked for."""
    if how.installation.requested:
        return True
    return finding.locked is None and not any(name in brought for name in how.needed_by)


def _root(name: str, brought: Mapping[str, ByHand], causes: Mapping[str, object]) -> str | None:
    """The cause that needs it, the nearest one."""
    waiting, seen = [name], {name}
    while waiting:
        for above in brought[waiting.pop(0)].needed_by:
            if above in causes:
                return above
            if above in brought and above not in seen:
                seen.add(above)
                waiting.append(above)
    return None


def _together(cause: ByHand, other: ByHand) -> bool:
    """Whether one installer put both there at about the same time; without one, time says too little."""
    first, second = cause.installation, other.installation
    if first.since is None or second.since is None:
        return False
    alike = first.installer == second.installer != ""
    return alike and abs(first.since - second.since) <= _TOGETHER
