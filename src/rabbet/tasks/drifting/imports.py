"""The task of `imports`: compare the code's imports with the declaration."""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration, Section
from rabbet.core.limits import MOST_BY_HAND
from rabbet.core.model.finding import Weight
from rabbet.core.model.lock import Lock
from rabbet.core.needs.names import library_name
from rabbet.disk.regular_file import read_regular
from rabbet.formats.text.toml import parse_content
from rabbet.python.choosing.select import needed
from rabbet.python.choosing.targets import target_of
from rabbet.python.code.imports import (
    Code,
    ImportCause,
    ImportFinding,
    ImportReason,
    LibraryContents,
    by_module,
    import_findings,
    owners_of,
)
from rabbet.workspace.evidence.offers import offers_of
from rabbet.workspace.evidence.source_files import imports_of, source_texts
from rabbet.workspace.project import DECLARATION, Project
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of, standard_modules_of
from rabbet.workspace.session import Session

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


def imports(session: Session) -> Imports:
    """Hold what the project's files import against what it declares; nothing of either is run.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, and `EnvironmentFailed` where not all libraries are here.
    """
    declaration, lock = session.declaration(), session.lock()
    session.observer.stage("looking at what the libraries offer")
    runtime = chosen_runtime(declaration, pythons_of(session), lock)
    target = target_of(runtime)
    offered = offers_of(
        session.project.environment, needed(lock, target, lock.everything, declaration), session.machine.store
    )
    own = library_name(declaration.name)
    session.observer.stage("reading the project's files")
    read = imports_of(session.project.folder, session.project.only_file)
    declared = {name: sections for name, sections in _declared(declaration).items() if name != own}
    libraries = {name: contents for name, contents in offered.items() if name != own}
    offering = by_module(libraries)
    used = {owner for site in read.sites for owner in owners_of(site, offering)}
    code = Code(
        sites=read.sites,
        libraries=libraries,
        declared=declared,
        brought_by=_brought_by(lock, declared),
        standard=standard_modules_of(Path(runtime.executable), session.machine),
        own=read.names,
        installed=read.installed,
        mentioned=dict(_mentioned(session.project, sorted(declared.keys() - used), offered)),
        unreadable=read.unreadable,
    )
    return Imports(findings=import_findings(code), files=read.files, groups=tuple(sorted(declaration.groups)))


def _declared(declaration: Declaration) -> Mapping[NormalizedName, frozenset[Section | None]]:
    """The declared libraries, with the sections that name them."""
    found: dict[NormalizedName, set[Section | None]] = {}
    for requirement in declaration.declared():
        found.setdefault(requirement.need.name, set()).add(requirement.section)
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


def _mentioned(
    project: Project, declared: Sequence[NormalizedName], offered: Mapping[NormalizedName, LibraryContents]
) -> Iterator[tuple[NormalizedName, ImportCause]]:
    """Where declared libraries, or their modules, are named in the configuration of tools and in the code."""
    if not declared:
        return
    texts = dict(_configurations(project))
    tools = _tools(texts.pop(DECLARATION, ""))
    code = {file: text for file, text in source_texts(project.folder, project.only_file) if file not in texts}
    for name in declared:
        modules = {module.partition(".")[0] for module in offered.get(name, LibraryContents()).modules}
        named = "|".join([_written(name), *(rf"{re.escape(module)}(\.\w+)*" for module in sorted(modules))])
        word = re.compile(rf"(?<![\w.-])({named})(?![\w-])", re.IGNORECASE)
        literal = re.compile(rf"""(["'])({named})\1""")
        places = [f"[tool.{tool}] in pyproject.toml" for tool in tools if library_name(tool) == name]
        places += [f"[tool.{tool}] in pyproject.toml" for tool, text in tools.items() if word.search(text)]
        places += [file for file, text in texts.items() if word.search(text)]
        places += [file for file, text in code.items() if literal.search(text)]
        if places:
            yield name, ImportCause(ImportReason.NAMED_IN, (places[0],))


def _written(name: NormalizedName) -> str:
    """A pattern of a library's name, as people write it."""
    return "[-_.]".join(re.escape(part) for part in name.split("-"))


def _configurations(project: Project) -> Iterator[tuple[str, str]]:
    """The files of tools' configurations, by their places, with their texts."""
    for pattern in _CONFIGURATIONS if project.script is None else ():
        for path in sorted(project.folder.glob(pattern)):
            if not path.name.startswith("pylock.") and path.is_file():
                with suppress(OSError):
                    content = read_regular(path, most=MOST_BY_HAND)
                    yield path.relative_to(project.folder).as_posix(), content.decode("utf-8", "replace")


def _tools(declaration: str) -> Mapping[str, str]:
    """The tables of other tools in a declaration, by their names, with all texts in each."""

    def texts(value: object) -> Iterator[str]:
        if isinstance(value, str):
            yield value
        for inner in value.values() if isinstance(value, dict) else value if isinstance(value, list) else ():
            yield from texts(inner)

    with suppress(ValueError):
        tools = parse_content(declaration).get("tool")
        if isinstance(tools, dict):
            others = (tool for tool in sorted(tools) if tool != "rabbet")
            return {tool: "\n".join(texts(tools[tool])) for tool in others}
    return {}
