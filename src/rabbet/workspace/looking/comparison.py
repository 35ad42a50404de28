"""Compare an environment with the lock, for `drift`, `recreate` and `run` alike."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path

import msgspec
from msgspec import Struct
from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.declaration.corrections import corrected
from rabbet.core.declaration.model import Declaration
from rabbet.core.drift.checks.project import Surroundings
from rabbet.core.drift.compare import compare
from rabbet.core.drift.expected import Expectation, OtherRuntime, VersionOnly
from rabbet.core.model.finding import Finding
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import Lock, Selection, ToInstall, Unbuilt
from rabbet.core.model.options import RecreateOptions
from rabbet.core.model.runtime import LinkedRuntime, PythonRuntime, Refusal
from rabbet.core.needs.names import library_name
from rabbet.core.progress import reading_files
from rabbet.core.shell import quoted
from rabbet.errors import EnvironmentFailed, NoRuntime, NotObtained
from rabbet.python.builds.identity import identified
from rabbet.python.checks import PYTHON_CHECKS, bound_to_minor
from rabbet.python.choosing.select import as_wheel, needed, own_project
from rabbet.python.choosing.targets import target_of
from rabbet.python.environment.look.foreign import foreign_inventory
from rabbet.python.environment.look.inspect import take_inventory
from rabbet.python.environment.look.known_files import KnownFiles, recall_files, remember_files
from rabbet.python.environment.place.install_state import InstallState, own_install_state
from rabbet.python.environment.put.create import own_parts
from rabbet.runtimes.linking import linked_runtime
from rabbet.workspace.looking.result_cache import environment_state, recall_sound
from rabbet.workspace.runtimes.choice import RuntimesHere, runtimes_here, to_be_obtained
from rabbet.workspace.runtimes.pythons import chosen_runtime, interpreter_trouble, pythons_of
from rabbet.workspace.selection import selected
from rabbet.workspace.session import Session
from rabbet.workspace.states.states import ComparedState

__all__ = [
    "Comparison",
    "LockedState",
    "compared",
    "compared_elsewhere",
    "compared_with_state",
    "corrected_libraries",
    "question",
]


class LockedState(Struct, frozen=True, kw_only=True):
    """The state that an environment is compared with: the lock's on this machine, for the chosen sections.

    `found` are this machine's interpreters, and `install_state` what Rabbet noted of an environment that
    it made here. The `project` itself may be left out, or not be `editable`, as checkouts may.
    """

    declaration: Declaration
    lock: Lock
    found: Sequence[PythonRuntime | Refusal]
    runtime: PythonRuntime
    others: RuntimesHere
    install_state: InstallState | None
    selection: Selection
    needed: tuple[ToInstall, ...]
    project: bool
    editable: bool
    lock_stamp: str

    @property
    def linked(self) -> tuple[LinkedRuntime, ...]:
        """Runtimes of other languages that the environment links, sorted by language."""
        return tuple(
            linked_runtime(runtime, self.others.languages[language])
            for language, runtime in sorted(self.others.chosen.items())
        )

    @property
    def beside(self) -> bool:
        """Whether the project's modules are used where they lie, without it being installed."""
        return self.project and self.declaration.build_system is None

    @property
    def outdated(self) -> bool:
        """Whether the declaration changed since the lock was made."""
        return self.lock.fingerprint != self.declaration.fingerprint()


class Comparison(Struct, frozen=True, kw_only=True):
    """The expectation and the inventory; `state` is that of the files before the look."""

    expected: Expectation
    inventory: Inventory
    state: str

    def findings(self, around: Surroundings | None = None) -> tuple[Finding, ...]:
        """Every difference, with those that are seen `around` the environment where that is given."""
        return compare(self.expected, self.inventory, around, of_language=PYTHON_CHECKS)


