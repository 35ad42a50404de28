"""Findings that one deed brought about, told together: what somebody installed, and what came with it."""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from rabbet.core.model.finding import Finding, Reason

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
    """What somebody put there, and what came with it."""
    brought = {finding.name: finding for finding in findings if finding.installation is not None}
    causes = [finding for finding in brought.values() if _is_cause(finding, brought)]
    told: set[str] = {cause.name for cause in causes}
    along: dict[str, list[Finding]] = {cause.name: [] for cause in causes}
    for finding in brought.values():
        root = None if finding.name in told else _root(finding, brought, along)
        if root is not None:
            along[root].append(finding)
    told |= {finding.name for found in along.values() for finding in found}
    guessed: dict[str, list[Finding]] = {cause.name: [] for cause in causes}
    for finding in brought.values():
        near = next((cause for cause in causes if _together(cause, finding)), None)
        if near is not None and finding.name not in told:
            guessed[near.name].append(finding)
    found = (
        Story(cause=cause, along=tuple(along[cause.name]), guessed=tuple(guessed[cause.name]))
        for cause in causes
    )
    return tuple(story for story in found if story.along or story.guessed)


def _is_cause(finding: Finding, brought: Mapping[str, Finding]) -> bool:
    """Whether it was installed for itself: a locked library in another version is only that if asked for."""
    if finding.installation is not None and finding.installation.requested:
        return True
    return finding.locked is None and not any(name in brought for name in finding.needed_by)


def _root(finding: Finding, brought: Mapping[str, Finding], causes: Mapping[str, object]) -> str | None:
    """The cause that needs it, the nearest one."""
    waiting, seen = [finding.name], {finding.name}
    while waiting:
        for name in brought[waiting.pop(0)].needed_by:
            if name in causes:
                return name
            if name in brought and name not in seen:
                seen.add(name)
                waiting.append(name)
    return None


def _together(cause: Finding, finding: Finding) -> bool:
    """Whether one installer put both there at about the same time; without one, time says too little."""
    one, other = cause.installation, finding.installation
    if one is None or other is None or one.since is None or other.since is None:
        return False
    alike = one.installer == other.installer != ""
    return alike and abs(one.since - other.since) <= _TOGETHER
