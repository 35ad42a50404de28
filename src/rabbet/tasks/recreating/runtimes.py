"""The runtimes of this machine: which there are, who uses them, and which ones a project gets."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, LockedRuntime
from rabbet.core.model.runtime import PythonRuntime, Refusal, Runtime
from rabbet.core.needs.wording import specifiers_text
from rabbet.core.progress import Observer
from rabbet.errors import NoLock, NoRuntime, NoSolution, RabbetError
from rabbet.formats.text.requirement import parse_runtime
from rabbet.python.environment.place.install_state import own_install_state
from rabbet.runtimes.binary_format import architecture_of
from rabbet.runtimes.choose import newest_first
from rabbet.workspace.lent import notes
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.runtimes.choice import runtimes_here
from rabbet.workspace.runtimes.languages import found_runtimes, languages_for, unknown_language
from rabbet.workspace.runtimes.pythons import chosen_runtime, found_pythons, own_target
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.store.obtained import Obtained
    from rabbet.workspace.runtimes.obtaining import OfferedRuntime

__all__ = ["RuntimeRow", "RuntimesFound", "discard", "look_up", "obtain", "runtimes_found"]


class RuntimeRow(Struct, frozen=True, kw_only=True):
    """A runtime, the machine it is built for, and the projects that use it.

    It may be `chosen` for the present project. `passed_over` says why the project does not get it; `None`
    where it does, or declares no such language.
    """

    runtime: Runtime
    architecture: str
    projects: tuple[str, ...]
    chosen: bool = False
    passed_over: str | None = None


class RuntimesFound(Struct, frozen=True, kw_only=True):
    """All runtimes of this machine by language, what was set aside, and what a project lacks of them.

    `declaration` is the file that says which ones the present folder gets, if there is one.
    """

    rows: tuple[RuntimeRow, ...]
    refusals: tuple[Refusal, ...]
    declaration: Path | None
    missing: tuple[RabbetError, ...]


def runtimes_found(
    project: Project | None, machine: Machine, observer: Observer, only: Sequence[str] = ()
) -> RuntimesFound:
    """Look for the runtimes of all languages, or `only` of some.

    Raises `NotUnderstood`, also for an unknown language.
    """
    declaration = project.declaration() if project else None
    languages = languages_for(declaration, machine)
    unknown = sorted(set(only) - {"python", *languages})
    if unknown:
        raise unknown_language(unknown[0], languages)
    observer.stage("looking for runtimes")
    pythons = found_pythons(machine, project)
    others = found_runtimes(languages.values(), machine, project)
    found = {"python": _ordered(pythons), **{name: _by_version(some) for name, some in others.items()}}
    wanted = {name: found[name] for name in sorted(found) if not only or name in only}
    here = _Choice(declaration, Session(project, machine), pythons) if declaration and project else None
    users = _users(machine)
    return RuntimesFound(
        rows=tuple(
            RuntimeRow(
                runtime=runtime,
                architecture=architecture_of(Path(runtime.executable)),
                projects=tuple(users.get(runtime.executable, ())),
                chosen=here is not None and here.gets(runtime),
                passed_over=here.passed_over(runtime) if here else None,
            )
            for runtimes in wanted.values()
            for runtime in runtimes
            if isinstance(runtime, Runtime)
        ),
        refusals=tuple(
            runtime for some in wanted.values() for runtime in some if isinstance(runtime, Refusal)
        ),
        declaration=project.declaration_file if project else None,
        missing=tuple(here.missing) if here else (),
    )


def _ordered(found: Sequence[PythonRuntime | Refusal]) -> list[Runtime | Refusal]:
    return [*newest_first(found), *(runtime for runtime in found if isinstance(runtime, Refusal))]


def _by_version(found: Sequence[Runtime | Refusal]) -> list[Runtime | Refusal]:
    """The newest first, what was set aside last."""
    working = [runtime for runtime in found if isinstance(runtime, Runtime)]
    refused = [runtime for runtime in found if isinstance(runtime, Refusal)]
    return [*sorted(working, key=lambda runtime: runtime.version, reverse=True), *refused]


def _users(machine: Machine) -> Mapping[str, list[str]]:
    """The projects whose environments were made with each program, by its path."""
    found: defaultdict[str, list[str]] = defaultdict(list)
    environments = machine.environments()
    for root in environments.known():
        state = own_install_state(root, environments)
        for program in (state.executable, *state.runtimes.values()) if state else ():
            found[program].append(root.parent.name)
    return found


class _Choice:
    """The runtimes of this machine that a project gets, and why not the others."""

    def __init__(
        self,
        declaration: Declaration,
        session: Session,
        pythons: Sequence[PythonRuntime | Refusal],
    ) -> None:
        lock = _lock_of(session.project)
        self.missing: list[RabbetError] = []
        self._locked = {runtime.language: runtime for runtime in lock.runtimes} if lock else {}
        self._allowed = {runtime.language: runtime.versions for runtime in declaration.runtimes}
        self._allowed["python"] = declaration.python
        self._chosen: dict[str, Runtime] = {}
        try:
            python = chosen_runtime(declaration, pythons, lock)
        except NoRuntime as error:
            self.missing.append(error)
            return
        self._chosen = {"python": python}
        try:
            here = runtimes_here(declaration, session, python, tuple(self._locked.values()))
        except NoSolution as error:
            self.missing.append(error)
            return
        self._chosen.update(here.chosen)
        self.missing += here.missing.values()

    def gets(self, runtime: Runtime) -> bool:
        """Whether the project gets this one."""
        return self._chosen.get(runtime.language) == runtime

    def passed_over(self, runtime: Runtime) -> str | None:
        """Why the project does not get it, if it needs its language and gets another."""
        allowed, chosen = self._allowed.get(runtime.language), self._chosen.get(runtime.language)
        if chosen == runtime or (allowed is None and chosen is None):
            return None
        if allowed is not None and not allowed.contains(runtime.version):
            return f"not {specifiers_text(allowed)}"
        if chosen is None:
            return "not the locked one" if runtime.language in self._locked else "not locked yet"
        return _why_another(runtime, chosen, self._locked.get(runtime.language))


def _why_another(runtime: Runtime, chosen: Runtime, locked: LockedRuntime | None) -> str:
    if locked is not None and locked.version == chosen.version != runtime.version:
        return f"locked: {locked.version}"
    if chosen.version == runtime.version:
        return "found behind another one of that version"
    return f"{chosen.version} comes first"


def _lock_of(project: Project) -> Lock | None:
    try:
        return project.lock()
    except NoLock:
        return None


def look_up(
    project: Project | None, machine: Machine, observer: Observer, constraint: str
) -> "tuple[OfferedRuntime, ...]":
    """The catalogues' offers within a constraint such as `node>=20`, newest first.

    Raises `NotUnderstood`, `SourceFailed`.
    """
    from rabbet.workspace.runtimes.obtaining import RuntimeCatalogues

    need = parse_runtime(constraint)
    observer.stage("reading catalogues")
    offers = RuntimeCatalogues(project, machine).offers(need.name, own_target(machine))
    return tuple(offer for offer in offers if need.specifier.contains(offer.offer.version, prereleases=True))


def obtain(
    project: Project | None,
    machine: Machine,
    observer: Observer,
    constraint: str,
    *,
    from_source: bool = False,
) -> "tuple[OfferedRuntime, Path]":
    """Obtain the newest runtime that a constraint allows, and tell where its main program is.

    What a project's catalogue has as source alone is built only with `from_source`. Raises `NotUnderstood`,
    `NoRuntime`, `SourceFailed`, `IntegrityFailed`, `BuildFailed`, `CannotWrite`.
    """
    from rabbet.workspace.runtimes.obtaining import RuntimeCatalogues

    need = parse_runtime(constraint)
    observer.stage("reading catalogues")
    shelf = RuntimeCatalogues(project, machine)
    picked, archive = shelf.pick(need, own_target(machine), from_source=from_source)
    found = shelf.obtain(picked.offer, archive, observer)
    return picked, found.path(machine.store_folder)


def discard(machine: Machine, constraint: str) -> "tuple[Obtained, ...]":
    """Remove the obtained runtimes that a constraint such as `node 20.11.1` names.

    Raises `NotUnderstood`, and `NoRuntime` where there is none, or an environment uses it.
    """
    from rabbet.store.obtained import ObtainedRuntimes

    need = parse_runtime(constraint)
    store = ObtainedRuntimes(machine.store_folder)
    named = tuple(
        obtained
        for obtained in store.all()
        if obtained.language == need.name and need.specifier.contains(obtained.version, prereleases=True)
    )
    if not named:
        there = [f"{obtained.language} {obtained.version}" for obtained in store.all()]
        raise NoRuntime(
            f"no runtime {need.written_name}{need.specifier} was obtained",
            because=[f"there are: {', '.join(there)}" if there else "none was obtained at all"],
            remedy="rabbet runtimes",
        )
    users = _users(machine)
    lent = {note.environment for note in notes(machine) if note.runtime}
    for obtained in named:
        if str(obtained.path(machine.store_folder)) in lent:
            raise NoRuntime(
                f"{obtained.language} {obtained.version} is lent",
                remedy=f"rabbet lend --back --runtime {obtained.language}",
            )
        using = users.get(str(obtained.path(machine.store_folder)), [])
        if using:
            raise NoRuntime(
                f"{obtained.language} {obtained.version} is in use",
                because=[f"by the environment of {name}" for name in using],
                note="an environment that nobody needs any longer can go first",
                remedy="rabbet envs",
            )
    for obtained in named:
        store.discard(obtained)
    return named