def question(session: Session, options: RecreateOptions, state: ComparedState | None = None) -> LockedState:
    """Read what is declared, locked and noted; the lock of another `state` may stand in for today's.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `NoSolution`, `EnvironmentFailed`, `WrongUsage`.
    """
    declaration = (state.declaration if state else None) or session.declaration()
    lock = state.lock if state else session.lock()
    found = pythons_of(session)
    try:
        runtime = chosen_runtime(declaration, found, lock)
    except NoRuntime as error:
        if lock.python and lock.python.archives:
            raise to_be_obtained(error) from error
        raise
    install_state = own_install_state(session.project.environment, session.machine.environments())
    selection = selected(lock, install_state, options, declaration)
    noted = install_state.project if install_state else True
    included = noted if options.project is None else options.project
    form = install_state.editable if install_state else True
    editable = form if options.editable is None else options.editable
    wanted = needed(lock, target_of(runtime), selection, declaration)
    own = own_project(lock, target_of(runtime), declaration) if included else None
    return LockedState(
        declaration=declaration,
        lock=lock,
        found=found,
        runtime=runtime,
        others=runtimes_here(declaration, session, runtime, lock.runtimes),
        install_state=install_state,
        selection=selection,
        needed=tuple(
            identified(library if editable else as_wheel(library), runtime, session.project.folder)
            for library in _with_own(wanted, own)
        ),
        project=included,
        editable=editable,
        lock_stamp="" if state else session.project.lock_stamp(),
    )


def _with_own(wanted: Iterable[ToInstall], own: Unbuilt | None) -> Iterator[ToInstall]:
    """The wanted libraries and the project itself, which replaces a release of its own name."""
    if own is not None:
        yield own
    yield from (library for library in wanted if own is None or library.locked.name != own.locked.name)


def compared(asked: LockedState, session: Session, *, deep: bool = False, sound: bool = False) -> Comparison:
    """Inspect the environment and compare it; nothing of it is run.

    A `deep` look takes the lock's hashes alone. Of one that is `sound` no file is read. Raises
    `EnvironmentFailed` where there is no environment; a deep look what fetching raises too.
    """
    root = session.project.environment
    state = environment_state(root, session.machine)
    if deep:
        # Here: it imports what fetches and builds.
        from rabbet.workspace.looking.deep_look import deep_inventory

        found = deep_inventory(session, _as_made_now(asked), asked.needed, asked.runtime)
    else:
        sound = sound or recall_sound(state, session.machine)
        memory = session.machine.memory("unchanged")
        known = KnownFiles() if sound else recall_files(root, memory)
        reading = reading_files(session.observer)
        found = take_inventory(root, asked.install_state, sound=sound, begin=reading, known=known)
        if not found.is_sound:
            remember_files(root, memory, known)
    inventory = replace(
        found,
        libraries=corrected_libraries(found.libraries, asked.declaration),
        trouble=interpreter_trouble(root, asked.found),
    )
    return Comparison(expected=_expected(asked), inventory=inventory, state=state)


def compared_elsewhere(asked: LockedState, place: Path, session: Session, *, deep: bool) -> Comparison:
    """Compare what somebody else installed in some place: nobody noted from which files that was made.

    The project itself need not be there. A `deep` look holds files against the wheels that the lock names.
    Raises `EnvironmentFailed` where no libraries are; a deep look what fetching raises too.
    """
    wanted = tuple(library for library in asked.needed if not (isinstance(library, Unbuilt) and library.own))
    asked = replace(asked, install_state=None, needed=wanted)
    vouch = None
    if deep:
        from rabbet.workspace.looking.deep_look import vouched_elsewhere

        vouch = partial(vouched_elsewhere, wanted=wanted, session=session)
    found = foreign_inventory(place, asked.runtime.version, reading_files(session.observer), vouch)
    known = own_install_state(place, session.machine.environments())
    own = tuple(f"/{part}" for part in (known.own if known else ()))
    inventory = replace(
        found,
        libraries=corrected_libraries(found.libraries, asked.declaration),
        strays=tuple(stray for stray in found.strays if not any(part.endswith(f"/{stray}") for part in own)),
    )
    return Comparison(expected=_expected(asked), inventory=inventory, state="")


