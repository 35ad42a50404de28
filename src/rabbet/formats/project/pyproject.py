"""The declaration: `pyproject.toml` → model (PEP 621, PEP 735 and `[tool.rabbet]`)."""

import re
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from itertools import islice
from types import MappingProxyType
from typing import NamedTuple

from msgspec.structs import replace
from packaging.markers import Marker
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.census.tags import MOST_TAGS, tag_in
from rabbet.core.declaration.keys import DISTRIBUTIONS, KEYS, Key, Shape
from rabbet.core.declaration.model import (
    CatalogueEntry,
    CensusEntry,
    Correction,
    Declaration,
    DeclaredRuntime,
    ExpectEntry,
    SourceEntry,
    Variant,
    allows_minor,
)
from rabbet.core.limits import (
    DEEPEST,
    LONGEST_FRESH,
    LONGEST_LINE,
    LONGEST_TEXT,
    MOST_DECLARED,
    MOST_SOURCES,
    MOST_TARGETS,
    MOST_VARIANTS,
)
from rabbet.core.model.build import BuildOptions, Told
from rabbet.core.moment import is_moment
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.needs.need import Need
from rabbet.errors import NotUnderstood
from rabbet.formats.project.language_table import read_languages, versions_of
from rabbet.formats.project.rules_table import read_rules
from rabbet.formats.project.told import needs_by_extra
from rabbet.formats.project.variant_product import variant_tables
from rabbet.formats.text.address import NotAnAddress, hidden, is_address, parse_address
from rabbet.formats.text.requirement import parse_requirement, parse_versions
from rabbet.formats.text.toml import Problems, Table, parse_toml
from rabbet.python.choosing.targets import BASELINES, OLDEST_PYTHON, PLATFORMS
from rabbet.python.formats.build_system import build_system_in, legacy_build_system, read_build_options

__all__ = ["read_catalogues", "read_declaration", "wrong_source"]

_PACKAGE = re.compile(r"[A-Za-z0-9]([A-Za-z0-9+._-]*[A-Za-z0-9+._])?\Z")  # `NAME-` would take one away
_MINOR = re.compile(r"^[0-9]{1,3}\.[0-9]{1,3}\Z")
_NAME = re.compile(r"^[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?\Z")  # of a group or an extra (PEP 685)
_DURATION = re.compile(r"([0-9]{1,6})([smh])\Z")
_SECONDS = {"s": 1, "m": 60, "h": 3600}
_VARIANT = re.compile(r"\w[\w-]{0,99}\Z")  # in `pylock.NAME.toml` (PEP 751 wants no dot) and names of folders


