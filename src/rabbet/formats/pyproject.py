"""The declaration: `pyproject.toml` → model (PEP 621, PEP 735 and `[tool.rabbet]`)."""

import re
from collections.abc import Callable, Iterable, Mapping

from packaging.markers import Marker
from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName, canonicalize_name

from rabbet.core.model.declaration import Declaration, SourceEntry, Variant, allows_minor
from rabbet.core.targets import BASELINES, PLATFORMS
from rabbet.errors import NotUnderstood
from rabbet.formats.requirement import parse_requirement, parse_specifiers
from rabbet.formats.toml import Problems, Table, parse_toml

__all__ = ["read_declaration"]

_SETTINGS = (
    "runtimes",
    "sources",
    "targets",
    "pythons",
    "baselines",
    "variants",
    "local",
    "build-from-source",
)
_MINOR = re.compile(r"^[0-9]+\.[0-9]+\Z")
_NAME = re.compile(r"^[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?\Z")  # of a group or an extra (PEP 685)
_VARIANT = re.compile(r"^[^.]+\Z")  # in `pylock.NAME.toml` (PEP 751)


def read_declaration(text: str, *, folder_name: str, where: str = "pyproject.toml") -> Declaration:
    """Read a declaration; `folder_name` stands in for a project without a name.

    Raises `NotUnderstood` with everything that is wrong with the file.
    """
    document = parse_toml(text, where)
    project, settings = document.table("project"), document.table("tool").table("rabbet")
    settings.allow_only(*_SETTINGS)
    for key in ("dependencies", "optional-dependencies", "requires-python"):
        if key in project.texts("dynamic"):
            document.problems.add(f"project.{key}", "is dynamic: Rabbet reads it only where it is written")
    extras = _sections(project.table("optional-dependencies"))
    own = _OwnExtras(project.text("name"), extras, document.problems)
    groups = _groups(document.table("dependency-groups"))
    declaration = Declaration(
        name=project.text("name") or folder_name,
        python=_python((project, "requires-python"), (settings.table("runtimes", "python"), "python")),
        requirements=own.put_in_place(_requirements(project, "dependencies")),
        groups={name: own.put_in_place(needs) for name, needs in groups.items()},
        extras={name: own.put_in_place(needs) for name, needs in extras.items()},
        variants=_variants(settings.table("variants"), own),
        local=_local(settings.table("local")),
        build_from_source=frozenset(canonicalize_name(name) for name in settings.texts("build-from-source")),
        sources=tuple(_source(entry) for entry in settings.tables("sources")),
        targets=_known(settings, "targets", lambda text: text in PLATFORMS, ", ".join(PLATFORMS)),
        pythons=_known(settings, "pythons", lambda text: bool(_MINOR.match(text)), "versions such as 3.12"),
        baselines=_baselines(settings.table("baselines")),
    )
    for python in declaration.pythons:
        if not allows_minor(declaration.python, python):
            document.problems.add("tool.rabbet.pythons", f"'{python}' is not {declaration.python}")
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


def _python(*places: tuple[Table, str]) -> SpecifierSet:
    """What several keys allow together."""
    specifiers = SpecifierSet()
    for table, key in places:
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


def _sections(table: Table) -> Mapping[str, tuple[Requirement, ...]]:
    """All lists of requirements in a table, by their normalized names."""
    return {name: _requirements(table, key) for key, name in _names(table).items()}


def _names(table: Table) -> Mapping[str, str]:
    """The keys of a table, which have to be names, and their normalized forms."""
    found: dict[str, str] = {}
    for key in table.keys():  # noqa: SIM118 - Table is no mapping
        if not _NAME.match(key):
            table.problems.add(table.place(key), "is no name: letters, digits, '-', '_' and '.' make one")
        elif canonicalize_name(key) in found.values():
            table.problems.add(table.place(key), "is there already, written in another way")
        else:
            found[key] = canonicalize_name(key)
    return found


class _OwnExtras:
    """The project's own extras, which its requirements may name in place of what these hold."""

    def __init__(
        self, project: str | None, extras: Mapping[str, tuple[Requirement, ...]], problems: Problems
    ) -> None:
        self._project = canonicalize_name(project) if project else None
        self._extras = extras
        self._problems = problems

    def put_in_place(
        self, requirements: Iterable[Requirement], above: tuple[str, ...] = ()
    ) -> tuple[Requirement, ...]:
        """Requirements with `PROJECT[EXTRA]` replaced by what that extra requires, under the same marker.

        `above` are the extras that are being replaced: what includes itself adds nothing.
        """
        found: list[Requirement] = []
        for one in requirements:
            if canonicalize_name(one.name) != self._project:
                found.append(one)
                continue
            for extra in sorted(canonicalize_name(extra) for extra in one.extras):
                if extra not in self._extras:
                    self._problems.add(str(one), f"the project has no extra '{extra}'")
                elif extra not in above:
                    inner = self.put_in_place(self._extras[extra], (*above, extra))
                    found += [_under(one.marker, need) for need in inner]
        return tuple({str(one): one for one in found}.values())


def _under(marker: Marker | None, requirement: Requirement) -> Requirement:
    """A requirement that counts only where this marker holds too."""
    if marker is None:
        return requirement
    changed = Requirement(str(requirement))
    changed.marker = Marker(f"({marker}) and ({requirement.marker})") if requirement.marker else marker
    return changed


def _variants(table: Table, own: _OwnExtras) -> Mapping[str, Variant]:
    variants = {}
    for key in _names(table):
        entry = table.table(key)
        entry.allow_only("runtimes", "requirements")
        if not _VARIANT.match(key):
            table.problems.add(table.place(key), "can't be part of a file's name: it may hold no dot")
        variants[key] = Variant(
            python=_python((entry.table("runtimes", "python"), "python")),
            requirements=own.put_in_place(_requirements(entry, "requirements")),
        )
    return variants


def _local(table: Table) -> Mapping[NormalizedName, str]:
    """Libraries and the folders of their checkouts."""
    return {canonicalize_name(key): table.need(key) for key in table.keys()}  # noqa: SIM118 - no mapping


def _groups(table: Table) -> Mapping[str, tuple[Requirement, ...]]:
    """All groups by their normalized names, with `include-group` entries replaced by what they name."""
    raw: dict[str, list[object]] = {name: table.get(key, list, []) for key, name in _names(table).items()}
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
