"""Why a finding is one, in words."""

from collections.abc import Sequence

from rabbet.core.model.cause import (
    ByHand,
    InterpreterChanged,
    LeftOut,
    MadeForSections,
    Reason,
    ReasonWith,
    RuleBroken,
    Shadow,
    Unchecked,
)
from rabbet.core.model.finding import Finding, Kind
from rabbet.core.model.lock import Selection

__all__ = ["why"]

_SHOWN_NAMES = 5
_REASONS = {
    Reason.SECOND_COPY: "a second copy",
    Reason.UNFINISHED: "a run that was cut short was changing it",
    Reason.UNRECORDED: "an untracked file",
    Reason.START_UP: "untracked file that Python loads at every start",
    Reason.NO_METADATA: "its METADATA is gone or can't be read, so its requirements are unknown",
    Reason.REMOVED: "Rabbet had put it there, and somebody removed it",
    Reason.OTHER_LOCK: "made from another lock than today's",
    Reason.NOT_MADE_HERE: "foreign environment: its install state is ignored",
    Reason.EDITED_LOCK: "edited by hand in the lock",
    Reason.DECLARATION_CHANGED: "declaration changed",
    Reason.EXPORTED: "`export` made it of another lock than today's",
    Reason.KERNEL_LOST: "the kernel's environment is gone; to remove it: rabbet export kernels --back",
    Reason.OBTAINABLE: "it is not on this machine, and the lock says where to get it",
    Reason.PERMISSIONS: "its content is as locked, but others may write it, or it can't be read by all",
    Reason.NONE_FITS: "no runtime on this machine is one that the project allows",
    Reason.NOT_LINKED: "it is not linked",
    Reason.NOT_DECLARED: "it is linked, and not declared",
    Reason.BUILT_OTHERWISE: "its sources or its build changed since it was built",
}
_KINDS = {
    Kind.BUILD: "made from another file of this release",
    Kind.ORIGIN: "made from a file that is not locked",
}


_TEXTS = {
    Reason.OTHER_LINKED: "linked is {text}",
    Reason.NOT_A_FOLDER: "{text} is not a folder",
    Reason.IS_A_LINK: "{text} is a link",
    Reason.OWN_FILE_ALTERED: "{text} was altered",
    Reason.OWN_FILE_GONE: "{text} is gone",
    Reason.INTERPRETER_GONE: "its interpreter {text} is gone",
    Reason.INTERPRETER_UNKNOWN: "its interpreter {text} is not among those found on this machine",
    Reason.NOT_ON_SYSTEM: "{text}",
    Reason.SYSTEM_UNKNOWN: "{text}",
    Reason.RULES_UNKNOWN: "whether rules are broken can't be told: {text}",
    Reason.NOT_EXPECTED: "{text}",
    Reason.INTERPRETER_REFUSED: "its interpreter {text}",
}
_UNCHECKED = {
    Reason.NO_RECORD: "without a record of their files, so they can't be checked",
    Reason.COMPILED_LATER: "Python compiled modules of these itself, so these modules can't be checked",
}


def why(finding: Finding) -> str:
    """The cause of a finding in words; empty when kind and versions say it all."""
    match finding.cause:
        case ReasonWith(reason=Reason.YANKED, text=text):
            return f"{finding.locked} was yanked: {text or 'no reason is given'}"
        case ReasonWith(reason=Reason.MADE_WITH, text=text):
            return f"it was made with Python {finding.installed} of {text}"
        case ReasonWith(reason=reason, text=text):
            return _TEXTS[reason].format(text=text)
        case Unchecked(reason=reason, libraries=libraries):
            return f"{_UNCHECKED[reason]}: {_some(libraries)}"
        case MadeForSections(chosen=chosen, locked=locked):
            return f"it was made for {_sections(chosen)}; the lock has {_sections(locked)}"
        case Shadow() as shadow:
            return f"import {shadow.module} takes {_other_file(shadow)}"
        case InterpreterChanged(executable=place, before=before, now=now):
            return f"its interpreter {place} was changed from {before} to {now}"
        case RuleBroken(told=told):
            return told
        case LeftOut(libraries=number):
            return f"{number} of what is not in the lock, as the declaration asks for"
        case ByHand() if finding.kind is Kind.ORIGIN:
            return "from which file it was made is unknown"
    return _REASONS.get(finding.reason, "") if finding.reason else _KINDS.get(finding.kind, "")


def _other_file(shadow: Shadow) -> str:
    if shadow.project:
        return f"the project's {shadow.file} where a program is started in its folder"
    return f"{shadow.file}, which Python finds first"


def _sections(selection: Selection) -> str:
    named = [f"group {name}" for name in sorted(selection.groups)]
    named += [f"extra {name}" for name in sorted(selection.extras)]
    return ", ".join(named) or "no groups and extras"


def _some(names: Sequence[str]) -> str:
    return ", ".join(names[:_SHOWN_NAMES]) + (", …" if len(names) > _SHOWN_NAMES else "")
