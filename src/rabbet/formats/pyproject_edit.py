"""Changing a declaration's text while its comments, order and formatting stay."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import tomlkit
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import Array, Table

from rabbet.core.model.declaration import Section, SourceEntry
from rabbet.core.wording import requirement_text
from rabbet.errors import NotUnderstood
from rabbet.formats.requirement import parse_requirement

__all__ = ["Change", "complete", "put_requirement", "put_runtime", "put_targets", "take_requirement"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """What became of one entry: its text before (empty: it is new) and after (empty: it is gone)."""

    place: str
    before: str = ""
    after: str = ""

    @property
    def happened(self) -> bool:
        """Whether anything differs."""
        return self.before != self.after


def complete(
    text: str, *, name: str, python: str, sources: Sequence[SourceEntry], requirements: Sequence[Requirement]
) -> str:
    """Add what a declaration lacks; what is there already stays as it is."""
    document = _parse(text)
    project = _table(document, "project")
    project.setdefault("name", name)
    if "version" not in project and "version" not in project.get("dynamic", []):
        project.add("version", "0.0.0")
    if python:
        project.setdefault("requires-python", python)
    if "dependencies" not in project:
        project.add("dependencies", tomlkit.array())
    completed = tomlkit.dumps(document)
    if sources and "sources" not in document.get("tool", {}).get("rabbet", {}):
        completed = completed.rstrip("\n") + "\n\n" + tomlkit.dumps(_source_tables(sources))
    for requirement in requirements:
        completed, _ = put_requirement(completed, requirement, section=None)
    return completed


def put_requirement(text: str, requirement: Requirement, *, section: Section | None) -> tuple[str, Change]:
    """Add a requirement to the project (or to a section of it), or change the one on the same library.

    Where a library has several entries, the one with the same marker is changed.
    """
    document = _parse(text)
    array, place = _requirements(document, section)
    written = requirement_text(requirement, whole=True)
    entries = _entries_of(array, requirement.name)
    if len(entries) > 1:
        entries = [i for i in entries if parse_requirement(str(array[i])).marker == requirement.marker]
    if entries:
        before = str(array[entries[0]])
        if parse_requirement(before) != requirement:
            array[entries[0]] = written
        else:
            written = before
        return tomlkit.dumps(document), Change(place=place, before=before, after=written)
    if not array:
        array.multiline(multiline=True)
    array.append(written)
    return tomlkit.dumps(document), Change(place=place, after=written)


def take_requirement(text: str, name: str, *, section: Section | None) -> tuple[str, tuple[Change, ...]]:
    """Remove all entries of a library from the project or from a section."""
    document = _parse(text)
    array, place = _requirements(document, section)
    changes = []
    for number in reversed(_entries_of(array, name)):
        changes.append(Change(place=place, before=str(array[number])))
        del array[number]
    return (tomlkit.dumps(document) if changes else text), tuple(reversed(changes))


def put_runtime(text: str, python: str) -> tuple[str, Change]:
    """Set the constraint on Python: where it stands already, else in the standard key (PEP 621)."""
    document = _parse(text)
    runtimes = document.get("tool", {}).get("rabbet", {}).get("runtimes", {})
    if "python" in runtimes:
        table, key, place = runtimes, "python", "tool.rabbet.runtimes"
    else:
        table, key, place = _table(document, "project"), "requires-python", "project"
    before = str(table.get(key, ""))
    if before == python:
        return text, Change(place=f"{place}.{key}", before=before, after=python)
    table[key] = python
    return tomlkit.dumps(document), Change(place=f"{place}.{key}", before=before, after=python)


def put_targets(text: str, platforms: Sequence[str]) -> tuple[str, tuple[Change, ...]]:
    """Add platforms to those that the lock must serve."""
    document = _parse(text)
    tool = document.setdefault("tool", tomlkit.table(is_super_table=True))
    settings = tool.setdefault("rabbet", tomlkit.table())
    if "targets" not in settings:
        array = tomlkit.array()
        array.trivia.trail = "\n\n" if len(settings) else "\n"  # tables inside come behind it
        settings.add("targets", array)
    targets = settings["targets"]
    changes = []
    for platform in platforms:
        known = platform in targets
        if not known:
            targets.append(platform)
        before = platform if known else ""
        changes.append(Change(place="tool.rabbet.targets", before=before, after=platform))
    changed = any(change.happened for change in changes)
    return (tomlkit.dumps(document) if changed else text), tuple(changes)


def _parse(text: str) -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(text)
    except TOMLKitError as error:
        raise NotUnderstood("pyproject.toml is not valid TOML", because=[str(error)]) from error


def _table(document: tomlkit.TOMLDocument, key: str) -> Table:
    if key not in document:
        document.add(key, tomlkit.table())
    table = document[key]
    if not isinstance(table, Table):
        raise NotUnderstood(f"pyproject.toml: {key} must be a table")
    return table


def _requirements(document: tomlkit.TOMLDocument, section: Section | None) -> tuple[Array, str]:
    """The list that holds the requirements, made if need be, and its name for messages."""
    if section is None:
        table, key, place = _table(document, "project"), "dependencies", "project.dependencies"
    else:
        if section.kind == "group":
            table, place = _table(document, "dependency-groups"), "dependency-groups"
        else:
            table = _table(document, "project").setdefault("optional-dependencies", tomlkit.table())
            place = "project.optional-dependencies"
        same = [name for name in table if canonicalize_name(name) == canonicalize_name(section.name)]
        key = same[0] if same else section.name
        place = f"{place}.{key}"
    if key not in table:
        table.add(key, tomlkit.array())
    array = table[key]
    if not isinstance(array, Array):
        raise NotUnderstood(f"pyproject.toml: {place} must be a list")
    return array, place


def _entries_of(array: Array, name: str) -> list[int]:
    """The positions of a library's entries."""
    wanted = canonicalize_name(name)
    texts = [(number, entry) for number, entry in enumerate(array) if isinstance(entry, str)]
    return [number for number, entry in texts if canonicalize_name(parse_requirement(entry).name) == wanted]


def _source_tables(sources: Sequence[SourceEntry]) -> Mapping[str, object]:
    entries = [{"name": source.name, "url": source.url} for source in sources]
    return {"tool": {"rabbet": {"sources": entries}}}
