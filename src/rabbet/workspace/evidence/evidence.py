"""Evidence for a declaration: lists, environments, locks, projects and code; none of it is run."""

import re
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from urllib.parse import unquote

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Section, SourceEntry
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.target import Target
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.needs.need import Need
from rabbet.core.shell import quoted
from rabbet.disk.named import path_named
from rabbet.disk.text_file import read_text
from rabbet.errors import EnvironmentFailed, NotUnderstood, WrongUsage
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.pylock import read_lock
from rabbet.formats.text.address import is_address
from rabbet.python.code.adoption import AdoptCause, AdoptReason, Left, Listed, Present
from rabbet.python.code.imports import ImportSite, LibraryContents
from rabbet.python.environment.look.foreign import foreign_inventory, library_folders
from rabbet.python.formats.requirement_list import read_requirement_list
from rabbet.workspace.evidence.offers import offers_in
from rabbet.workspace.evidence.signs import LISTS
from rabbet.workspace.evidence.source_files import imports_of
from rabbet.workspace.project import DECLARATION

__all__ = ["Gathered", "gather"]

_NO_GROUP = {"requirements", "requirement", "base", "main", "common", "prod", "production", "all", "lock"}
_CODE = (".py", ".pyw", ".ipynb")
_DEEPEST = 20  # lists that include each other


class Gathered(Struct, kw_only=True):
    """The evidence, its places (`looked_at`), and the parts that can't be taken over.

    An environment was `made_with` a version of Python. The `sources` are those of another project.
    """

    listed: list[Listed] = field(default_factory=list)
    present: dict[NormalizedName, Present] = field(default_factory=dict)
    sites: list[ImportSite] = field(default_factory=list)
    own: set[str] = field(default_factory=set)
    left: list[Left] = field(default_factory=list)
    looked_at: list[str] = field(default_factory=list)
    python: SpecifierSet | None = None
    made_with: Version | None = None
    hashed: int = 0
    sources: tuple[SourceEntry, ...] = ()


def gather(places: Sequence[str], folder: Path, home: Path, here: Target) -> Gathered:
    """Look at these places, or at all that is in the folder; `here` is this machine.

    Raises `WrongUsage`, `NotUnderstood`.
    """
    return _Gatherer(folder, home, here).gathered(places)


class _Gatherer:
    """One look; `folder` is the project's, to which places are relative when they are shown."""

    def __init__(self, folder: Path, home: Path, here: Target) -> None:
        self._folder = folder
        self._home = home
        self._here = here
        self._found = Gathered()
        self._read: set[Path] = set()

    def gathered(self, places: Sequence[str]) -> Gathered:
        for place in places:
            path = path_named(place, self._folder)
            if not path.exists():
                raise WrongUsage(f"there is no {place}", remedy="rabbet adopt --plan")
            if path.is_dir():
                self._of_folder(path, place)
            elif path.suffix == ".toml":
                self._of_toml(path)
            elif path.suffix in _CODE:
                self._of_code(path.parent, path.name)
            else:
                self._of_list(path)
        if not places:
            self._of_everything(self._folder)
        return self._found

    def _of_folder(self, path: Path, place: str) -> None:
        """An environment, or a project with whatever it has."""
        if _is_environment(path):
            self._of_environment(path)
        elif not self._of_everything(path):
            raise WrongUsage(
                f"there is nothing to adopt in {place}",
                because=["it holds no environment, no list of requirements, no pyproject.toml and no code"],
            )

    def _of_everything(self, folder: Path) -> bool:
        """All that a project's folder holds, but for its own declaration; whether there was anything."""
        before = len(self._found.looked_at)
        for environment in _environments(folder)[:1]:
            self._of_environment(environment)
        lists = sorted({path for pattern in LISTS for path in folder.glob(pattern) if path.is_file()})
        loose = {path.with_suffix("") for path in lists if path.suffix == ".in"}
        for path in sorted(lists, key=lambda path: (path.suffix != ".in", path)):
            self._of_list(path, constraint=path.suffix != ".in" and path.with_suffix("") in loose)
        if folder != self._folder and (folder / DECLARATION).is_file():
            self._of_toml(folder / DECLARATION)
        self._of_code(folder)
        return len(self._found.looked_at) > before

    def _of_code(self, folder: Path, only: str | None = None) -> None:
        read = imports_of(folder, only)
        if read.files:
            self._found.sites += read.sites
            self._found.own |= read.names
            self._found.listed += (
                Listed(need=Need(library_name(site.module), SpecifierSet()), place=site.place)
                for site in read.installed
            )
            files = f"{read.files} source file" + ("s" if read.files > 1 else "")
            shown = self._shown(folder)
            told = f"{files} here" if shown == "." else f"{files} in {shown}"
            self._found.looked_at.append(only or told)
            for file, reason in read.unreadable.items():
                self._found.left.append(Left(what=file, cause=AdoptCause(AdoptReason.UNREADABLE, (reason,))))

    def _of_environment(self, place: Path) -> None:
        found = self._found
        inventory = foreign_inventory(place, Version(self._here.minor), sound=True)
        offered: dict[NormalizedName, LibraryContents] = {}
        for site in library_folders(place):
            offered |= dict(offers_in(site))
        needs = _needs(inventory, self._here)
        for name, library in inventory.libraries.items():
            told = library.installation
            found.present.setdefault(
                name,
                Present(
                    version=library.version,
                    needs=needs[name],
                    offered=offered.get(name, LibraryContents()),
                    installer=told.installer if told else "",
                    requested=told.requested if told else False,
                    origin=_origin(name, told.origin) if told and told.origin else "",
                ),
            )
        minor = ".".join(str(number) for number in inventory.python.release[:2])
        found.python = found.python or SpecifierSet(f">={minor}")
        found.made_with = found.made_with or inventory.python
        found.looked_at.append(f"{len(inventory.libraries)} installed in {self._shown(place)}")

    def _of_toml(self, path: Path) -> None:
        """Another project's standard tables, or a lock."""
        text, shown = read_text(path, by_hand=path.name == DECLARATION), self._shown(path)
        if path.name == "pylock.toml" or path.name.startswith("pylock."):
            for library in read_lock(text, shown, remedies=False).libraries:
                present = Present(version=library.version, needs=frozenset(library.dependencies))
                self._found.present.setdefault(library.name, present)
        else:
            declaration = read_declaration(text, folder_name=path.parent.name)
            self._found.python = declaration.python or self._found.python
            self._found.sources = self._found.sources or tuple(
                entry
                if is_address(entry.url)
                else replace(entry, url=str(path_named(entry.url, path.parent)))
                for entry in declaration.sources
            )
            self._found.listed += (
                Listed(need=requirement.need, place=shown, section=requirement.section)
                for requirement in declaration.declared()
            )
        self._found.looked_at.append(shown)

    def _of_list(
        self, path: Path, *, constraint: bool = False, within: Section | None = None, depth: int = 0
    ) -> None:
        """A list, and those that it includes; each file is read once.

        Where its name does not say what it is for, it is for the same as the list that includes it.
        """
        if path.resolve() in self._read:
            return
        self._read.add(path.resolve())
        shown = self._shown(path)
        if depth > _DEEPEST:
            raise NotUnderstood(f"{shown} can't be read", because=["lists include each other without end"])
        section = _section_of(path) if _is_named_so(path) else within
        try:
            lines = read_requirement_list(read_text(path, by_hand=True))
        except ValueError as error:
            raise NotUnderstood(f"{shown} is not a list of requirements", because=[str(error)]) from error
        self._found.looked_at.append(shown)
        for line in lines:
            place = f"{shown}:{line.number}"
            if line.need is not None:
                listed = Listed(need=line.need, place=place, section=section, constraint=constraint)
                self._found.listed.append(listed)
                self._found.hashed += line.hashed
            elif line.kind == "left":
                self._found.left.append(
                    Left(what=f"{place}  {line.text}", cause=AdoptCause(AdoptReason.UNREADABLE, (line.told,)))
                )
            elif not (path.parent / line.text).is_file():
                no_file = AdoptCause(AdoptReason.NO_FILE)
                self._found.left.append(Left(what=f"{place}  {line.text}", cause=no_file))
            else:
                bounds = constraint or line.kind == "constraints"
                self._of_list(path.parent / line.text, constraint=bounds, within=section, depth=depth + 1)

    def _shown(self, path: Path) -> str:
        """A path as people would write it here."""
        if path == self._folder:
            return "."
        for base, prefix in ((self._folder, ""), (self._folder.parent, "../"), (self._home, "~/")):
            if path.is_relative_to(base):
                return prefix + path.relative_to(base).as_posix()
        return str(path)


