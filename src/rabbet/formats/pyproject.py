"""The declaration: `pyproject.toml` → model (PEP 621, PEP 735 and `[tool.rabbet]`)."""

import re
from collections.abc import Callable, Mapping

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import canonicalize_name

from rabbet.core.model.declaration import Declaration, SourceEntry
from rabbet.core.targets import BASELINES, PLATFORMS
from rabbet.errors import NotUnderstood
from rabbet.formats.requirement import parse_requirement, parse_specifiers
from rabbet.formats.toml import Problems, Table, parse_toml

__all__ = ["read_declaration"]

_MINOR = re.compile(r"^[0-9]+\.[0-9]+\Z")


def read_declaration(text: str, *, folder_name: str, where: str = "pyproject.toml") -> Declaration:
    """Read a declaration; `folder_name` stands in for a project without a name.

    Raises `NotUnderstood` with everything that is wrong with the file.
    """
    document = parse_toml(text, where)
    project, settings = document.table("project"), document.table("tool").table("rabbet")
    settings.allow_only("runtimes", "sources", "targets", "pythons", "baselines")
    for key in ("dependencies", "requires-python"):
        if key in project.texts("dynamic"):
            document.problems.add(f"project.{key}", "is dynamic: Rabbet reads it only where it is written")
    declaration = Declaration(
        name=project.text("name") or folder_name,
        python=_python(project, settings.table("runtimes")),
        requirements=_requirements(project, "dependencies"),
        groups=_groups(document.table("dependency-groups")),
        sources=tuple(_source(entry) for entry in settings.tables("sources")),
        targets=_known(settings, "targets", lambda text: text in PLATFORMS, ", ".join(PLATFORMS)),
        pythons=_known(settings, "pythons", lambda text: bool(_MINOR.match(text)), "versions such as 3.12"),
        baselines=_baselines(settings.table("baselines")),
    )
    names = [source.name for source in declaration.sources]
    for name in sorted({name for name in names if names.count(name) > 1}):
        document.problems.add("tool.rabbet.sources", f"two sources have the name '{name}'")
    document.problems.raise_if_any()
    return declaration


def _known(settings: Table, key: str, fits: Callable[[str], bool], known: str) -> tuple[str, ...]:
    """A list of texts of a certain form."""
    found = settings.texts(key)
    for text in found:
        if not fits(text):
            settings.problems.add(settings.place(key), f"'{text}' is none of: {known}")
    return tuple(dict.fromkeys(found))


def _baselines(table: Table) -> Mapping[str, str]:
    table.allow_only(*BASELINES)
    found = {key: table.text(key) or "" for key in table.keys()}  # noqa: SIM118 - Table is no mapping
    for key, text in found.items():
        if not _MINOR.match(text):
            table.problems.add(table.place(key), f"'{text}' is no version such as {BASELINES[key]}")
    return found


def _python(project: Table, runtimes: Table) -> SpecifierSet:
    """What `requires-python` and `runtimes.python` allow together."""
    runtimes.allow_only("python")
    specifiers = SpecifierSet()
    for table, key in ((project, "requires-python"), (runtimes, "python")):
        try:
            specifiers &= parse_specifiers(table.text(key) or "")
        except NotUnderstood as error:
            table.problems.add(table.place(key), str(error))
    return specifiers


def _requirements(table: Table, key: str) -> tuple[Requirement, ...]:
    return tuple(_parsed(table.texts(key), table.problems, table.place(key)))


def _parsed(texts: list[str], problems: Problems, place: str) -> list[Requirement]:
    found = []
    for number, text in enumerate(texts):
        try:
            found.append(parse_requirement(text))
        except NotUnderstood as error:
            problems.add(f"{place}[{number}]", "\n".join([str(error), *error.because]))
    return found


def _groups(table: Table) -> Mapping[str, tuple[Requirement, ...]]:
    """All groups by their normalized names, with `include-group` entries replaced by what they name."""
    raw: dict[str, list[object]] = {}
    for name in table.keys():  # noqa: SIM118 - Table is no mapping
        raw[canonicalize_name(name)] = table.get(name, list, [])
    return {name: tuple(_members(name, raw, table, ())) for name in sorted(raw)}


def _members(
    name: str, raw: Mapping[str, list[object]], table: Table, above: tuple[str, ...]
) -> list[Requirement]:
    """One group's requirements; `above` are the groups that include it, to notice a circle."""
    found: list[Requirement] = []
    for number, entry in enumerate(raw[name]):
        place = f"{table.place(name)}[{number}]"
        included = entry.get("include-group") if isinstance(entry, dict) else None
        if isinstance(entry, str):
            found += _parsed([entry], table.problems, table.place(name))
        elif not isinstance(included, str) or canonicalize_name(included) not in raw:
            table.problems.add(
                place, "must be a requirement or {include-group = NAME} of a group that exists"
            )
        elif canonicalize_name(included) in (*above, name):
            table.problems.add(place, f"includes '{included}' in a circle")
        else:
            found += _members(canonicalize_name(included), raw, table, (*above, name))
    return found


def _source(entry: Table) -> SourceEntry:
    entry.allow_only("name", "url", "only")
    return SourceEntry(name=entry.need("name"), url=entry.need("url"), only=tuple(entry.texts("only")))
