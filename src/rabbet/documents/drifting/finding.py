"""A finding in words and in JSON, and the commands that mend it."""

from collections.abc import Collection

from msgspec.structs import asdict
from packaging.version import Version

from rabbet.core.drift.mends import Mend, mend_of
from rabbet.core.drift.stories import Story
from rabbet.core.drift.words import why
from rabbet.core.model.cause import Installation, Reason, RuleBroken, SecondCopy, Shadow
from rabbet.core.model.finding import Finding, Kind, Unmet
from rabbet.core.model.lock import LockedCheckout, LockedCommit, Needed, ToInstall
from rabbet.core.model.plan import Step
from rabbet.core.needs.wording import need_text
from rabbet.core.shell import quoted, variant_option
from rabbet.documents.amounts import day

__all__ = [
    "command_for",
    "detail",
    "finding_document",
    "mend_command",
    "step_reason",
    "story_text",
    "version_text",
]


def detail(finding: Finding) -> str:
    """Details beyond kind and versions; may be empty."""
    parts = [why(finding)]
    if finding.files and finding.reason is not Reason.UNRECORDED:
        more = len(finding.files) - 1
        parts.append(f"{finding.files[0]} and {more} more" if more else finding.files[0])
    if finding.shared_with:
        parts.append(f"a file shared with {', '.join(finding.shared_with)}")
    if finding.unmet:
        own = all(unmet.requirer == finding.name for unmet in finding.unmet)
        who = "" if own else f"{finding.unmet[0].requirer} "
        parts.append(f"{who}needs {', '.join(_unmet(unmet) for unmet in finding.unmet)}")
    if finding.comes_with:
        parts.append(f"it comes with {' → '.join(finding.comes_with)}")
    if isinstance(finding.cause, SecondCopy) and finding.cause.installation is not None:
        parts.append(_came_in(finding.cause.installation))
    if finding.by_hand is not None:
        parts.append(_came_in(finding.by_hand.installation, finding.by_hand.needed_by))
        if finding.by_hand.start_up:
            parts.append(f"Python reads its {', '.join(finding.by_hand.start_up)} whenever it starts")
    return "; ".join(part for part in parts if part)


def _came_in(installation: Installation, needed_by: tuple[str, ...] = ()) -> str:
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


def _unmet(unmet: Unmet) -> str:
    there = f"installed is {unmet.installed}" if unmet.installed else "which is not there"
    return f"{need_text(unmet.need, marker=False)}, {there}"


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
    if finding.kind is Kind.ORIGIN and finding.by_hand:
        return "was installed by hand"
    if finding.kind in (Kind.BUILD, Kind.ORIGIN):
        return _built_from(step.needed) or "came from another file"
    return detail(finding)


def _built_from(needed: ToInstall) -> str:
    """The source that a library is built from; empty for wheels."""
    if isinstance(needed, Needed):
        return ""
    if needed.own:
        return "the project itself, where it lies" if needed.kind == "editable" else "the project itself"
    if isinstance(needed.source, LockedCheckout):
        return f"the checkout in {needed.source.path}"
    if isinstance(needed.source, LockedCommit):
        return f"built from {needed.source.url}"
    return f"built from {needed.source.filename}"


def finding_document(finding: Finding) -> dict[str, object]:
    """A finding's subject, its locked and installed state, the requirements it breaks, and its cause."""
    by_hand = finding.by_hand
    brought = by_hand or (finding.cause if isinstance(finding.cause, SecondCopy) else None)
    installation = brought.installation if brought else None
    return {
        "kind": str(finding.kind),
        "about": str(finding.subject.about),
        "name": finding.name,
        "locked": version_text(finding.locked) or None,
        "installed": version_text(finding.installed) or None,
        "weight": str(finding.weight),
        "breaks": list(finding.breaks),
        "reason": str(finding.reason) if finding.reason else None,
        "detail": detail(finding),
        "file": _file(finding),
        "files": list(finding.files),
        "unmet": [need_text(unmet.need) for unmet in finding.unmet],
        "installation": asdict(installation) if installation else None,
        "needed_by": list(by_hand.needed_by) if by_hand else [],
        "start_up": list(by_hand.start_up) if by_hand else [],
        "comes_with": list(finding.comes_with),
        "rule": _rule(finding.cause) if isinstance(finding.cause, RuleBroken) else None,
    }


def _rule(broken: RuleBroken) -> dict[str, object]:
    return {
        "rule": broken.rule,
        "id": broken.id or None,
        "published": broken.published or None,
        "mended": version_text(broken.mended) or None,
    }


def _file(finding: Finding) -> str | None:
    """The file in front of a shadowed library, else the first of the finding's own files."""
    if isinstance(finding.cause, Shadow):
        return finding.cause.file
    return finding.files[0] if finding.files else None


def version_text(version: Version | None) -> str:
    """A version; empty where there is none."""
    return "" if version is None else str(version)


def command_for(finding: Finding, variant: str | None) -> str:
    """The command that mends one finding; empty where none does."""
    mend = mend_of(finding)
    return mend_command({mend}, variant, finding.name) if mend else ""


def mend_command(mends: Collection[Mend], variant: str | None, name: str = "") -> str:
    """One command line that does all of these; `name` is what a single finding is about."""
    of_variant = variant_option(variant)
    if Mend.PUT_ASIDE in mends:
        folder = f".venv-{variant}" if variant else ".venv"
        return f"mv {quoted(folder)} {quoted(folder + '-before')} && rabbet recreate{of_variant}"
    if mends == {Mend.CHECK_LOCK}:
        return f"rabbet resolve --verify{of_variant}"
    if mends == {Mend.LOOK_FOR_RUNTIME}:
        return f"rabbet runtimes --only {quoted(name)}" if name else "rabbet runtimes"
    if mends == {Mend.LOOK_AT_RULES}:
        return f"rabbet rules{of_variant}"
    parts = []
    if Mend.MEET_RULES in mends:
        parts.append(f"rabbet resolve --mend{of_variant}")
    elif Mend.RAISE in mends and name:
        parts.append(f"rabbet resolve --raise {quoted(name)}")
    elif Mend.RESOLVE in mends:
        parts.append("rabbet resolve")
    told = {Mend.OBTAIN: " --obtain", Mend.EVERYTHING: " --everything", Mend.COMPILE: " --fresh"}
    options = "".join(option for mend, option in told.items() if mend in mends)
    parts.append(f"rabbet recreate{of_variant}{options}")
    return " && ".join(parts)
