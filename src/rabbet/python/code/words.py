"""Why a finding on imports is one, in words."""

from rabbet.python.code.imports import ImportCause, ImportReason

__all__ = ["cause_text"]

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
    ImportReason.UNREADABLE: "{}",
}


def cause_text(cause: ImportCause | None) -> str:
    """The cause of a finding, or the use of a library; empty for `None`."""
    return _TEXTS[cause.reason].format(", ".join(cause.names)) if cause else ""
