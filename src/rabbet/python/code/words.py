"""Why a finding on imports is one, and why something is adopted or left, in words."""

from rabbet.python.code.adoption import AdoptCause, AdoptReason
from rabbet.python.code.imports import ImportCause, ImportReason

__all__ = ["adopt_text", "cause_text"]

_TEXTS = {
    ImportReason.GUARDED: "imported only where that may fail, or in some runs",
    ImportReason.COMES_WITH: "it comes with {}",
    ImportReason.BY_HAND: "it was installed by hand",
    ImportReason.COMMANDS: "it brings the command {}",
    ImportReason.PLUGINS: "it is a plug-in: {}",
    ImportReason.START_UP: "Python reads its {} whenever it starts",
    ImportReason.TYPES: "it holds types for another library",
    ImportReason.NO_MODULES: "it offers no module: it may be there for what it brings",
    ImportReason.NAMED_IN: "it is named in {}",
    ImportReason.OFFERED_BY: "offered by {}",
    ImportReason.INSTALLED: "a line of a notebook installs it",
    ImportReason.UNREADABLE: "{}",
}

_ADOPT_TEXTS = {
    AdoptReason.LISTED: "it is in {}",
    AdoptReason.PINNED: "{} has it at {}",
    AdoptReason.IMPORTED: "{} imports {}",
    AdoptReason.NOT_NEEDED: "nothing else that is installed needs it",
    AdoptReason.OTHER_USE: "nothing imports it, but ",
    AdoptReason.DIRECT: "it was installed from {}",
    AdoptReason.INSTALLER: "it installed the others",
    AdoptReason.BUILDER: "it builds libraries, and nothing here imports it",
    AdoptReason.NOT_IMPORTED: "it is installed, and nothing imports it",
    AdoptReason.NOT_OFFERED: "{} has it, and nothing installed offers it",
    AdoptReason.CALLED_SO: "{} imports it; {} has a library of that name, check that it is the one",
    AdoptReason.NOT_INSTALLED: "{} is not installed",
    AdoptReason.OTHER_VERSION: "it says {}, installed is {}",
    AdoptReason.TOLD_BY_BUILD: "its build tells what the project needs",
    AdoptReason.NO_FILE: "there is no such file here",
    AdoptReason.UNREADABLE: "{}",
}


def adopt_text(cause: AdoptCause) -> str:
    """Why something is taken over or left."""
    imported = f", and {cause.imported} imports it" if cause.imported else ""
    return _ADOPT_TEXTS[cause.reason].format(*cause.facts) + cause_text(cause.use) + imported


def cause_text(cause: ImportCause | None) -> str:
    """The cause of a finding, or the use of a library; empty for `None`."""
    return _TEXTS[cause.reason].format(", ".join(cause.names)) if cause else ""
