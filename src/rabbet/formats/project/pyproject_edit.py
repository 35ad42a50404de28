"""Changing a declaration's text while its comments, order and formatting stay."""

import tomllib
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import Any

import tomlkit
from msgspec.structs import replace
from packaging.version import Version
from tomlkit.items import AbstractTable, Array

from rabbet.core.declaration.edit import STEPS, Edit, EditResult, next_version
from rabbet.core.declaration.model import Section, SourceEntry
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text, specifiers_text
from rabbet.errors import NotUnderstood, WrongUsage
from rabbet.formats.project.key_edit import change_key
from rabbet.formats.project.variant_product import EVERY
from rabbet.formats.text.requirement import parse_requirement, parse_runtime
from rabbet.formats.text.toml_document import (
    AnyTable,
    absent,
    entries_of,
    made,
    made_settings,
    parse_document,
    put,
    set_text,
    settings_of,
    table_of,
    unset,
    written_name,
)

__all__ = ["apply", "complete", "places_of"]

_TABLES = {
    "group": ("dependency-groups",),
    "extra": ("project", "optional-dependencies"),
    "variant": ("tool", "rabbet", "variants"),
}


def apply(text: str, edits: Iterable[Edit]) -> tuple[str, tuple[EditResult, ...]]:
    """Carry out edits one after the other; without a change the text stays as it is.

    Raises `NotUnderstood` for a file that can't be edited, `WrongUsage` for what is not there to be
    retracted.
    """
    document = parse_document(text)
    changes: list[EditResult] = []
    declared: set[tuple[Section | None, str]] = set()
    for edit in edits:
        if (edit.verb, edit.what) == ("declare", "library"):
            library = (edit.section, parse_requirement(edit.value).name)
            changes += _declare_library(document, edit, again=library in declared)
            declared.add(library)
        else:
            changes += _WAYS.get((edit.verb, edit.what), change_key)(document, edit)
    if not any(change.happened for change in changes):
        return text, tuple(changes)
    edited = tomlkit.dumps(document)
    try:
        kept = _pruned(tomllib.loads(edited)) == _pruned(document.unwrap())
    except ValueError:
        kept = False
    if not kept:  # some ways of writing tables are no match for the library that keeps comments and order
        raise NotUnderstood(
            "pyproject.toml is written in a way that can't be changed without harm to it",
            because=["tables with dotted keys or in braces stand before others there"],
            note="write them as [project], [dependency-groups] and [tool.rabbet], or change the file by hand",
        )
    return edited, tuple(changes)


def _pruned(table: Mapping[str, object]) -> dict[str, object]:
    """A table's content without empty tables, which may or may not be written."""
    content = {key: _pruned(value) if isinstance(value, Mapping) else value for key, value in table.items()}
    return {key: value for key, value in content.items() if value != {}}


def complete(
    text: str,
    *,
    name: str,
    python: str,
    sources: Sequence[SourceEntry],
    needs: Sequence[Need],
    by_build: Collection[str] = (),
) -> str:
    """Add what a declaration lacks; existing entries are kept.

    Keys of `[project]` that are left to a build are not added, nor the table when all of them are.
    """
    document = parse_document(text)
    if "name" in by_build:
        made_settings(document)
        runtime = [Edit(verb="declare", what="runtime", value=f"python{python}")] if python else []
        completed = apply(tomlkit.dumps(document), runtime)[0]
    else:
        project = table_of(document, "project")
        project.setdefault("name", name)
        if "version" not in project and "version" not in project.get("dynamic", []):
            put(project, "version", "0.0.0")
        if python and "requires-python" not in by_build:
            project.setdefault("requires-python", python)
        if "dependencies" not in project and "dependencies" not in by_build:
            put(project, "dependencies", tomlkit.array())
        completed = tomlkit.dumps(document)
    if sources and "sources" not in document.get("tool", {}).get("rabbet", {}):
        completed = completed.rstrip("\n") + "\n\n" + tomlkit.dumps(_source_tables(sources))
    edits = [Edit(verb="declare", what="library", value=need_text(need, whole=True)) for need in needs]
    return apply(completed, edits)[0]