def read_declaration(
    text: str,
    *,
    folder_name: str,
    where: str = "pyproject.toml",
    has_setup: bool = False,
    told: Told | None = None,
) -> Declaration:
    """Read a declaration; `folder_name` stands in for a project without a name.

    Beside one that `has_setup`, a `setup.py`, no back end need be named. What a build `told` stands for what
    is left to it. Raises `NotUnderstood` with everything that is wrong with the file.
    """
    document = parse_toml(text, where)
    project, settings = document.table("project"), document.table("tool").table("rabbet")
    sources = _few(settings, "sources", MOST_SOURCES)
    groups = document.table("dependency-groups")
    amount = _Amount(document.problems)
    amount.add(sum(table.count() for table in (project, groups, settings, document.table("build-system"))))
    settings.allow_only(*(key.name for key in KEYS))
    build_system = build_system_in(document)
    by_build = frozenset(_left_to_build(document, project, built=build_system is not None or has_setup))
    if by_build and build_system is None:
        build_system = legacy_build_system()
    extras = _sections(project.table("optional-dependencies"))
    name = project.text("name")
    if name and not is_name(name):
        document.problems.add("project.name", f"'{name[:60]}' is not a name")
    own = _OwnExtras(name, extras, amount, document.problems)
    declaration = Declaration(
        name=name or folder_name,
        python=_python((project, "requires-python"), (settings.table("runtimes"), "python")),
        needs=own.put_in_place(_requirements(project, "dependencies")),
        groups={name: own.put_in_place(needs) for name, needs in _Groups(groups, amount).all().items()},
        extras={name: own.put_in_place(needs) for name, needs in extras.items()},
        variants=_variants(settings.table("variants"), own),
        sources=tuple(_source(entry) for entry in sources if not _holds_builds(entry)),
        team_builds=tuple(_source(entry) for entry in sources if _holds_builds(entry)),
        same_versions=_newest(settings) == "same",
        corrections=_corrections(settings.table("corrections")),
        runtimes=tuple(_runtimes(settings.table("runtimes"))),
        languages=read_languages(settings.table("languages"), trusted=False),
        catalogues=read_catalogues(settings),
        census=_census(settings.table("census")),
        rules=read_rules(settings, where, wrong_source),
        system=_system(settings.table("system")),
        system_for_builds=_system_for_builds(settings.table("builds")),
        version=_own_version(project),
        dynamic="version" in project.texts("dynamic") or "name" in by_build,
        build_system=build_system,
        builds=_builds(settings.table("builds")),
        editable=settings.get("editable", bool, True),
        by_build=by_build,
    )
    declaration = replace(declaration, **_usual_keys(settings))
    if told is not None and by_build:
        declaration = _with_told(declaration, told)
    _check_without(declaration, document.problems)
    _check_served(declaration, document.problems)
    document.problems.raise_if_any()
    return declaration


def _left_to_build(document: Table, project: Table, *, built: bool) -> Iterator[str]:
    """The keys of `[project]` that only the build tells: dynamic ones, and all where there is no table."""
    for key in ("name", "dependencies", "optional-dependencies", "requires-python"):
        if key in project.texts("dynamic"):
            if built:
                yield key
            else:
                document.problems.add(f"project.{key}", "is dynamic, and nothing here builds the project")
        elif built and "project" not in document:
            yield key


def _with_told(declaration: Declaration, told: Told) -> Declaration:
    """A declaration with what its build told in place of what it leaves to that."""
    needs, extras = needs_by_extra(told)
    left = declaration.by_build
    return replace(
        declaration,
        told=told,
        name=told.name if "name" in left else declaration.name,
        python=declaration.python & SpecifierSet(told.python)
        if "requires-python" in left
        else declaration.python,
        needs=needs if "dependencies" in left else declaration.needs,
        extras=extras if "optional-dependencies" in left else declaration.extras,
    )


class _Amount:
    """How much a declaration holds, with what groups and extras stand for wherever they are included."""

    def __init__(self, problems: Problems) -> None:
        self._problems = problems
        self._count = 0

    def add(self, count: int) -> None:
        """Add so many. Raises `NotUnderstood` where that is too much to read."""
        self._count += count
        if self._count > MOST_DECLARED:
            self._problems.add(
                "project", f"with its groups and extras, it holds more than {MOST_DECLARED} values"
            )
            self._problems.raise_if_any()


def _system(table: Table) -> dict[str, tuple[str, ...]]:
    """The packages that the project needs of distributions."""
    table.allow_only(*DISTRIBUTIONS)
    found = {key: tuple(table.texts(key)) for key in table if key in DISTRIBUTIONS}
    for key, names in found.items():
        for name in names:
            if not _PACKAGE.match(name):
                table.problems.add(table.place(key), f"'{name[:60]}' is not a name of a package")
    return found


def _system_for_builds(builds: Table) -> dict[str, tuple[str, ...]]:
    """The packages of distributions that single builds need."""
    found: dict[str, dict[str, None]] = {}
    for table in (builds.table(key) for key in builds if builds.holds_table(key)):
        for distribution, names in _system(table.table("system")).items():
            found.setdefault(distribution, {}).update(dict.fromkeys(names))
    return {distribution: tuple(names) for distribution, names in found.items()}


