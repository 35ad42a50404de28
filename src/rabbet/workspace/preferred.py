"""The versions that a project's next lock should prefer: noted, read, and done away with."""

from collections.abc import Mapping

from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.disk.atomic import cannot_write, put_back_on_failure, write_text
from rabbet.disk.text_file import read_text
from rabbet.formats.preferred import Preferred, read_preferred, write_preferred
from rabbet.workspace.project import Project

__all__ = ["declare_and_prefer", "forget_preferred", "preferred_versions"]


def preferred_versions(project: Project) -> Preferred:
    """What is noted; empty where nothing is. Raises `NotUnderstood`."""
    if not project.preferred_file.exists():
        return Preferred()
    return read_preferred(read_text(project.preferred_file, by_hand=True))


def declare_and_prefer(
    project: Project,
    declaration: str | None,
    versions: Mapping[NormalizedName, Version],
    python: Version | None = None,
) -> None:
    """Write a declaration's new text, if there is one, and note more versions; both, or neither.

    A `python` is noted beside versions of libraries, if there are any. Raises `CannotWrite`, `NotUnderstood`.
    """
    files = [project.declaration_file, project.preferred_file]
    with put_back_on_failure(files, new=lambda: (path for path in files if path.is_file())):
        if declaration is not None:
            write_text(project.declaration_file, declaration)
        if versions:
            known = preferred_versions(project)
            more = Preferred(libraries={**known.libraries, **versions}, python=python or known.python)
            write_text(project.preferred_file, write_preferred(more))


def forget_preferred(project: Project) -> None:
    """They are locked now, or were overruled. Raises `CannotWrite`."""
    with cannot_write(project.preferred_file):
        project.preferred_file.unlink(missing_ok=True)
