"""Keep what was installed by hand: into the declaration, and into what the next lock prefers."""

from collections.abc import Mapping, Sequence

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.edit import EditResult
from rabbet.core.declaration.model import Section
from rabbet.core.drift.keep import keep
from rabbet.core.drift.mends import is_by_hand
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.core.shell import quoted
from rabbet.disk.text_file import read_text
from rabbet.errors import WrongUsage
from rabbet.formats.project.pyproject_edit import apply
from rabbet.tasks.drifting.drift import drift
from rabbet.workspace.preferred import declare_and_prefer
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session

__all__ = ["Keeping", "keeping", "save"]


class Keeping(Struct, frozen=True, kw_only=True):
    """The planned changes of the declaration, and the versions that the next lock would prefer."""

    project: Project
    changes: tuple[EditResult, ...]
    preferred: Mapping[NormalizedName, Version]
    text: str


def keeping(session: Session, names: Sequence[str], section: Section | None) -> Keeping:
    """Work out what it takes to keep libraries as they are installed; nothing is written.

    Without names these are all that were installed by hand. Raises what `drift` raises, and `WrongUsage` for
    what was not.
    """
    found, declaration = drift(session), session.declaration()
    by_hand = {finding.name for finding in found.findings if is_by_hand(finding)}
    wanted = [library_name(name) for name in names] or sorted(map(library_name, by_hand))
    if not wanted:
        raise WrongUsage("nothing was installed by hand, so there is nothing to keep", remedy="rabbet drift")
    for name in wanted:
        if name not in by_hand:
            raise _not_by_hand(name, by_hand)
    if section is not None and section.kind == "group" and section.name not in declaration.groups:
        known = ", ".join(sorted(declaration.groups)) or "none"
        raise WrongUsage(f"there is no group '{section.name}'", because=[f"there are: {known}"])
    kept = keep(wanted, found.findings, found.stories, list(declaration.declared()), section)
    text, changes = apply(read_text(session.project.declaration_file, by_hand=True), kept.edits)
    return Keeping(project=session.project, changes=changes, preferred=kept.preferred, text=text)


def _not_by_hand(name: str, known: set[str]) -> WrongUsage:
    near = near_names(name, known)
    return WrongUsage(
        f"{name} was not installed by hand, so there is nothing to keep",
        because=[f"these were: {', '.join(sorted(known)) or 'none'}"],
        remedy=f"rabbet drift --keep {quoted(near[0])}" if near else "rabbet drift",
    )


def save(kept: Keeping) -> None:
    """Write both files, or neither. Raises `CannotWrite`."""
    declare_and_prefer(kept.project, kept.text if kept.changes else None, kept.preferred)
