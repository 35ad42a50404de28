"""Changing a declaration's text while its comments, order and formatting stay."""

import re
import tomllib
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import Any, TypeAlias

import tomlkit
from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version
from tomlkit.container import OutOfOrderTableProxy
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import AbstractTable, AoT, Array, InlineTable

from rabbet.core.model.declaration import Section, SourceEntry
from rabbet.core.model.edit import Change, Edit
from rabbet.core.needs.need import Need, library_name
from rabbet.core.needs.wording import need_text, specifiers_text
from rabbet.core.next_version import STEPS, next_version
from rabbet.core.shell import quoted
from rabbet.errors import NotUnderstood, WrongUsage
from rabbet.formats.requirement import parse_requirement, parse_runtime

__all__ = ["apply", "complete", "places_of"]

_TABLES = {
    "group": ("dependency-groups",),
    "extra": ("project", "optional-dependencies"),
    "variant": ("tool", "rabbet", "variants"),
}
AnyTable: TypeAlias = AbstractTable | OutOfOrderTableProxy
_NAMED = re.compile(r"([A-Za-z0-9][A-Za-z0-9._-]*)=(.+)\Z")
_PLACES = {"source": "sources", "catalogue": "catalogues"}
_LISTS = {
    "target": "targets",
    "python": "pythons",
    "without": "without",
    "build-from-source": "build-from-source",
}


def apply(text: str, edits: Iterable[Edit]) -> tuple[str, tuple[Change, ...]]:
    """Carry out edits one after the other; without a change the text stays as it is.

    Raises `NotUnderstood` for a file that can't be edited, `WrongUsage` for what is not there to be
    retracted.
    """
    document = _parse(text)
    changes: list[Change] = []
    declared: set[tuple[Section | None, str]] = set()
    for edit in edits:
        if (edit.verb, edit.what) == ("declare", "library"):
            library = (edit.section, parse_requirement(edit.value).name)
            changes += _declare_library(document, edit, again=library in declared)
            declared.add(library)
        else:
            changes += _WAYS[edit.verb, edit.what](document, edit)
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
    content = {key: _pruned(one) if isinstance(one, Mapping) else one for key, one in table.items()}
    return {key: one for key, one in content.items() if one != {}}


def complete(
    text: str,
    *,
    name: str,
    python: str,
    sources: Sequence[SourceEntry],
    needs: Sequence[Need],
    by_build: Collection[str] = (),
) -> str:
    """Add what a declaration lacks; what is there already stays as it is.

    Of `[project]` nothing is added that is left to a build, and no such table where all of it is.
    """
    document = _parse(text)
    if "name" in by_build:
        _made_settings(document)
        runtime = [Edit(verb="declare", what="runtime", value=f"python{python}")] if python else []
        completed = apply(tomlkit.dumps(document), runtime)[0]
    else:
        project = _table(document, "project")
        project.setdefault("name", name)
        if "version" not in project and "version" not in project.get("dynamic", []):
            _put(project, "version", "0.0.0")
        if python and "requires-python" not in by_build:
            project.setdefault("requires-python", python)
        if "dependencies" not in project and "dependencies" not in by_build:
            _put(project, "dependencies", tomlkit.array())
        completed = tomlkit.dumps(document)
    if sources and "sources" not in document.get("tool", {}).get("rabbet", {}):
        completed = completed.rstrip("\n") + "\n\n" + tomlkit.dumps(_source_tables(sources))
    edits = [Edit(verb="declare", what="library", value=need_text(need, whole=True)) for need in needs]
    return apply(completed, edits)[0]


def places_of(text: str, need: Need) -> list[Section | None]:
    """Where an entry stands that makes this requirement; `None` is the project's own list."""
    document = _parse(text)
    found = []
    for section in _sections(document):
        array, _ = _requirements(document, section)
        for number in _entries_of(array, need.name):
            entry = parse_requirement(str(array[number]))
            if (entry.specifier, entry.extras, entry.url) == (need.specifier, need.extras, need.url):
                found.append(section)
    return found


