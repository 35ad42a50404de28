"""Why a finding is one, in words."""

from rabbet.core.model.finding import Finding, Kind, Reason

__all__ = ["why"]

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
    Reason.NONE_FITS: "no runtime on this machine is one that the project allows",
    Reason.NOT_LINKED: "it is not linked",
    Reason.NOT_DECLARED: "it is linked, and not declared",
    Reason.BUILT_OTHERWISE: "what it is built from, or how, is not what it was then",
}
_KINDS = {
    Kind.BUILD: "made from another file of this release",
    Kind.ORIGIN: "made from a file that is not locked",
}


def why(finding: Finding) -> str:
    """What kind and versions do not say of it; may be empty."""
    told = finding.told
    if finding.reason is Reason.YANKED:
        return f"{finding.locked} was yanked: {told or 'no reason is given'}"
    if finding.reason is Reason.MADE_WITH:
        return f"it was made with Python {finding.installed} of {told}"
    if finding.reason is Reason.OTHER_LINKED:
        return f"linked is {told}"
    if finding.reason is Reason.NO_RECORD:
        return f"without a record of their files, so nobody can check these: {told}"
    if finding.reason is Reason.COMPILED_LATER:
        return f"Python compiled modules of these itself, so nobody can check these modules: {told}"
    if finding.kind is Kind.ORIGIN and finding.installation is not None:
        return "nobody noted from which file it was made"
    known = _REASONS.get(finding.reason, "") if finding.reason else _KINDS.get(finding.kind, "")
    return known or told
