"""The versions that a project's next lock should prefer: noted, read, and done away with."""

from collections.abc import Mapping

from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.formats.preferred import read_preferred, write_preferred
from rabbet.store.atomic import cannot_write, write_text
from rabbet.workspace.project import Project, read_text

__all__ = ["forget_preferred", "prefer", "preferred_versions"]


def preferred_versions(project: Project) -> Mapping[NormalizedName, Version]:
    """What is noted; empty where nothing is. Raises `NotUnderstood`."""
    if not project.preferred_file.exists():
        return {}
    return read_preferred(read_text(project.preferred_file, by_hand=True))


def prefer(project: Project, versions: Mapping[NormalizedName, Version]) -> None:
    """Note these, and no others. Raises `CannotWrite`."""
    write_text(project.preferred_file, write_preferred(versions))


def forget_preferred(project: Project) -> None:
    """They are locked now, or were overruled. Raises `CannotWrite`."""
    with cannot_write(project.preferred_file):
        project.preferred_file.unlink(missing_ok=True)