def _census(table: Table) -> CensusEntry:
    table.allow_only("every", "remote", "leave-out", "expect", "tags")
    every = table.text("every") or ""
    if every not in ("", "recreate"):
        table.problems.add("tool.rabbet.census.every", f"'{every[:60]}' is not 'recreate'")
    return CensusEntry(
        every=every,
        remote=table.text("remote"),
        leave_out=tuple(table.texts("leave-out")),
        expect=_expect(table.table("expect")),
        tags=_tags(table.table("tags")),
    )


def _tags(table: Table) -> Mapping[str, str]:
    for name in table:
        try:
            tag_in(f"{name}={table.text(name) or ''}")
        except ValueError as error:
            table.problems.add(table.place(name), str(error))
    if table.count() > MOST_TAGS:
        table.problems.add("tool.rabbet.census.tags", f"has {table.count()} tags: at most {MOST_TAGS}")
    return {name: table.text(name) or "" for name in table}


def _expect(table: Table) -> ExpectEntry:
    table.allow_only("behind", "libraries")
    behind = table.number("behind")
    if behind is not None and not (isinstance(behind, int) and behind >= 0):
        table.problems.add(table.place("behind"), f"{behind} is not a number of lock revisions")
    needs = _requirements(table, "libraries")
    for number, need in enumerate(needs):
        if need.url or need.marker or need.extras or not need.specifier:
            place = table.place(f"libraries[{number}]")
            table.problems.add(place, f"'{need}' is not a library with versions, such as 'NAME>=2'")
    return ExpectEntry(behind=behind if isinstance(behind, int) else None, libraries=needs)


def _check_served(declaration: Declaration, problems: Problems) -> None:
    """The targets have to be few enough, and allowed; sources and catalogues have names of their own."""
    asked = max(1, len(declaration.targets)) * max(1, len(declaration.pythons))
    if asked > MOST_TARGETS:
        problems.add("tool.rabbet.targets", f"with pythons, make {asked}: at most {MOST_TARGETS}")
    for python in declaration.pythons:
        if Version(python) < OLDEST_PYTHON:
            wrong = f"'{python}' is older than {OLDEST_PYTHON}, the oldest that environments are made for"
            problems.add("tool.rabbet.pythons", wrong)
        elif not allows_minor(declaration.python, python):
            problems.add("tool.rabbet.pythons", f"'{python}' is not {declaration.python}")
    for name, variant in declaration.variants.items():
        if declaration.pythons and not declaration.varied(name).pythons:
            place = f"tool.rabbet.variants.{name}.runtimes.python"
            problems.add(place, f"'{variant.python}' allows none of the pythons to serve")
    named = (*declaration.sources, *declaration.team_builds)
    for key, entries in (("sources", named), ("catalogues", declaration.catalogues)):
        for name, count in sorted(Counter(entry.name for entry in entries).items()):
            if count > 1:
                problems.add(f"tool.rabbet.{key}", f"two {key} have the name '{name}'")


def _own_version(project: Table) -> Version | None:
    """The project's own version, if it is written down."""
    text = project.text("version")
    try:
        return None if text is None else Version(text if len(text) <= LONGEST_LINE else "")
    except ValueError:
        project.problems.add("project.version", f"'{str(text)[:60]}' is not a version")
        return None


def _python(*places: tuple[Table, str]) -> SpecifierSet:
    """The Python versions that several keys allow together."""
    specifiers = SpecifierSet()
    for table, key in places:
        try:
            specifiers &= parse_versions(table.text(key) or "")
        except NotUnderstood as error:
            table.problems.add(table.place(key), str(error))
    return specifiers