def _origin(name: NormalizedName, origin: str) -> str:
    """Where a library came from that no source lists, and how that would be declared."""
    address, _, commit = origin.partition(" at ")
    if address.startswith("file:"):
        way = f"--local {name} {quoted(unquote(address.removeprefix('file://')))}"
    else:
        way = quoted(f"{name} @ git+{address}@{commit}" if commit else f"{name} @ {address}")
    return f"{origin}; to declare that: rabbet declare {way}"


def _is_environment(path: Path) -> bool:
    with suppress(EnvironmentFailed):
        return bool(library_folders(path))
    return False


def _environments(folder: Path) -> list[Path]:
    """The environments that lie in a folder, `.venv` before others."""
    found = [path.parent for path in folder.glob("*/pyvenv.cfg") if _is_environment(path.parent)]
    return sorted(found, key=lambda path: (path.name != ".venv", path.name))


def _needs(inventory: Inventory, here: Target) -> dict[NormalizedName, frozenset[NormalizedName]]:
    """The dependencies of each installed library, including those of requested extras."""
    python = inventory.python
    version = {"python_version": f"{python.major}.{python.minor}", "python_full_version": str(python)}
    markers = {**here.markers, **version}
    needs = {
        name: library.metadata.needs if library.metadata else ()
        for name, library in inventory.libraries.items()
    }
    asked: dict[NormalizedName, set[str]] = {name: {""} for name in needs}
    for need in (need for many in needs.values() for need in many if need.extras):
        asked.get(need.name, set()).update(need.extras)
    return {
        name: frozenset(
            need.name
            for need in many
            if need.marker is None
            or any(need.marker.evaluate({**markers, "extra": extra}) for extra in asked[name])
        )
        for name, many in needs.items()
    }


def _section_of(path: Path) -> Section | None:
    """The group that a list is for, by its name: `requirements-tests.txt`, `requirements/docs.txt`."""
    parts = [part for part in re.split(r"[-_. ]+", path.stem.lower()) if part and part not in _NO_GROUP]
    name = "-".join(parts)
    return Section("group", library_name(name)) if is_name(name) else None


def _is_named_so(path: Path) -> bool:
    """Whether a list has a name by which such lists are known."""
    return "requirements" in path.stem.lower() or path.parent.name == "requirements"
