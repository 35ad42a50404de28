"""What a finding says, in words: for `drift`, and as the reason of a plan's step."""

from rabbet.core.drift.stories import Story
from rabbet.core.model.finding import Finding, Kind, Reason, Unmet
from rabbet.core.model.inventory import Installation
from rabbet.core.model.lock import LockedCheckout, LockedCommit, Needed, ToInstall
from rabbet.core.model.plan import Step
from rabbet.core.needs.wording import need_text
from rabbet.documents.amounts import day

__all__ = ["detail", "step_reason", "story_text"]

_REASONS = {
    Reason.SECOND_COPY: "a second copy",
    Reason.UNFINISHED: "a run that was cut short was changing it",
    Reason.UNRECORDED: "a file that nobody recorded",
    Reason.START_UP: "nobody recorded it, and Python reads it whenever it starts",
    Reason.NO_METADATA: "its METADATA is gone or can't be read, so nobody knows what it needs",
    Reason.REMOVED: "Rabbet had put it there, and somebody removed it",
    Reason.OTHER_LOCK: "made from another lock than today's",
    Reason.NOT_MADE_HERE: "it was not made here by your Rabbet, so its notes are not believed",
    Reason.EDITED_LOCK: "edited by hand in the lock",
    Reason.DECLARATION_CHANGED: "declaration changed",
    Reason.EXPORTED: "`export` made it of another lock than today's",
    Reason.OBTAINABLE: "it is not on this machine, and the lock says where it can be had",
    Reason.PERMISSIONS: "its content is as locked, but others may write it, or it can't be read by all",
    Reason.BUILT_OTHERWISE: "what it is built from, or how, is not what it was then",
}
_KINDS = {
    Kind.BUILD: "made from another file of this release",
    Kind.ORIGIN: "made from a file that is not locked",
}


def detail(finding: Finding) -> str:
    """Details beyond kind and versions; may be empty."""
    parts = [_why(finding)]
    if finding.files and finding.reason is not Reason.UNRECORDED:
        more = len(finding.files) - 1
        parts.append(f"{finding.files[0]} and {more} more" if more else finding.files[0])
    if finding.shared_with:
        parts.append(f"a file shared with {', '.join(finding.shared_with)}")
    if finding.unmet:
        own = all(one.requirer == finding.name for one in finding.unmet)
        who = "" if own else f"{finding.unmet[0].requirer} "
        parts.append(f"{who}needs {', '.join(_unmet(one) for one in finding.unmet)}")
    if finding.comes_with:
        parts.append(f"it comes with {' → '.join(finding.comes_with)}")
    if finding.installation is not None:
        parts.append(_cause(finding.installation, finding.needed_by))
    if finding.start_up:
        parts.append(f"Python reads its {', '.join(finding.start_up)} whenever it starts")
    return "; ".join(part for part in parts if part)


def _cause(installation: Installation, needed_by: tuple[str, ...]) -> str:
    """Who brought something in, when, from where, and for whom."""
    since = "" if installation.since is None else day(installation.since)
    if installation.installer:
        told = [f"installed by {installation.installer}" + (f" on {since}" if since else "")]
    else:
        told = [f"there since {since}, no installer is noted" if since else "no installer is noted"]
    if installation.origin:
        told.append(f"from {installation.origin}")
    if installation.requested:
        told.append("asked for by name")
    elif needed_by:
        told.append(f"needed by {', '.join(needed_by)}")
    return ", ".join(told)


def story_text(story: Story) -> str:
    """One deed and what came of it, in a sentence."""
    if story.cause.reason is Reason.OTHER_LOCK:
        names = ", ".join(_became(finding) for finding in story.along)
        return f"One story: the environment was made from another lock, which explains {names}."
    told = [f"One story: {story.cause.name} {story.cause.installed or ''}".rstrip() + " was put there"]
    if story.along:
        told.append(f"and brought {', '.join(_became(finding) for finding in story.along)}")
    if story.guessed:
        names = ", ".join(_became(finding) for finding in story.guessed)
        told.append(f"and, to guess by installer and time, {names} as well")
    return " ".join(told) + "."


def _became(finding: Finding) -> str:
    """A library that came along, was moved, or is not there."""
    if finding.installed is None:
        return f"{finding.name} missing"
    if finding.locked is not None and finding.locked != finding.installed:
        return f"{finding.name} {finding.installed} in place of {finding.locked}"
    return f"{finding.name} {finding.installed}"


def _why(finding: Finding) -> str:
    if finding.reason is Reason.YANKED:
        return f"{finding.locked} was yanked: {finding.told or 'no reason is given'}"
    if finding.kind is Kind.ORIGIN and finding.installation is not None:
        return "nobody noted from which file it was made"
    known = _REASONS.get(finding.reason, "") if finding.reason else _KINDS.get(finding.kind, "")
    return known or finding.told


def _unmet(one: Unmet) -> str:
    there = f"installed is {one.installed}" if one.installed else "which is not there"
    return f"{need_text(one.need, marker=False)}, {there}"


def step_reason(step: Step) -> str:
    """Why a library is changed or removed, and where one that is built comes from; else empty."""
    finding = step.finding
    if step.needed is None:
        return "locked, but for what was not chosen" if step.not_chosen else "not in the lock"
    if finding is None or not step.installed:
        return _built_from(step.needed)
    if finding.reason is Reason.SECOND_COPY:
        return "installed more than once"
    if finding.kind is Kind.VERSION:
        return f"was {finding.installed}"
    if finding.files:
        return f"{finding.files[0]} {'is gone' if finding.kind is Kind.MISSING else 'was altered'}"
    if finding.reason is Reason.BUILT_OTHERWISE:
        return "what it is built from changed"
    if finding.kind in _KINDS:
        return _built_from(step.needed) or "came from another file"
    return detail(finding)


def _built_from(needed: ToInstall) -> str:
    """What a library is built from, if it is; empty for wheels."""
    if isinstance(needed, Needed):
        return ""
    if needed.own:
        return "the project itself, where it lies" if needed.kind == "editable" else "the project itself"
    if isinstance(needed.source, LockedCheckout):
        return f"the checkout in {needed.source.path}"
    if isinstance(needed.source, LockedCommit):
        return f"built from {needed.source.url}"
    return f"built from {needed.source.filename}"