def _runtimes(table: Table) -> Iterator[DeclaredRuntime]:
    """The languages beside Python, each with its versions, or a table with these and more."""
    for key, name in _names(table).items():
        if name == "python":
            continue
        if not table.holds_table(key):
            yield DeclaredRuntime(language=name, versions=versions_of(table, key))
            continue
        entry = table.table(key, "version", "distributor", "needs")
        needs = entry.table("needs")
        yield DeclaredRuntime(
            language=name,
            versions=versions_of(entry, "version"),
            distributor=entry.text("distributor") or "",
            needs={language: versions_of(needs, written) for written, language in _names(needs).items()},
        )


def _requirements(table: Table, key: str) -> tuple[Need, ...]:
    return tuple(_parsed(table.texts(key), table.problems, table.place(key)))


def _parsed(texts: list[str], problems: Problems, place: str) -> list[Need]:
    found = []
    for number, text in enumerate(texts):
        try:
            found.append(parse_requirement(text))
        except NotUnderstood as error:
            problems.add(f"{place}[{number}]", "\n".join([str(error), *error.because]))
    return found


def _sections(table: Table) -> Mapping[str, tuple[Need, ...]]:
    """All lists of requirements in a table, by their normalized names."""
    return {name: _requirements(table, key) for key, name in _names(table).items()}


def _names(table: Table) -> Mapping[str, str]:
    """The keys of a table, which have to be names, and their normalized forms."""
    found: dict[str, str] = {}
    known: set[str] = set()
    for key in table:
        if not _NAME.match(key):
            table.problems.add(table.place(key), "is not a name: letters, digits, '-', '_' and '.' make one")
        elif library_name(key) in known:
            table.problems.add(table.place(key), "is there already, written in another way")
        else:
            found[key] = library_name(key)
            known.add(found[key])
    return found


class _OwnExtras:
    """The project's own extras, which its requirements may name in place of what these hold."""

    def __init__(
        self,
        project: str | None,
        extras: Mapping[str, tuple[Need, ...]],
        amount: _Amount,
        problems: Problems,
    ) -> None:
        self._project = library_name(project) if project else None
        self._extras = extras
        self._amount = amount
        self._problems = problems

    def put_in_place(self, requirements: Iterable[Need]) -> tuple[Need, ...]:
        """Requirements with `PROJECT[EXTRA]` replaced by what that extra requires, under the same markers.

        An extra is visited once for each set of markers that leads to it, unless it was reached under some of
        them already; what includes itself adds nothing.
        """
        found: dict[str, Need] = {}
        reached: dict[str, list[frozenset[str]]] = {}
        waiting = deque((requirement, _Way()) for requirement in requirements)
        while waiting:
            asked, way = waiting.popleft()
            if asked.name != self._project:
                need = way.under_markers(asked)
                found[str(need)] = need
                continue
            inner = way.markers if asked.marker is None else {**way.markers, str(asked.marker): None}
            for extra in sorted(asked.extras):
                before = reached.setdefault(extra, [])
                below = _Way(inner, way.levels + 1)
                if any(inner.keys() >= markers for markers in before) or not self._may_follow(
                    extra, asked, below
                ):
                    continue
                before.append(frozenset(inner))
                self._amount.add(len(self._extras[extra]) + len(before))
                waiting += [(need, below) for need in self._extras[extra]]
        return tuple(found.values())

    def _may_follow(self, extra: str, requirement: Need, way: "_Way") -> bool:
        if extra not in self._extras:
            self._problems.add(str(requirement), f"the project has no extra '{extra}'")
        elif way.levels > DEEPEST:
            self._problems.add(extra, f"is named by extras inside extras, more than {DEEPEST} levels deep")
        elif sum(map(len, way.markers)) > LONGEST_TEXT:
            self._problems.add(extra, f"is included under markers of more than {LONGEST_TEXT} characters")
        else:
            return True
        return False


