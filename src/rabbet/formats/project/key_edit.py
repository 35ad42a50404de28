"""Changing the keys of `[tool.rabbet]` in a declaration's text, each by its shape."""

from collections.abc import Callable, Iterable, Mapping

import tomlkit
from tomlkit.items import AoT, InlineTable

from rabbet.core.declaration.edit import Edit, EditResult
from rabbet.core.declaration.keys import DISTRIBUTIONS, Key, Shape, key_of
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.core.needs.wording import need_text
from rabbet.core.shell import quoted
from rabbet.errors import WrongUsage
from rabbet.formats.text.requirement import parse_requirement
from rabbet.formats.text.toml_document import (
    absent,
    entries_of,
    made,
    made_settings,
    put,
    set_text,
    settings_list,
    settings_of,
    unset,
    written_name,
)

__all__ = ["change_key"]


def change_key(document: tomlkit.TOMLDocument, edit: Edit) -> Iterable[EditResult]:
    """Declare or retract an entry of a key. Raises `WrongUsage` for what is not there to be retracted."""
    key = key_of(edit.what)
    change = _OWN.get((edit.verb, key.name)) or _SHAPES[edit.verb, key.shape]
    return change(document, key, edit)


def _declare_listed(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Add a text to a list."""
    array = settings_list(document, key.name)
    known = [str(entry) for entry in array if library_name(str(entry)) == library_name(edit.value)]
    if not known:
        array.append(edit.value)
    return [EditResult(place=key.place, before=known[0] if known else "", after=(known or [edit.value])[0])]


def _retract_listed(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    settings = settings_of(document)
    known = [library_name(str(entry)) for entry in settings.get(key.name, [])]
    if library_name(edit.value) not in known:
        raise absent(f"'{edit.value}' is not declared among the {key.name}", known, given=edit.value)
    return _removed(document, key, [known.index(library_name(edit.value))])


def _declare_bound(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Add bounds of a library, in place of those that it has under the same marker."""
    given = parse_requirement(edit.value)
    array = settings_list(document, key.name)
    named = entries_of(array, given.name)
    entries = [number for number in named if parse_requirement(str(array[number])).marker == given.marker]
    before = str(array[entries[0]]) if entries else ""
    written = need_text(given)
    if entries:
        array[entries[0]] = written
    else:
        array.append(written)
    return [EditResult(place=key.place, before=before, after=written)]


def _retract_bound(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    array = settings_of(document).get(key.name, tomlkit.array())
    entries = entries_of(array, parse_requirement(edit.value).name)
    if not entries:
        raise absent(f"'{edit.value}' is not declared among the {key.name}", array, given=edit.value)
    return _removed(document, key, entries)


def _removed(document: tomlkit.TOMLDocument, key: Key, numbers: list[int]) -> list[EditResult]:
    """Remove entries of a list by their positions, and the list if nothing is left."""
    array = settings_of(document)[key.name]
    changes = [EditResult(place=key.place, before=str(array[number])) for number in numbers]
    for number in reversed(numbers):
        del array[number]
    if not array:
        del settings_of(document)[key.name]
    return changes


def _declare_named(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Set what stands for a name in a table."""
    table = made(made_settings(document), key.name)
    return [set_text(table, written_name(table, edit.name or ""), edit.value, key.place)]


def _retract_named(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    table = settings_of(document).get(key.name, {})
    name = written_name(table, edit.name or "")
    if name not in table:
        what = key.listed or key.entry
        raise absent(f"no {what} of '{edit.name}' is declared", table, given=edit.name or "")
    change = unset(table, name, key.place)
    if not table:
        del settings_of(document)[key.name]
    return [change]


def _declare_text(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    return [set_text(made_settings(document), key.name, edit.value, "tool.rabbet")]


def _retract_text(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:  # noqa: ARG001
    settings = settings_of(document)
    if key.name not in settings:
        raise absent(f"no {key.entry} is declared")
    return [unset(settings, key.name, "tool.rabbet")]


def _declare_place(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Add a place, or change where the one of that name lies; one without a name is called `main`."""
    name, url = edit.name or "main", edit.value
    present = [source.get("url") for source in settings_of(document).get(key.name, [])]
    if present and not edit.name and url not in present:
        raise WrongUsage(
            f"a {key.entry} is declared already, so another one needs a name",
            because=[f"there are: {', '.join(map(str, present))}"],
            note="of several the first one that knows what is asked for gives it",
            remedy=f"rabbet declare --{key.entry} {quoted(f'other={url}')}",
        )
    settings, place = made_settings(document), f"{key.place}, {name}"
    for entry in settings.get(key.name, []):
        if entry.get("name") == name:
            change = EditResult(place=place, before=str(entry.get("url", "")), after=url)
            entry["url"] = url
            return [change]
    if key.name not in settings:
        put(settings, key.name, tomlkit.array() if isinstance(settings, InlineTable) else tomlkit.aot())
    entries = settings[key.name]
    entry = tomlkit.table() if isinstance(entries, AoT) else tomlkit.inline_table()
    entry.update({"name": name, "url": url})
    entries.append(entry)
    return [EditResult(place=place, after=url)]


def _retract_place(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Take out a place by its name."""
    entries = settings_of(document).get(key.name, [])
    names = [str(entry.get("name")) for entry in entries]
    if edit.name not in names:
        raise absent(f"there is no {key.entry} '{edit.name}'", names, given=edit.name or "")
    number = names.index(edit.name)
    before = str(entries[number].get("url", ""))
    del entries[number]
    if not entries:
        del settings_of(document)[key.name]
    return [EditResult(place=f"{key.place}, {edit.name}", before=before)]


def _retract_correction(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Take out a correction by what it applies to, such as `nectarplot==2.1`."""
    table = settings_of(document).get(key.name, {})
    wanted = parse_requirement(edit.value)
    keys = [releases for releases in table if parse_requirement(releases) == wanted]
    if not keys:
        raise absent(f"there is no correction of '{edit.value}'", table, given=edit.value)
    del table[keys[0]]
    if not table:
        del settings_of(document)[key.name]
    return [EditResult(place=key.place, before=keys[0])]


def _declare_newest(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """`same`, or `each`, which is what counts where nothing is written."""
    if edit.value != "each":
        return [set_text(made_settings(document), key.name, edit.value, "tool.rabbet")]
    settings = settings_of(document)
    return [unset(settings, key.name, "tool.rabbet")] if key.name in settings else []


def _declare_census(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """`every` is `recreate`, or `never`, which takes out what was written."""
    name = edit.name or ""
    if edit.value != "never":
        return [set_text(made(made_settings(document), key.name), name, edit.value, key.place)]
    table = settings_of(document).get(key.name, {})
    return [unset(table, name, key.place)] if name in table else []


def _declare_package(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Add a package to a distribution's list."""
    name = edit.name or ""
    if name not in DISTRIBUTIONS or not edit.value:
        package = edit.value or ("" if name in DISTRIBUTIONS else name) or "libpq5"
        distribution = next(iter(near_names(name, DISTRIBUTIONS)), "debian")
        raise WrongUsage(
            f"'{edit.text}' does not name a package with its distribution",
            because=[f"distributions are {', '.join(DISTRIBUTIONS)}: others are made from one of them"],
            remedy=f"rabbet declare --system {quoted(f'{distribution}={package}')}",
        )
    table = made(made_settings(document), key.name)
    array = table.setdefault(name, tomlkit.array())
    known = edit.value in array
    if not known:
        array.append(edit.value)
    return [EditResult(place=f"{key.place}.{name}", before=edit.value if known else "", after=edit.value)]


def _retract_package(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Take out a package of a distribution, or all of them where none is named."""
    table, name = settings_of(document).get(key.name, {}), edit.name or ""
    if name not in table:
        raise absent(f"no packages of '{name}' are declared", table, given=name)
    packages = [str(package) for package in table[name]]
    if edit.value and edit.value not in packages:
        raise absent(f"'{edit.value}' is not declared among those of {name}", packages, given=edit.value)
    gone = [edit.value] if edit.value else packages
    for package in gone:
        table[name].remove(package)
    if not table[name]:
        del table[name]
    if not table:
        del settings_of(document)[key.name]
    return [EditResult(place=f"{key.place}.{name}", before=package) for package in gone]


def _declare_accept(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Accept an advisory until a day and for a reason, which are the value's first word and the rest."""
    settings, name = made_settings(document), edit.name or ""
    until, _, reason = edit.value.partition(" ")
    if isinstance(settings.get(key.name), str):  # the place of a shared file stands alone
        shared = str(settings[key.name])
        del settings[key.name]
        put(made(settings, key.name), "shared", shared)
    entries = made(settings, key.name).setdefault("accept", tomlkit.array().multiline(multiline=True))
    before = [entry for entry in entries if entry.get("id") == name]
    known = f"{name} until {before[0].get('until')}: {before[0].get('reason')}" if before else ""
    for entry in before:
        entries.remove(entry)
    accepted = tomlkit.inline_table()
    accepted.update({"id": name, "reason": reason, "until": until})
    entries.append(accepted)
    return [EditResult(place=f"{key.place}.accept", before=known, after=f"{name} until {until}: {reason}")]


def _retract_accept(document: tomlkit.TOMLDocument, key: Key, edit: Edit) -> Iterable[EditResult]:
    """Let an advisory count again."""
    table, name = settings_of(document).get(key.name, {}), edit.name or edit.value
    entries = table.get("accept", []) if not isinstance(table, str) else []
    gone = [entry for entry in entries if entry.get("id") == name]
    if not gone:
        known = [str(entry.get("id")) for entry in entries]
        raise absent(f"'{name}' is not accepted in pyproject.toml", known, given=name)
    for entry in gone:
        entries.remove(entry)
    if not entries:
        del table["accept"]
    return [EditResult(place=f"{key.place}.accept", before=name)]


_Way = Callable[[tomlkit.TOMLDocument, Key, Edit], Iterable[EditResult]]
_SHAPES: Mapping[tuple[str, Shape], _Way] = {
    ("declare", Shape.NAMES): _declare_listed,
    ("retract", Shape.NAMES): _retract_listed,
    ("declare", Shape.TEXTS): _declare_listed,
    ("retract", Shape.TEXTS): _retract_listed,
    ("declare", Shape.BOUNDS): _declare_bound,
    ("retract", Shape.BOUNDS): _retract_bound,
    ("declare", Shape.TABLE): _declare_named,
    ("retract", Shape.TABLE): _retract_named,
    ("declare", Shape.TEXT): _declare_text,
    ("retract", Shape.TEXT): _retract_text,
    ("declare", Shape.PLACES): _declare_place,
    ("retract", Shape.PLACES): _retract_place,
}
_OWN: Mapping[tuple[str, str], _Way] = {
    ("retract", "corrections"): _retract_correction,
    ("declare", "newest"): _declare_newest,
    ("declare", "census"): _declare_census,
    ("declare", "rules"): _declare_accept,
    ("retract", "rules"): _retract_accept,
    ("declare", "system"): _declare_package,
    ("retract", "system"): _retract_package,
}
