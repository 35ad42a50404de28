"""`rabbet.preferred.toml`: the versions that a project's next lock should prefer, beside the declaration."""

from collections.abc import Mapping

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.needs.names import is_name, library_name
from rabbet.disk.atomic import cannot_write, put_back_on_failure, write_text
from rabbet.disk.text_file import read_text
from rabbet.errors import NotUnderstood
from rabbet.formats.text.toml import parse_content
from rabbet.workspace.project import Project

__all__ = [
    "Preferred",
    "declare_and_prefer",
    "forget_preferred",
    "preferred_versions",
    "read_preferred",
    "write_preferred",
]


_FILE = "rabbet.preferred.toml"
_HEAD = """\
# Versions that `rabbet resolve` prefers to all others, as far as everything that is required allows them.
# It removes this file once they are locked.
"""


class Preferred(Struct, frozen=True, kw_only=True):
    """Versions of libraries by name, and that of Python, `None` where any will do."""

    libraries: Mapping[NormalizedName, Version] = field(default_factory=dict)
    python: Version | None = None


def read_preferred(text: str) -> Preferred:
    """The preferred versions in a text. Raises `NotUnderstood`."""
    try:
        content = parse_content(text)
        table, python = content.get("preferred"), content.get("python")
    except ValueError as error:
        raise NotUnderstood(f"{_FILE} can't be read", because=[str(error)]) from error
    if not isinstance(table, dict) or not all(isinstance(version, str) for version in table.values()):
        raise NotUnderstood(f"{_FILE} has no table [preferred] of names and versions")
    found: dict[NormalizedName, Version] = {}
    for name, version in table.items():
        try:
            if is_name(name):
                found[library_name(name)] = Version(version)
        except ValueError as error:
            because = [f"{name}: '{version[:60]}' is not a version"]
            raise NotUnderstood(f"{_FILE} can't be used", because=because) from error
    try:
        return Preferred(libraries=found, python=None if python is None else Version(str(python)))
    except ValueError as error:
        because = [f"python: '{str(python)[:60]}' is not a version"]
        raise NotUnderstood(f"{_FILE} can't be used", because=because) from error


def write_preferred(preferred: Preferred) -> str:
    """The file's text, sorted by name."""
    python = f'python = "{preferred.python}"\n' if preferred.python else ""
    versions = "".join(f'{name} = "{version}"\n' for name, version in sorted(preferred.libraries.items()))
    return f"{_HEAD}{python}\n[preferred]\n{versions}"


def preferred_versions(project: Project) -> Preferred:
    """The project's preferred versions; empty without any. Raises `NotUnderstood`."""
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