class _Way(NamedTuple):
    """The markers on the way to an extra, and through how many others it led."""

    markers: Mapping[str, None] = MappingProxyType({})
    levels: int = 0

    def under_markers(self, need: Need) -> Need:
        """A requirement that counts only where all markers on the way hold too."""
        if not self.markers:
            return need
        all_ = dict.fromkeys([*self.markers, *([str(need.marker)] if need.marker else [])])
        return replace(need, marker=_marker(" and ".join(f"({marker})" for marker in all_)))


@lru_cache(maxsize=256)
def _marker(text: str) -> Marker:
    return Marker(text)


def _variants(table: Table, own: _OwnExtras) -> Mapping[str, Variant]:
    variants = {}
    names = _names(table)
    if len(names) > MOST_VARIANTS:
        table.problems.add(
            "tool.rabbet.variants", f"there are {len(names)}, and at most {MOST_VARIANTS} are read"
        )
    for key, entry in islice(variant_tables(table), MOST_VARIANTS):
        entry.allow_only("runtimes", "requirements")
        if not _VARIANT.match(key):
            wrong = "is not a variant's name: letters, digits, '_' and '-' make one, for it names files"
            table.problems.add(table.place(key), wrong)
        runtimes = entry.table("runtimes")
        variants[key] = Variant(
            python=_python((runtimes, "python")),
            needs=own.put_in_place(_requirements(entry, "requirements")),
            runtimes=tuple(_runtimes(runtimes)),
        )
    return variants


def _builds(table: Table) -> Mapping[NormalizedName, BuildOptions]:
    """Options for the builds of single libraries, or of the project itself, by their names."""
    found = {}
    for key, name in _names(table).items():
        entry = table.table(key, "variables", "settings", "needs", "system")
        needs = _requirements(entry, "needs")
        found[library_name(name)] = replace(read_build_options(entry), needs=needs)
    return found


def _newest(settings: Table) -> str:
    """Whose newest releases are locked: those of `each` target, or the `same` for all where they can be."""
    newest = settings.text("newest") or "each"
    if newest not in ("each", "same"):
        settings.problems.add(settings.place("newest"), f"'{newest[:60]}' is neither 'each' nor 'same'")
    return newest


def _corrections(table: Table) -> tuple[Correction, ...]:
    """Corrections of releases' metadata, such as `"nectarplot==2.1" = { drop = ["combframe"] }`."""
    found = []
    for key in table:
        entry = table.table(key, "drop", "add")
        for applies_to in _parsed([key], table.problems, table.place(f'"{key}"')):
            if not applies_to.specifier or applies_to.extras or applies_to.marker:
                table.problems.add(
                    table.place(key), "must be a library with versions, such as 'combframe==2.1'"
                )
            found.append(
                Correction(
                    applies_to=applies_to,
                    drop=frozenset(library_name(name) for name in entry.texts("drop")),
                    add=_requirements(entry, "add"),
                )
            )
    return tuple(found)


def _check_without(declaration: Declaration, problems: Problems) -> None:
    """Refuse to keep out a library that the project itself requires."""
    for requirement in declaration.declared():
        if requirement.need.name in declaration.without:
            who = f"the {requirement.section}" if requirement.section else "the project"
            problems.add("tool.rabbet.without", f"'{requirement.need.name}' is required by {who} itself")


def _usual_keys(settings: Table) -> dict[str, object]:
    """The values of the keys in the usual shapes, by the declaration's fields."""
    return {key.field: _READERS[key.shape](settings, key) for key in KEYS if key.shape in _READERS}


def _names_in(settings: Table, key: Key) -> frozenset[NormalizedName]:
    names = settings.texts(key.name)
    for name in names:
        if not _NAME.match(name):
            settings.problems.add(settings.place(key.name), f"'{name[:60]}' is not a library's name")
    return frozenset(library_name(name) for name in names)


def _texts_in(settings: Table, key: Key) -> tuple[str, ...]:
    """A list of texts of a certain form."""
    found, (fits, known) = settings.texts(key.name), _FORMS[key.name]
    for text in found:
        if not fits(text):
            settings.problems.add(settings.place(key.name), f"'{text[:60]}' is not one of: {known}")
    return tuple(dict.fromkeys(filter(fits, found)))


