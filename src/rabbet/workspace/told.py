"""Metadata from a project's build, kept in its locks; it is asked again when files that it read change."""

from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from msgspec.structs import replace

from rabbet.core.model.build import Told
from rabbet.disk.regular_file import is_there
from rabbet.disk.text_file import read_text
from rabbet.errors import NotUnderstood
from rabbet.formats.project.told import told_in
from rabbet.python.builds.folder_state import needs_state

__all__ = ["is_told_again", "noted_told"]


def noted_told(folder: Path, locks: Iterable[Path]) -> Told | None:
    """The metadata a build told, stamped with the files' state; another state makes it out of date."""
    told = _in_locks(locks)
    return replace(told, state=needs_state(str(folder))) if told else None


def is_told_again(folder: Path, locks: Iterable[Path]) -> bool:
    """Whether the build has to be asked, for nothing was told yet, or its files changed since."""
    told = _in_locks(locks)
    return told is None or told.state != needs_state(str(folder))


def _in_locks(locks: Iterable[Path]) -> Told | None:
    """The metadata in the project's own lock, else in that of a variant; what can't be read was not told."""
    for path in locks:
        with suppress(NotUnderstood):
            told = told_in(read_text(path), path.name) if is_there(path) else None
            if told is not None:
                return told
    return None
