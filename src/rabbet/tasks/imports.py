"""What the code imports, against the declaration."""

import re
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.drift.imports import Code, ImportFinding, import_findings
from rabbet.core.limits import MOST_BY_HAND
from rabbet.core.lock.select import needed
from rabbet.core.model.declaration import Declaration, Section
from rabbet.core.model.finding import Weight
from rabbet.core.model.lock import Lock
from rabbet.core.needs.need import library_name
from rabbet.core.progress import Observer
from rabbet.core.targets import target_of
from rabbet.disk.regular_file import read_regular
from rabbet.formats.toml import parse_content
from rabbet.workspace.machine import Machine
from rabbet.workspace.offers import offers_of
from rabbet.workspace.project import Project
from rabbet.workspace.runtimes.pythons import chosen_runtime, found_pythons
from rabbet.workspace.source_files import imports_of, standard_modules

__all__ = ["Imports", "imports"]

_CONFIGURATIONS = (
    *("*.toml", "*.cfg", "*.ini", "*.yml", "*.yaml", ".*.yml", ".*.yaml", ".*.toml", ".*.cfg"),
    *("docs/conf.py", "doc/conf.py", "docs/source/conf.py", "noxfile.py", "conftest.py", "Makefile"),
)


class Imports(Struct, frozen=True, kw_only=True):
    """All findings, how many files were read, and the groups that development code may have."""

    findings: tuple[ImportFinding, ...]
    files: int
    groups: tuple[str, ...]

    @property
    def differs(self) -> bool:
        """Whether anything weighs more than a note."""
        return any(finding.weight is not Weight.NOTE for finding in self.findings)


def imports(project: Project, machine: Machine, observer: Observer) -> Imports:
    """Hold what the project's files import against what it declares; nothing of either is run.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, and `EnvironmentFailed` where not all libraries are here.
    """
    declaration, lock = project.declaration(), project.lock()
    observer.stage("looking at what the libraries offer")
    target = target_of(chosen_runtime(declaration, found_pythons(machine, project), lock))
    offered = offers_of(
        project.environment, needed(lock, target, lock.everything, declaration), machine.store
    )
    own = library_name(declaration.name)
    observer.stage("reading the project's files")
    read = imports_of(project.folder)
    declared = {name: sections for name, sections in _declared(declaration).items() if name != own}
    code = Code(
        sites=read.sites,
        libraries={name: one for name, one in offered.items() if name != own},
        declared=declared,
        brought_by=_brought_by(lock, declared),
        standard=standard_modules(),
        own=read.names,
        mentioned=dict(_mentioned(project, declared)),
        unreadable=read.unreadable,
    )
    return Imports(findings=import_findings(code), files=read.files, groups=tuple(sorted(declaration.groups)))


def _declared(declaration: Declaration) -> Mapping[NormalizedName, frozenset[Section | None]]:
    """The declared libraries, with the sections that name them."""
    found: dict[NormalizedName, set[Section | None]] = {}
    for one in declaration.declared():
        found.setdefault(one.need.name, set()).add(one.section)
    return {name: frozenset(sections) for name, sections in found.items()}


def _brought_by(lock: Lock, declared: Iterable[NormalizedName]) -> Mapping[NormalizedName, NormalizedName]:
    """For each library that is not declared, the nearest declared one that brings it."""
    bringing = {name: name for name in declared}
    dependencies: dict[NormalizedName, set[NormalizedName]] = {}
    for library in lock.libraries:
        dependencies.setdefault(library.name, set()).update(library.dependencies)
    waiting = sorted(bringing)
    while waiting:
        name = waiting.pop(0)
        for dependency in sorted(dependencies.get(name, ())):
            if dependency not in bringing:
                bringing[dependency] = bringing[name]
                waiting.append(dependency)
    return {name: by for name, by in bringing.items() if name != by}


def _mentioned(project: Project, declared: Iterable[NormalizedName]) -> Iterator[tuple[NormalizedName, str]]:
    """Where declared libraries are named in the configuration of tools."""
    texts: dict[str, str] = {}
    for pattern in _CONFIGURATIONS:
        for path in sorted(project.folder.glob(pattern)):
            if not path.name.startswith("pylock.") and path.is_file():
                with suppress(OSError):
                    texts[path.relative_to(project.folder).as_posix()] = read_regular(
                        path, most=MOST_BY_HAND
                    ).decode("utf-8", "replace")
    tools: list[str] = []
    with suppress(ValueError, AttributeError, TypeError):
        tools = sorted(parse_content(texts.pop(project.declaration_file.name, "")).get("tool", {}))  # type: ignore[call-overload]
    for name in declared:
        written = "[-_.]".join(re.escape(part) for part in name.split("-"))
        word = re.compile(rf"(?<![\w-]){written}(?![\w-])", re.IGNORECASE)
        places = [f"[tool.{tool}] in pyproject.toml" for tool in tools if library_name(tool) == name]
        places += [file for file, text in texts.items() if word.search(text)]
        if places:
            yield name, f"it is named in {places[0]}"