def _declare_library(document: tomlkit.TOMLDocument, edit: Edit, *, again: bool) -> Iterable[Change]:
    """Add a requirement, or change the one on the same library.

    What is not given of it (bounds, extras, a marker) stays. An entry with another marker stays beside it;
    one without gets the marker. `again`: another edit of these declared the library there, and both count.
    """
    given = parse_requirement(edit.value)
    array, place = _requirements(document, edit.section, make=True)
    entries = _entries_of(array, given.name)
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
        yield Change(place=place, after=written)
    for number in entries[: None if given.is_bare and not edit.exactly else 1]:
        before = str(array[number])
        known = parse_requirement(before)
        wanted = given if edit.exactly else _merged(known, given, both=again)
        written = before if wanted == known else need_text(wanted, whole=True)
        if written != before:
            array[number] = written
        yield Change(place=place, before=before, after=written)
    for number in reversed(entries[1:] if edit.exactly else []):
        yield Change(place=place, before=str(array[number]))
        del array[number]


def _retract_library(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Take out the entries of a library, or (where extras are given) these extras of it."""
    given = parse_requirement(edit.value)
    places = [edit.section] if edit.section else _sections(document)
    changes = []
    for section in places:
        array, place = _requirements(document, section)
        entries = _entries_of(array, given.name)
        for number in reversed(entries):
            before = str(array[number])
            kept = parse_requirement(before)
            if given.extras:
                left = replace(kept, extras=kept.extras - given.extras)
                written = need_text(left, whole=True) if left != kept else before
                if written != before:
                    array[number] = written
                    changes.append(Change(place=place, before=before, after=written))
            else:
                changes.append(Change(place=place, before=before))
                del array[number]
        if section is not None and section.kind != "variant" and entries and not array:
            _remove_section(document, section)
    if not changes:
        known = dict.fromkeys(str(entry) for one in places for entry in _requirements(document, one)[0])
        where = f" in the {edit.section}" if edit.section else ""
        raise _absent(f"'{edit.value}' is not declared{where}", known)
    return reversed(changes)


def _retract_section(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Take out a group, an extra or a variant with all that is in it."""
    if edit.section is None or edit.section not in _sections(document):
        raise _absent(f"there is no {edit.section}", _sections(document))
    array, place = _requirements(document, edit.section)
    entries = [str(entry) for entry in array]
    _remove_section(document, edit.section)
    return [Change(place=place, before=entry) for entry in entries] or [Change(place=place, before="[]")]


def _declare_runtime(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Set the constraint on a language.

    Python's is set wherever it stands already, else in the standard key (PEP 621) if there is its table.
    """
    need = parse_runtime(edit.value)
    python = specifiers_text(need.specifier)
    if need.name != "python":
        return [_declare_language(document, need, edit.section)]
    if edit.section is not None:
        table = _made(_variant(document, edit.section), "runtimes")
        return [_set(table, "python", python, _place_of_runtimes(edit.section))]
    places = _runtime_places(document)
    project = document.get("project")
    if not places and project is not None and "requires-python" not in project.get("dynamic", []):
        places = [(project, "requires-python", "project")]
    elif not places:  # whoever builds the project would stumble over a table of it that says so little
        places = [(_made(_made_settings(document), "runtimes"), "python", "tool.rabbet.runtimes")]
    return [_set(table, key, python, place) for table, key, place in places]


def _declare_language(document: tomlkit.TOMLDocument, need: Need, section: Section | None) -> Change:
    """Set the versions of another language than Python; what else is declared of it stays."""
    above = _variant(document, section) if section else _made_settings(document)
    table, place = _made(above, "runtimes"), _place_of_runtimes(section)
    key = _written_name(table, need.name)
    if isinstance(table.get(key), AbstractTable):
        table, key, place = table[key], "version", f"{place}.{key}"
    if need.is_bare and key in table:
        return Change(place=f"{place}.{key}", before=str(table[key]), after=str(table[key]))
    known = key in table
    change = _set(table, key, specifiers_text(need.specifier), place)
    return change if known else replace(change, after=need_text(need))


def _retract_runtime(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    if edit.value not in ("", "python"):
        return [_retract_language(document, edit)]
    places = _runtime_places(document)
    if edit.section is not None:
        runtimes = _above_runtimes(document, edit.section).get("runtimes", {})
        places = [(runtimes, "python", _place_of_runtimes(edit.section))] if "python" in runtimes else []
    if not places:
        raise _absent("no runtime is declared" + (f" for the {edit.section}" if edit.section else ""))
    return [_unset(table, key, place) for table, key, place in places]


def _place_of_runtimes(section: Section | None) -> str:
    return f"tool.rabbet.variants.{section.name}.runtimes" if section else "tool.rabbet.runtimes"


def _above_runtimes(document: tomlkit.TOMLDocument, section: Section | None) -> Any:  # noqa: ANN401 - as above
    """The table that may hold the `runtimes` of the project, or of a variant; an empty one where none is."""
    if section is None:
        return _settings(document)
    variants = _inside(document, _TABLES["variant"])
    return variants.get(_written_name(variants, section.name), {})


def _retract_language(document: tomlkit.TOMLDocument, edit: Edit) -> Change:
    above, name = _above_runtimes(document, edit.section), edit.value
    table = above.get("runtimes", {})
    key = _written_name(table, name)
    if key not in table:
        where = f" for the {edit.section}" if edit.section else ""
        raise _absent(f"no runtime of {name} is declared{where}", table)
    declared = table[key]
    before = declared.get("version", "") if isinstance(declared, AbstractTable) else declared
    del table[key]
    if not table:
        del above["runtimes"]
    return Change(place=f"{_place_of_runtimes(edit.section)}.{key}", before=f"{key}{before}")


def _runtime_places(document: tomlkit.TOMLDocument) -> list[tuple[AnyTable, str, str]]:
    project, runtimes = document.get("project", {}), _settings(document).get("runtimes", {})
    places = [(project, "requires-python", "project"), (runtimes, "python", "tool.rabbet.runtimes")]
    return [(table, key, place) for table, key, place in places if key in table]


def _declare_listed(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Add a text to one of Rabbet's lists."""
    key = _LISTS[edit.what]
    array = _settings_list(document, key)
    known = [str(one) for one in array if library_name(str(one)) == library_name(edit.value)]
    if not known:
        array.append(edit.value)
    return [
        Change(place=f"tool.rabbet.{key}", before=known[0] if known else "", after=(known or [edit.value])[0])
    ]


def _retract_listed(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    key = _LISTS[edit.what]
    known = [library_name(str(one)) for one in _settings(document).get(key, [])]
    if library_name(edit.value) not in known:
        raise _absent(f"'{edit.value}' is not declared among the {key}", known)
    array = _settings(document)[key]
    number = known.index(library_name(edit.value))
    before = str(array[number])
    del array[number]
    if not array:
        del _settings(document)[key]
    return [Change(place=f"tool.rabbet.{key}", before=before)]


def _declare_local(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Let a checkout stand in for the releases of a library."""
    name, _, path = edit.value.partition("=")
    table = _made(_made_settings(document), "local")
    return [_set(table, _written_name(table, name), path, "tool.rabbet.local")]


def _retract_local(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    table = _settings(document).get("local", {})
    name = _written_name(table, edit.value)
    if name not in table:
        raise _absent(f"no checkout of '{edit.value}' is declared", table)
    change = _unset(table, name, "tool.rabbet.local")
    if not table:
        del _settings(document)["local"]
    return [change]


def _declare_own_version(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Set the project's own version, or raise it by a step."""
    project = _table(document, "project")
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
    return [_set(project, "version", str(given), "project")]


def _declare_limit(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    given = parse_requirement(edit.value)
    array = _settings_list(document, "limits")
    named = _entries_of(array, given.name)
    entries = [number for number in named if parse_requirement(str(array[number])).marker == given.marker]
    before = str(array[entries[0]]) if entries else ""
    written = need_text(given)
    if entries:
        array[entries[0]] = written
    else:
        array.append(written)
    return [Change(place="tool.rabbet.limits", before=before, after=written)]


def _retract_limit(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    array = _settings(document).get("limits", tomlkit.array())
    entries = _entries_of(array, parse_requirement(edit.value).name)
    if not entries:
        raise _absent(f"'{edit.value}' is not declared among the limits", array)
    changes = [Change(place="tool.rabbet.limits", before=str(array[number])) for number in entries]
    for number in reversed(entries):
        del array[number]
    if not array:
        del _settings(document)["limits"]
    return changes


def _retract_correction(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Take out a correction by what it applies to, such as `nectarplot==2.1`."""
    table = _settings(document).get("corrections", {})
    wanted = parse_requirement(edit.value)
    keys = [key for key in table if parse_requirement(key) == wanted]
    if not keys:
        raise _absent(f"there is no correction of '{edit.value}'", table)
    del table[keys[0]]
    if not table:
        del _settings(document)["corrections"]
    return [Change(place="tool.rabbet.corrections", before=keys[0])]


def _declare_baseline(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    library, _, version = edit.value.partition("=")
    table = _made(_made_settings(document), "baselines")
    return [_set(table, library, version, "tool.rabbet.baselines")]


def _declare_newest(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """`same`, or `each`, which is what counts where nothing is written."""
    if edit.value != "each":
        return [_set(_made_settings(document), "newest", edit.value, "tool.rabbet")]
    settings = _settings(document)
    return [_unset(settings, "newest", "tool.rabbet")] if "newest" in settings else []


def _declare_census(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """`every=recreate`, or `every=never`, which takes out what was written."""
    key, _, value = edit.value.partition("=")
    if value != "never":
        return [_set(_made(_made_settings(document), "census"), key, value, "tool.rabbet.census")]
    table = _settings(document).get("census", {})
    return [_unset(table, key, "tool.rabbet.census")] if key in table else []


def _retract_baseline(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    table = _settings(document).get("baselines", {})
    if edit.value not in table:
        raise _absent(f"no baseline of '{edit.value}' is declared", table)
    change = _unset(table, edit.value, "tool.rabbet.baselines")
    if not table:
        del _settings(document)["baselines"]
    return [change]


def _declare_place(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Add a source or a catalogue, or change where the one of that name lies.

    Given is `NAME=URL_OR_FOLDER`; one without a name is called `main`.
    """
    key, named = _PLACES[edit.what], _NAMED.match(edit.value)
    name, url = named.groups() if named else ("main", edit.value)
    present = [one.get("url") for one in _settings(document).get(key, [])]
    if present and not named and edit.value not in present:
        raise WrongUsage(
            f"a {edit.what} is declared already, so another one needs a name",
            because=[f"there are: {', '.join(str(one) for one in present)}"],
            note="of several the first one that knows what is asked for gives it",
            remedy=f"rabbet declare --{edit.what} {quoted(f'other={url}')}",
        )
    settings = _made_settings(document)
    for entry in settings.get(key, []):
        if entry.get("name") == name:
            change = Change(place=f"tool.rabbet.{key}, {name}", before=str(entry.get("url", "")), after=url)
            entry["url"] = url
            return [change]
    if key not in settings:
        _put(settings, key, tomlkit.array() if isinstance(settings, InlineTable) else tomlkit.aot())
    entries = settings[key]
    entry = tomlkit.table() if isinstance(entries, AoT) else tomlkit.inline_table()
    entry.update({"name": name, "url": url})
    entries.append(entry)
    return [Change(place=f"tool.rabbet.{key}, {name}", after=url)]


def _retract_place(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[Change]:
    """Take out a source or a catalogue by its name."""
    key = _PLACES[edit.what]
    entries = _settings(document).get(key, [])
    names = [str(entry.get("name")) for entry in entries]
    if edit.value not in names:
        raise _absent(f"there is no {edit.what} '{edit.value}'", names)
    number = names.index(edit.value)
    before = str(entries[number].get("url", ""))
    del entries[number]
    if not entries:
        del _settings(document)[key]
    return [Change(place=f"tool.rabbet.{key}, {edit.value}", before=before)]


_WAYS: Mapping[tuple[str, str], Callable[[tomlkit.TOMLDocument, Edit], Iterable[Change]]] = {
    ("retract", "library"): _retract_library,
    ("retract", "section"): _retract_section,
    ("declare", "runtime"): _declare_runtime,
    ("retract", "runtime"): _retract_runtime,
    ("declare", "limit"): _declare_limit,
    ("retract", "limit"): _retract_limit,
    ("retract", "correction"): _retract_correction,
    ("declare", "baseline"): _declare_baseline,
    ("retract", "baseline"): _retract_baseline,
    ("declare", "newest"): _declare_newest,
    ("declare", "census"): _declare_census,
    ("declare", "source"): _declare_place,
    ("declare", "catalogue"): _declare_place,
    ("retract", "source"): _retract_place,
    ("retract", "catalogue"): _retract_place,
    ("declare", "local"): _declare_local,
    ("retract", "local"): _retract_local,
    ("declare", "own-version"): _declare_own_version,
    **{("declare", what): _declare_listed for what in _LISTS},
    **{("retract", what): _retract_listed for what in _LISTS},
}


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


def _absent(message: str, known: Iterable[object] = ()) -> WrongUsage:
    """The error for what is not there to be retracted."""
    texts = ", ".join(str(one) for one in known if one is not None)
    return WrongUsage(message, because=[f"there are: {texts}"] if texts else [], remedy="rabbet declare")


def _parse(text: str) -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(text)
    except TOMLKitError as error:
        raise NotUnderstood("pyproject.toml is not valid TOML", because=[str(error)]) from error


def _table(document: tomlkit.TOMLDocument, key: str) -> AnyTable:
    if key not in document:
        document.add(key, tomlkit.table())
    table = document[key]
    if not isinstance(table, AbstractTable | OutOfOrderTableProxy):
        raise NotUnderstood(f"pyproject.toml: {key} must be a table")
    return table


def _settings(document: tomlkit.TOMLDocument) -> Any:  # noqa: ANN401 - tomlkit has many kinds of tables
    """`[tool.rabbet]` as it is, perhaps an empty one that belongs to no file."""
    return document.get("tool", {}).get("rabbet", {})


def _made_settings(document: tomlkit.TOMLDocument) -> AnyTable:
    return _made(document.setdefault("tool", tomlkit.table(is_super_table=True)), "rabbet")


def _put(table: AnyTable, key: str, value: object) -> None:
    """Add what is not there yet; a table whose parts stand apart has no `add`."""
    if isinstance(table, OutOfOrderTableProxy):
        table[key] = value
    else:
        table.add(key, value)


def _made(table: AnyTable, key: str) -> AnyTable:
    if key not in table:  # an inline table can hold no other ones
        _put(table, key, tomlkit.inline_table() if isinstance(table, InlineTable) else tomlkit.table())
    made: AnyTable = table[key]
    return made


def _settings_list(document: tomlkit.TOMLDocument, key: str) -> Array:
    """A list under `[tool.rabbet]`, made if need be."""
    settings = _made_settings(document)
    if key not in settings:
        array = tomlkit.array()
        tables = any(isinstance(value, AbstractTable | AoT) for value in settings.values())
        array.trivia.trail = "\n\n" if tables else "\n"  # tables inside come behind it
        for value in settings.values():
            if isinstance(value, Array):
                value.trivia.trail = "\n"
        _put(settings, key, array)
    found: Array = settings[key]
    return found


def _variant(document: tomlkit.TOMLDocument, section: Section) -> AnyTable:
    variants = _made(_made_settings(document), "variants")
    return _made(variants, _written_name(variants, section.name))


def _written_name(table: Mapping[str, object], name: str) -> str:
    """The key that stands for a name, in whatever form it is written."""
    same = [key for key in table if library_name(key) == library_name(name)]
    return same[0] if same else name


def _set(table: AnyTable, key: str, value: str, place: str) -> Change:
    before = str(table.get(key, ""))
    if before != value or key not in table:
        table[key] = value
    return Change(place=f"{place}.{key}", before=before, after=value)


def _unset(table: AnyTable, key: str, place: str) -> Change:
    before = str(table[key])
    del table[key]
    return Change(place=f"{place}.{key}", before=before)


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
        table = _table(document, "project") if make else table
    else:
        path = _TABLES[section.kind]
        table = _inside(document, path)
        if make:
            table = _table(document, path[0])
            for step in path[1:]:
                table = _made(table, step)
        key = _written_name(table, section.name)
        place = f"{'.'.join(path)}.{key}"
        if section.kind == "variant":
            table = _made(table, key) if make else table.get(key, {})
            key, place = "requirements", f"{place}.requirements"
    if key not in table:
        if not make:
            return tomlkit.array(), place
        _put(table, key, tomlkit.array())
    array = table[key]
    if not isinstance(array, Array):
        raise NotUnderstood(f"pyproject.toml: {place} must be a list")
    return array, place


def _remove_section(document: tomlkit.TOMLDocument, section: Section) -> None:
    """Remove a section, and what includes it."""
    path = _TABLES[section.kind]
    table = _inside(document, path)
    key = _written_name(table, section.name)
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


def _entries_of(array: Array, name: NormalizedName) -> list[int]:
    """The positions of a library's entries."""
    texts = [(number, entry) for number, entry in enumerate(array) if isinstance(entry, str)]
    return [number for number, entry in texts if parse_requirement(entry).name == name]


def _source_tables(sources: Sequence[SourceEntry]) -> Mapping[str, object]:
    entries = [{"name": source.name, "url": source.url} for source in sources]
    return {"tool": {"rabbet": {"sources": entries}}}