def places_of(text: str, need: Need) -> list[Section | None]:
    """Where an entry stands that makes this requirement; `None` is the project's own list."""
    document = parse_document(text)
    found = []
    for section in _sections(document):
        array, _ = _requirements(document, section)
        for number in entries_of(array, need.name):
            entry = parse_requirement(str(array[number]))
            if (entry.specifier, entry.extras, entry.url) == (need.specifier, need.extras, need.url):
                found.append(section)
    return found


def _declare_library(document: tomlkit.TOMLDocument, edit: Edit, *, again: bool) -> Iterable[EditResult]:
    """Add a requirement, or change the one on the same library.

    What is not given of it (bounds, extras, a marker) stays. An entry with another marker stays beside it;
    one without gets the marker. `again`: another edit of these declared the library there, and both count.
    """
    given = parse_requirement(edit.value)
    array, place = _requirements(document, edit.section, make=True)
    entries = entries_of(array, given.name)
    markers = {number: parse_requirement(str(array[number])).marker for number in entries}
    alike = [number for number in entries if markers[number] == given.marker]
    if again:
        entries = alike
    elif len(entries) > 1:
        entries = entries if given.is_bare and not edit.exactly else alike
    elif given.marker and any(markers.values()) and not edit.exactly:
        entries = alike
    if not entries:
        if not array:
            array.multiline(multiline=True)
        written = need_text(given, whole=True)
        array.append(written)
        yield EditResult(place=place, after=written)
    for number in entries[: None if given.is_bare and not edit.exactly else 1]:
        before = str(array[number])
        known = parse_requirement(before)
        wanted = given if edit.exactly else _merged(known, given, both=again)
        written = before if wanted == known else need_text(wanted, whole=True)
        if written != before:
            array[number] = written
        yield EditResult(place=place, before=before, after=written)
    for number in reversed(entries[1:] if edit.exactly else []):
        yield EditResult(place=place, before=str(array[number]))
        del array[number]


