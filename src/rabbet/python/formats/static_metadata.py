"""The metadata that a source tree declares in `pyproject.toml` (PEP 621), read without running its code."""

from collections.abc import Iterator, Mapping

from msgspec.structs import replace
from packaging.markers import Marker
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.release import Metadata
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.needs.need import Need
from rabbet.formats.text.toml import parse_content
from rabbet.python.formats.metadata import MetadataBroken, bounded, needs_of

__all__ = ["metadata_of_tree", "name_of_tree"]

_NEEDED = {"version", "dependencies", "optional-dependencies", "requires-python"}


def metadata_of_tree(pyproject: str | None) -> Metadata:
    """The metadata in `[project]`, where nothing that resolving needs is left to a build.

    Raises `MetadataBroken`.
    """
    if pyproject is None:
        raise MetadataBroken("it has no pyproject.toml")
    try:
        project = parse_content(pyproject).get("project")
    except ValueError as error:
        raise MetadataBroken(f"its pyproject.toml is not valid TOML: {error}") from error
    if not isinstance(project, dict):
        raise MetadataBroken("its pyproject.toml has no [project]: only a build could tell its requirements")
    told = project.get("dynamic", [])
    dynamic = sorted(
        _NEEDED.intersection(name for name in told if isinstance(name, str))
        if isinstance(told, list)
        else _NEEDED
    )
    if dynamic:
        raise MetadataBroken(f"only a build could tell its {' and '.join(dynamic)}")
    try:
        return Metadata(
            name=_name(bounded(project["name"])),
            version=Version(bounded(project["version"])),
            requires_python=SpecifierSet(bounded(project.get("requires-python", ""))),
            needs=tuple(_requirements(project)),
            extras=frozenset(_extras(project)),
        )
    except KeyError as error:
        raise MetadataBroken(f"its pyproject.toml lacks project.{error.args[0]}") from error
    except MetadataBroken:
        raise
    except (ValueError, TypeError, AttributeError) as error:
        raise MetadataBroken(f"its pyproject.toml can't be understood: {error}") from error


def name_of_tree(pyproject: str | None) -> NormalizedName | None:
    """The name in `[project]`, where it can be read."""
    try:
        project = parse_content(pyproject or "").get("project")
        return _name(bounded(project["name"])) if isinstance(project, dict) else None
    except (ValueError, KeyError):
        return None


def _name(text: str) -> NormalizedName:
    if not is_name(text):
        raise MetadataBroken(f"'{text[:60]}' in its pyproject.toml is not a name")
    return library_name(text)


def _requirements(project: Mapping[str, object]) -> Iterator[Need]:
    dependencies = project.get("dependencies", [])
    if not isinstance(dependencies, list):
        raise TypeError("project.dependencies must be a list")
    yield from needs_of(dependencies)
    for extra, texts in _extras(project).items():
        for need in needs_of(texts):
            where = f"({need.marker}) and " if need.marker else ""
            yield replace(need, marker=Marker(f"{where}extra == '{extra}'"))


def _extras(project: Mapping[str, object]) -> Mapping[NormalizedName, list[str]]:
    optional = project.get("optional-dependencies", {})
    if not isinstance(optional, dict):
        raise TypeError("project.optional-dependencies must be a table")
    return {library_name(name): texts for name, texts in optional.items()}