def _bounds_in(settings: Table, key: Key) -> tuple[Need, ...]:
    """Bounds of libraries that others ask for: names and versions, and nothing that would bring one in."""
    found = _requirements(settings, key.name)
    for need in found:
        if not need.specifier or need.extras or need.url:
            problem = f"'{need.name}' must be a library with versions, such as 'combframe<3'"
            settings.problems.add(settings.place(key.name), problem)
    return found


def _table_in(settings: Table, key: Key) -> Mapping[str, str]:
    """Texts by names: of libraries, or of those that the key allows."""
    table, allowed = settings.table(key.name), _ALLOWED.get(key.name)
    if allowed is None:
        return {library_name(name): table.required(name) for name in table}
    table.allow_only(*allowed)
    found = {name: table.text(name) or "" for name in table if name in allowed}
    for name, text in found.items():
        if not _MINOR.match(text):
            table.problems.add(table.place(name), f"'{text[:60]}' is not a version such as {allowed[name]}")
    return found


def _text_in(settings: Table, key: Key) -> str | None:
    """A text of a certain form."""
    text, (fits, known) = settings.text(key.name), _FORMS[key.name]
    if text is not None and not fits(text):
        settings.problems.add(settings.place(key.name), f"'{text[:60]}' is not one of: {known}")
    return text


_FORMS: Mapping[str, tuple[Callable[[str], bool], str]] = {
    "targets": (lambda text: text in PLATFORMS, ", ".join(PLATFORMS)),
    "as-of": (is_moment, "dates such as 2026-05-01"),
    "pythons": (lambda text: bool(_MINOR.match(text)), "versions such as 3.12"),
}
_ALLOWED: Mapping[str, Mapping[str, str]] = {"baselines": BASELINES}  # with a version as an example
_READERS: Mapping[Shape, Callable[[Table, Key], object]] = {
    Shape.NAMES: _names_in,
    Shape.TEXTS: _texts_in,
    Shape.BOUNDS: _bounds_in,
    Shape.TABLE: _table_in,
    Shape.TEXT: _text_in,
}


class _Groups:
    """The dependency groups (PEP 735), each worked out once, however many others include it."""

    def __init__(self, table: Table, amount: _Amount) -> None:
        self._table = table
        self._amount = amount
        self._raw: dict[str, list[object]] = {
            name: table.get(key, list, []) for key, name in _names(table).items()
        }
        self._done: dict[str, tuple[Need, ...]] = {}

    def all(self) -> Mapping[str, tuple[Need, ...]]:
        """All groups by their normalized names, with `include-group` entries replaced by what they name."""
        return {name: self._members(name, ()) for name in sorted(self._raw)}

    def _members(self, name: str, above: tuple[str, ...]) -> tuple[Need, ...]:
        """One group's requirements; `above` are the groups that include it, to notice a circle."""
        if name not in self._done:
            found: dict[str, Need] = {}
            for number, entry in enumerate(self._raw[name]):
                place = f"{self._table.place(name)}[{number}]"
                needs = self._entry(entry, place, (*above, name))
                self._amount.add(len(needs))
                for need in needs:
                    found.setdefault(str(need), need)
            self._done[name] = tuple(found.values())
        return self._done[name]

    def _entry(self, entry: object, place: str, above: tuple[str, ...]) -> Sequence[Need]:
        included = entry.get("include-group") if isinstance(entry, dict) else None
        group = library_name(included) if isinstance(included, str) else ""
        if isinstance(entry, str):
            return _parsed([entry], self._table.problems, place)
        if group not in self._raw:
            wrong = "must be a requirement or {include-group = NAME} of a group that exists"
        elif group in above:
            wrong = f"includes '{included}' in a circle"
        elif len(above) > DEEPEST:
            wrong = f"includes groups inside groups, more than {DEEPEST} levels deep"
        else:
            return self._members(group, above)
        self._table.problems.add(place, wrong)
        return ()