def compared_with_state(session: Session, state: ComparedState, *, deep: bool = False) -> Comparison:
    """Compare the project's environment with another state than its lock: an older one, or what is installed.

    Of what is installed somewhere the versions count, and not the project itself. From which lock the
    environment was made tells nothing then. A `deep` look takes the hashes of a lock. Raises
    `EnvironmentFailed` where there is no environment, or the lock does not serve this machine, `NoRuntime`;
    a deep look what fetching raises too.
    """
    if not state.installed:
        found = compared(_question_of_lock(session, state), session, deep=deep)
        return replace(found, inventory=replace(found.inventory, lock_stamp="", selection=None))
    declaration, interpreters = session.declaration(), pythons_of(session)
    install_state = own_install_state(session.project.environment, session.machine.environments())
    asked = LockedState(
        declaration=declaration,
        lock=state.lock,
        found=interpreters,
        runtime=chosen_runtime(declaration, interpreters, state.lock),
        others=RuntimesHere(),
        install_state=install_state,
        selection=Selection(),
        needed=(),
        project=True,
        editable=True,
        lock_stamp="",
    )
    found = compared(asked, session)
    own = library_name(declaration.name)
    there = {name: library for name, library in found.inventory.libraries.items() if name != own}
    known = tuple(VersionOnly(library) for library in state.lock.libraries if library.name != own)
    return replace(
        found,
        expected=replace(found.expected, needed=known, chosen=None, is_installed=True),
        inventory=replace(found.inventory, libraries=there, runtimes={}, lock_stamp="", selection=None),
    )


def _question_of_lock(session: Session, state: ComparedState) -> LockedState:
    """The question by another lock than today's; where it does not serve here, nothing mends that."""
    try:
        return question(session, RecreateOptions(), state)
    except NoRuntime:
        raise
    except EnvironmentFailed as error:
        command = f"rabbet compare {quoted(state.name)} installed"
        raise EnvironmentFailed(f"{state.name}: {error}", because=error.because, remedy=command) from error


def _as_made_now(asked: LockedState) -> InstallState | None:
    """The install state with the environment's own parts as they would be made now, whatever it says."""
    if asked.install_state is None:
        return None
    return msgspec.structs.replace(
        asked.install_state, own=dict(own_parts(asked.runtime, asked.linked, beside=asked.beside))
    )


def _expected(asked: LockedState) -> Expectation:
    """The expectation for the chosen sections."""
    target = target_of(asked.runtime)
    expected = Expectation.of(
        asked.declaration, asked.lock, target, asked.selection, asked.needed, stamp=asked.lock_stamp
    )
    return replace(
        expected,
        chosen=(asked.runtime.version, asked.runtime.executable),
        bound_to_minor=bound_to_minor(asked.needed),
        origins_known=asked.install_state is not None,
        others=_others(asked),
    )


def _others(asked: LockedState) -> tuple[OtherRuntime, ...]:
    """The runtimes of other languages, with what was locked and what this machine has."""
    locked = {runtime.language: runtime.version for runtime in asked.lock.runtimes}
    return tuple(
        OtherRuntime(
            language=language,
            locked=locked.get(language),
            chosen=asked.others.chosen.get(language),
            obtainable=isinstance(asked.others.missing.get(language), NotObtained),
        )
        for language in sorted({*asked.others.chosen, *asked.others.missing})
    )


def corrected_libraries(
    libraries: Mapping[NormalizedName, Installed], declaration: Declaration
) -> dict[NormalizedName, Installed]:
    """Libraries whose metadata is as the declaration corrects it; what still can't be read is no metadata."""
    found = {}
    for name, library in libraries.items():
        metadata = corrected(library.metadata, declaration) if library.metadata else None
        found[name] = replace(library, metadata=None if metadata and metadata.unread else metadata)
    return found