def _retract_library(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[EditResult]:
    """Take out the entries of a library, or (where extras are given) these extras of it."""
    given = parse_requirement(edit.value)
    places = [edit.section] if edit.section else _sections(document)
    changes = []
    for section in places:
        array, place = _requirements(document, section)
        entries = entries_of(array, given.name)
        for number in reversed(entries):
            before = str(array[number])
            kept = parse_requirement(before)
            if given.extras:
                left = replace(kept, extras=kept.extras - given.extras)
                written = need_text(left, whole=True) if left != kept else before
                if written != before:
                    array[number] = written
                    changes.append(EditResult(place=place, before=before, after=written))
            else:
                changes.append(EditResult(place=place, before=before))
                del array[number]
        if section is not None and section.kind != "variant" and entries and not array:
            _remove_section(document, section)
    if not changes:
        known = dict.fromkeys(str(entry) for place in places for entry in _requirements(document, place)[0])
        where = f" in the {edit.section}" if edit.section else ""
        raise absent(f"'{edit.value}' is not declared{where}", known, given=edit.value)
    return reversed(changes)


def _retract_section(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[EditResult]:
    """Take out a group, an extra or a variant with all that is in it."""
    if edit.section is None or edit.section not in _sections(document):
        given = edit.section.name if edit.section else ""
        if edit.section and edit.section.kind == "variant" and EVERY in _inside(document, _TABLES["variant"]):
            raise WrongUsage(
                f"the variant {given} is not written by itself in pyproject.toml",
                because=["combinations of [tool.rabbet.variants.every] are variants, too: edit its lists"],
                note="without them: rabbet retract --variant every",
            )
        raise absent(f"there is no {edit.section}", _sections(document), given=given)
    array, place = _requirements(document, edit.section)
    entries = [str(entry) for entry in array]
    _remove_section(document, edit.section)
    return [EditResult(place=place, before=entry) for entry in entries] or [
        EditResult(place=place, before="[]")
    ]


def _declare_runtime(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[EditResult]:
    """Set the constraint on a language.

    Python's is set wherever it stands already, else in the standard key (PEP 621) if there is its table.
    """
    need = parse_runtime(edit.value)
    python = specifiers_text(need.specifier)
    if need.name != "python":
        return [_declare_language(document, need, edit.section)]
    if edit.section is not None:
        table = made(_variant(document, edit.section), "runtimes")
        return [set_text(table, "python", python, _place_of_runtimes(edit.section))]
    places = _runtime_places(document)
    project = document.get("project")
    if not places and project is not None and "requires-python" not in project.get("dynamic", []):
        places = [(project, "requires-python", "project")]
    elif not places:  # a build would fail on so incomplete a table
        places = [(made(made_settings(document), "runtimes"), "python", "tool.rabbet.runtimes")]
    return [set_text(table, key, python, place) for table, key, place in places]


def _declare_language(document: tomlkit.TOMLDocument, need: Need, section: Section | None) -> EditResult:
    """Set the versions of another language than Python; what else is declared of it stays."""
    above = _variant(document, section) if section else made_settings(document)
    table, place = made(above, "runtimes"), _place_of_runtimes(section)
    key = written_name(table, need.name)
    if isinstance(table.get(key), AbstractTable):
        table, key, place = table[key], "version", f"{place}.{key}"
    if need.is_bare and key in table:
        return EditResult(place=f"{place}.{key}", before=str(table[key]), after=str(table[key]))
    known = key in table
    change = set_text(table, key, specifiers_text(need.specifier), place)
    return change if known else replace(change, after=need_text(need))


def _retract_runtime(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[EditResult]:
    if edit.value not in ("", "python"):
        return [_retract_language(document, edit)]
    places = _runtime_places(document)
    if edit.section is not None:
        runtimes = _above_runtimes(document, edit.section).get("runtimes", {})
        places = [(runtimes, "python", _place_of_runtimes(edit.section))] if "python" in runtimes else []
    if not places:
        raise absent("no runtime is declared" + (f" for the {edit.section}" if edit.section else ""))
    return [unset(table, key, place) for table, key, place in places]


def _place_of_runtimes(section: Section | None) -> str:
    return f"tool.rabbet.variants.{section.name}.runtimes" if section else "tool.rabbet.runtimes"


def _above_runtimes(document: tomlkit.TOMLDocument, section: Section | None) -> Any:  # noqa: ANN401 - as above
    """The table that may hold the `runtimes` of the project, or of a variant; empty when absent."""
    if section is None:
        return settings_of(document)
    variants = _inside(document, _TABLES["variant"])
    return variants.get(written_name(variants, section.name), {})


def _retract_language(document: tomlkit.TOMLDocument, edit: Edit) -> EditResult:
    above, name = _above_runtimes(document, edit.section), edit.value
    table = above.get("runtimes", {})
    key = written_name(table, name)
    if key not in table:
        where = f" for the {edit.section}" if edit.section else ""
        raise absent(f"no runtime of {name} is declared{where}", table, given=name)
    declared = table[key]
    before = declared.get("version", "") if isinstance(declared, AbstractTable) else declared
    del table[key]
    if not table:
        del above["runtimes"]
    return EditResult(place=f"{_place_of_runtimes(edit.section)}.{key}", before=f"{key}{before}")


def _runtime_places(document: tomlkit.TOMLDocument) -> list[tuple[AnyTable, str, str]]:
    project, runtimes = document.get("project", {}), settings_of(document).get("runtimes", {})
    places = [(project, "requires-python", "project"), (runtimes, "python", "tool.rabbet.runtimes")]
    return [(table, key, place) for table, key, place in places if key in table]


def _declare_own_version(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[EditResult]:
    """Set the project's own version, or raise it by a step."""
    project = table_of(document, "project")
    before = str(project.get("version", ""))
    if "version" in project.get("dynamic", []):
        raise WrongUsage(
            "the project's version is not written in pyproject.toml",
            because=["it is listed under project.dynamic: its build tells it"],
            note="raise it where its back end reads it from",
        )
    if edit.value in STEPS and not before:
        raise WrongUsage("the project has no version yet", remedy="rabbet declare --own-version 0.1.0")
    try:
        given = next_version(Version(before), edit.value) if edit.value in STEPS else Version(edit.value)
    except ValueError as error:
        raise WrongUsage(
            f"{error}", because=[f"give a version, or {', '.join(STEPS)}"], remedy="rabbet declare"
        ) from error
    return [set_text(project, "version", str(given), "project")]


_WAYS: Mapping[tuple[str, str], Callable[[tomlkit.TOMLDocument, Edit], Iterable[EditResult]]] = {
    ("retract", "library"): _retract_library,
    ("retract", "section"): _retract_section,
    ("declare", "runtime"): _declare_runtime,
    ("retract", "runtime"): _retract_runtime,
    ("declare", "own-version"): _declare_own_version,
}
"""What changes more than an entry of a key."""


def _merged(known: Need, given: Need, *, both: bool) -> Need:
    """A declared requirement with what was given of it; `both` bounds count, or the given ones alone."""
    place = given if given.specifier or given.url is not None else known
    return replace(
        known if given.is_bare else given,
        extras=given.extras | known.extras,
        specifier=known.specifier & given.specifier if both else place.specifier,
        url=place.url,
        marker=given.marker or known.marker,
    )


def _variant(document: tomlkit.TOMLDocument, section: Section) -> AnyTable:
    variants = made(made_settings(document), "variants")
    return made(variants, written_name(variants, section.name))


def _sections(document: tomlkit.TOMLDocument) -> list[Section | None]:
    """The project itself, and all groups, extras and variants of a document."""
    found: list[Section | None] = [None]
    for kind, path in _TABLES.items():
        found += [Section(kind, library_name(name)) for name in _inside(document, path)]  # type: ignore[arg-type]
    return found


def _inside(document: tomlkit.TOMLDocument, path: Iterable[str]) -> Any:  # noqa: ANN401 - as above
    table: Any = document
    for key in path:
        table = table.get(key, {})
    return table


def _requirements(
    document: tomlkit.TOMLDocument, section: Section | None, *, make: bool = False
) -> tuple[Array, str]:
    """The list that holds the requirements, and its name for messages; an empty one where there is none."""
    if section is None:
        table, key, place = document.get("project", {}), "dependencies", "project.dependencies"
        table = table_of(document, "project") if make else table
    else:
        path = _TABLES[section.kind]
        table = _inside(document, path)
        if make:
            table = table_of(document, path[0])
            for step in path[1:]:
                table = made(table, step)
        key = written_name(table, section.name)
        place = f"{'.'.join(path)}.{key}"
        if section.kind == "variant":
            table = made(table, key) if make else table.get(key, {})
            key, place = "requirements", f"{place}.requirements"
    if key not in table:
        if not make:
            return tomlkit.array(), place
        put(table, key, tomlkit.array())
    array = table[key]
    if not isinstance(array, Array):
        raise NotUnderstood(f"pyproject.toml: {place} must be a list")
    return array, place


def _remove_section(document: tomlkit.TOMLDocument, section: Section) -> None:
    """Remove a section, and what includes it."""
    path = _TABLES[section.kind]
    table = _inside(document, path)
    key = written_name(table, section.name)
    if (
        section.kind == "variant"
        and set(table[key]) - {"requirements"}
        and not table[key].get("requirements", True)
    ):
        del table[key]["requirements"]
        return
    del table[key]
    if not table:
        del _inside(document, path[:-1])[path[-1]]
    for other in _sections(document):
        array, _ = _requirements(document, other)
        for number in reversed(range(len(array))):
            entry = array[number]
            if section.kind == "group" and isinstance(entry, Mapping):
                if library_name(str(entry.get("include-group"))) == section.name:
                    del array[number]
            elif section.kind == "extra" and isinstance(entry, str):
                _leave_out_own_extra(document, array, number, section.name)


def _leave_out_own_extra(document: tomlkit.TOMLDocument, array: Array, number: int, extra: str) -> None:
    """Change an entry that names an extra of the project itself, which is gone."""
    entry = parse_requirement(str(array[number]))
    own = library_name(str(document.get("project", {}).get("name", "")))
    if entry.name != own or extra not in entry.extras:
        return
    left = replace(entry, extras=entry.extras - {extra})
    if left.extras:
        array[number] = need_text(left, whole=True)
    else:
        del array[number]


def _source_tables(sources: Sequence[SourceEntry]) -> Mapping[str, object]:
    entries = [{"name": source.name, "url": source.url} for source in sources]
    return {"tool": {"rabbet": {"sources": entries}}}