def _few(settings: Table, key: str, most: int) -> list[Table]:
    """A list of tables, which must not be many: each of them costs something whenever a command runs."""
    found = settings.tables(key)
    if len(found) > most:
        settings.problems.add(settings.place(key), f"there are {len(found)}, and at most {most} are read")
    return found[:most]


def _source(entry: Table) -> SourceEntry:
    of_listings = () if _holds_builds(entry) else ("only", "fresh-for", "mirrors")
    entry.allow_only("name", "url", "builds", *of_listings)
    name, url = _named_place(entry)
    told = entry.text("fresh-for")
    fresh = _DURATION.match(told or "0s")
    if fresh is None:
        entry.problems.add(entry.place("fresh-for"), "is not a time such as '10m' or '2h'")
    seconds = int(fresh.group(1)) * _SECONDS[fresh.group(2)] if fresh else 0
    return SourceEntry(
        name=name,
        url=url,
        only=tuple(entry.texts("only")),
        fresh_for=min(seconds, LONGEST_FRESH),
        mirrors=_mirrors(entry, url),
    )


def _mirrors(entry: Table, url: str) -> tuple[str, ...]:
    """The mirrors of a source at this address: both are indexes."""
    mirrors = tuple(entry.texts("mirrors"))
    if mirrors and not _is_of_index(url):
        entry.problems.add(entry.place("mirrors"), "only an index over http or https has mirrors")
    if len(mirrors) > MOST_SOURCES:
        entry.problems.add(
            entry.place("mirrors"), f"there are {len(mirrors)}, and at most {MOST_SOURCES} are read"
        )
    for mirror in mirrors:
        wrong = wrong_source(mirror)
        if wrong or not _is_of_index(mirror):
            wrong = wrong or "is not an address of http or https"
            entry.problems.add(entry.place("mirrors"), f"'{hidden(mirror)}' {wrong}")
    return mirrors[:MOST_SOURCES]


def _is_of_index(url: str) -> bool:
    return is_address(url) and url.partition(":")[0].lower() in ("http", "https")


def _holds_builds(entry: Table) -> bool:
    """Whether a source lists no releases, but holds wheels that teammates built."""
    return entry.get("builds", bool, False)


def read_catalogues(settings: Table) -> tuple[CatalogueEntry, ...]:
    """The catalogues of runtimes that a declaration or the user's settings name."""
    found = []
    for entry in _few(settings, "catalogues", MOST_SOURCES):
        entry.allow_only("name", "url", "kind")
        name, url = _named_place(entry)
        kind = entry.text("kind")
        if kind not in (None, "registry"):
            entry.problems.add(entry.place("kind"), f"'{str(kind)[:60]}' is not 'registry'")
        found.append(CatalogueEntry(name=name, url=url, registry=kind == "registry"))
    return tuple(found)


def _named_place(entry: Table) -> tuple[str, str]:
    """The name of a source or a catalogue, and where it lies."""
    name, url = entry.required("name"), entry.required("url")
    if not _NAME.match(name):
        entry.problems.add(entry.place("name"), "is not a name: letters, digits, '-', '_' and '.' make one")
    wrong = wrong_source(url)
    if wrong:
        entry.problems.add(entry.place("url"), f"'{hidden(url)}' {wrong}")
    return name, url


def wrong_source(url: str) -> str | None:
    """Why a text can't be where a source lies (an address, or a folder's path), if it can't."""
    if not is_address(url):
        return None if url.isprintable() and len(url) <= LONGEST_LINE else "is neither an address nor a path"
    try:
        address = parse_address(url)
    except NotAnAddress as error:
        return f"is not an address: {error}"
    if address.scheme != "file" and "@" in address.path:
        return "holds an '@' after its host: in a password a '/' is written as %2F"
    return None
