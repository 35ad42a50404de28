"""Making the environment match the lock."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from msgspec import Struct, field
from packaging.specifiers import SpecifierSet

from rabbet.core.drift.plan import plan_changes, plan_whole, reason_to_rebuild
from rabbet.core.model.lock import Needed, Selection, ToInstall, Unbuilt
from rabbet.core.model.options import RecreateOptions
from rabbet.core.model.plan import Action, Plan
from rabbet.core.model.runtime import LinkedRuntime, PythonRuntime
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.errors import (
    EnvironmentFailed,
    ExitCode,
    IntegrityFailed,
    NoRuntime,
    NotObtained,
    RabbetError,
    Way,
)
from rabbet.formats.pylock import edited_by_hand
from rabbet.python.compose.changes import EnvironmentSpec, change_in_place, finish, make_whole
from rabbet.python.environment.place.install_state import own_install_state
from rabbet.python.environment.place.staging import clear_up
from rabbet.python.store.checks import hold_against_wheel
from rabbet.store.environments import Environments
from rabbet.workspace.fetching.composing import arriving, install_policy_of
from rabbet.workspace.looking.comparison import LockedState, compared, question
from rabbet.workspace.looking.restore import remember_manifest
from rabbet.workspace.looking.result_cache import CachedMatch, Inputs, inputs_of, remember_fit
from rabbet.workspace.project import Project, not_made_here
from rabbet.workspace.runtimes.choice import runtimes_here
from rabbet.workspace.runtimes.pythons import chosen_runtime, own_target, pythons_of
from rabbet.workspace.session import Session
from rabbet.workspace.states.visits import note_visit

__all__ = ["RecreateReport", "fits", "prepare", "recreate"]


# Failures that an entry of the lock may have brought about.
_OF_THE_LOCK = (ExitCode.SOURCE, ExitCode.INTEGRITY)


class RecreateReport(Struct, frozen=True, kw_only=True):
    """The report of a recreation; `outdated` when the declaration changed since the lock.

    `environment` is its folder's name; `selection` the groups and extras that were chosen, `None` for all.
    `state` is the one that its files were in before they were looked at, empty where they were not.
    `own_lock` tells whether Rabbet made the lock: those of other tools need not note what depends on what.
    `others` are runtimes of other languages, of which some may be `missing` on this machine. The `project`
    itself may be left out; where it is not installed, its modules are found `beside` the environment. It and
    checkouts may be installed as wheels, and not in `editable` form. `lock_stamp` is the lock's.
    """

    environment: str
    plan: Plan
    runtime: PythonRuntime
    selection: Selection | None
    state: str
    outdated: bool
    own_lock: bool
    variant: str | None
    others: tuple[LinkedRuntime, ...] = ()
    missing: Mapping[str, NoRuntime] = field(default_factory=dict)
    project: bool = True
    editable: bool = True
    beside: bool = False
    lock_stamp: str = ""

    @property
    def runtimes(self) -> str:
        """All that the environment runs with, such as `Python 3.12.1, node 20.11.1`."""
        return ", ".join([str(self.runtime), *(str(other.runtime) for other in self.others)])

    @property
    def fit(self) -> CachedMatch:
        """In short what was found of an environment that matches the lock."""
        return CachedMatch(self.environment + _chosen(self), len(self.plan.steps), self.runtimes)

    @property
    def lasting_fit(self) -> CachedMatch | None:
        """The same, if it is all that recreating would come to again."""
        return self.fit if self.project and self.editable and not self.outdated else None


def _chosen(report: RecreateReport) -> str:
    """Which groups and extras an environment holds, if not all, and what else was chosen."""
    parts, selection = [], report.selection
    if selection is not None:
        parts = [f"extra {name}" for name in sorted(selection.extras)]
        parts += [f"group {name}" for name in sorted(selection.groups)]
        parts = parts or ["no groups, no extras"]
    if not report.project:
        parts.append("without the project")
    if not report.editable:
        parts.append("nothing editable")
    return f" ({', '.join(parts)})" if parts else ""


def prepare(session: Session, options: RecreateOptions, *, sound: bool = False) -> RecreateReport:
    """Compare the environment with the lock; nothing is changed. `sound`: its files need not be read.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed`, `WrongUsage`.
    """
    session.observer.stage("comparing the environment with the lock")
    asked = question(session, options)
    rebuild, found = _absent(session, asked), None
    if not rebuild:
        try:
            found = compared(asked, session, deep=options.verify, sound=sound)
            findings = found.findings()
            rebuild = reason_to_rebuild(findings) or ("asked for" if options.fresh else "")
        except EnvironmentFailed as error:
            rebuild = str(error)
    lock = asked.lock
    if rebuild or found is None:
        plan = plan_whole(asked.needed, rebuild)
    else:
        plan = plan_changes(asked.needed, found.inventory, findings, not_chosen=lock.versions.keys())
    return RecreateReport(
        environment=session.project.environment.name,
        plan=plan,
        runtime=asked.runtime,
        selection=None if asked.selection == lock.everything else asked.selection,
        state=found.state if found else "",
        own_lock=lock.fingerprint is not None,
        variant=session.project.variant,
        outdated=asked.outdated,
        others=asked.linked,
        missing=asked.others.missing,
        project=asked.project,
        editable=asked.editable,
        beside=asked.beside,
        lock_stamp=asked.lock_stamp,
    )


def fits(session: Session) -> bool:
    """Whether there is an environment, and it is as the lock has it. Raises as `prepare` for all else."""
    try:
        return prepare(session.silent(), RecreateOptions()).plan.idle
    except EnvironmentFailed:
        return False


def recreate(session: Session, options: RecreateOptions) -> RecreateReport:
    """Make the environment match the lock; what fits already is left alone.

    First everything is fetched and verified; until then the environment is as it was. A new environment is
    made beside the old one and takes its place when it is complete. One that is changed in place holds a
    journal meanwhile. A run that is killed leaves what the next one finishes or undoes.

    Raises what `prepare` raises, and `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    with _edits_named(session.project):
        return _recreated(session, options)


@contextmanager
def _edits_named(project: Project) -> Iterator[None]:
    """Name entries that were edited by hand in errors about them."""
    try:
        yield
    except RabbetError as error:
        edited = edited_by_hand(project.lock()) if error.exit_code in _OF_THE_LOCK else ()
        if edited:
            error.because = (*error.because, f"the lock was edited by hand: {', '.join(edited)}")
            error.note, error.ways = "resolving writes it whole again", (Way("rabbet resolve"),)
        raise


def _recreated(session: Session, options: RecreateOptions) -> RecreateReport:
    home, environments = session.project.environment, session.machine.environments()
    inputs = inputs_of(session)
    with session.machine.store.claimed(str(home)):
        clear_up(home, environments)
        if options.obtain:
            _obtain_missing(session)
        try:
            report = after = prepare(session, options)
        except NoRuntime as error:
            raise _with_way(error, "python", session.declaration().python, session) from error
        if report.missing:
            language, missing = next(iter(report.missing.items()))
            versions = {runtime.language: runtime.versions for runtime in session.declaration().runtimes}
            raise _with_way(missing, language, versions.get(language, SpecifierSet()), session)
        if not report.plan.idle or not _remembered(home, environments, report):
            for step in report.plan.of(Action.ADD, Action.REPLACE) if options.verify else ():
                if isinstance(step.needed, Needed):
                    hold_against_wheel(session.machine.store.entries, step.needed.artifact)
            _apply(session, report, inputs, compile_later=options.compile_later)
            after = _at_rest(session, inputs)
        else:
            finish(_spec(session, report))
        remember_fit(session, inputs, after.state, after.lasting_fit)
        environments.note(home)  # it may have been moved here
        environments.note_use(home)
        environments.note_runtimes(_runtime_folders(session, report))
        note_visit(session)
    return report


def _runtime_folders(session: Session, report: RecreateReport) -> list[Path]:
    """Where the environment's runtimes lie; those that were obtained have their own registry in the store."""
    used = (report.runtime, *(linked.runtime for linked in report.others))
    folders = {Path(runtime.executable).parent for runtime in used}
    return [folder for folder in folders if not folder.is_relative_to(session.machine.store_folder)]


def _with_way(error: NoRuntime, language: str, versions: SpecifierSet, session: Session) -> NoRuntime:
    """The failure where a runtime is missing, with the command that obtains one, if a catalogue offers it."""
    if isinstance(error, NotObtained):
        return error  # the lock says where
    from rabbet.workspace.runtimes.obtaining import with_way_to_obtain

    need = Need(library_name(language), versions)
    return with_way_to_obtain(error, need, session.project, session.machine)


def _obtain_missing(session: Session) -> None:
    """Obtain the missing locked runtimes whose archives the lock names.

    Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    from rabbet.workspace.runtimes.obtaining import RuntimeCatalogues

    declaration, lock = session.declaration(), session.lock()
    if not any(runtime.archives for runtime in lock.runtimes):
        return
    shelf, target = RuntimeCatalogues(session.project, session.machine), own_target(session.machine)
    try:
        python = chosen_runtime(declaration, pythons_of(session), lock)
    except NoRuntime:
        if lock.python is None or not lock.python.archives:
            raise
        shelf.obtain_locked(lock.python, target, session.observer)
        python = chosen_runtime(declaration, pythons_of(session), lock)
    missing = runtimes_here(declaration, session, python, lock.runtimes).missing
    for runtime in lock.runtimes:
        if runtime.language in missing and runtime.archives:
            shelf.obtain_locked(runtime, target, session.observer)


def _at_rest(session: Session, inputs: Inputs) -> RecreateReport:
    """Compare the finished environment with the lock once more; the run fails if they differ.

    Its files are not read again, for they were verified before they were put there. Raises `IntegrityFailed`,
    and `EnvironmentFailed` where the lock is not the one that the run began with.
    """
    after = prepare(session.silent(), RecreateOptions(), sound=True)
    if not after.plan.idle and inputs_of(session).locks != inputs.locks:
        raise EnvironmentFailed(
            f"{session.project.lock_file.name} was changed while {after.environment} was made from it",
            remedy="rabbet recreate",
        )
    if not after.plan.idle:
        steps = (step for step in after.plan.steps if step.action is not Action.KEEP)
        because = [f"{step.name}: {step.action}" for step in steps]
        raise IntegrityFailed(
            f"{after.environment} can't be made to match the lock",
            because=[after.plan.rebuild] if after.plan.rebuild else because,
            remedy="rabbet drift",
        )
    return after


def _spec(session: Session, report: RecreateReport) -> EnvironmentSpec:
    return EnvironmentSpec(
        root=session.project.environment,
        runtime=report.runtime,
        environments=session.machine.environments(),
        share_files=session.machine.shares_files(),
        selection=report.selection,
        others=report.others,
        project=report.project,
        editable=report.editable,
        beside=report.beside,
        lock_stamp=report.lock_stamp,
    )


def _apply(session: Session, report: RecreateReport, inputs: Inputs, *, compile_later: bool) -> None:
    plan, spec = report.plan, _spec(session, report)
    wanted = [step.needed for step in plan.of(Action.ADD, Action.REPLACE) if step.needed]
    policy = install_policy_of(session.project, own_lock=report.own_lock)
    with arriving(session, wanted, spec, policy, compile_later=compile_later) as (needed, ready):
        if plan.rebuild:
            placed = make_whole(spec, ready)
            chosen = report.selection is not None or not (report.project and report.editable)
            if not (chosen or compile_later or report.outdated or _editable(wanted)):
                versions = sorted((library.locked.name, str(library.locked.version)) for library in needed)
                artifacts = [library.artifact for library in needed]
                trees = session.machine.store.trees(artifacts, report.runtime)
                remember_manifest(session, inputs, placed, trees, versions, report.runtimes)
        else:
            change_in_place(spec, plan, ready, session.observer)


def _editable(wanted: Sequence[ToInstall]) -> bool:
    """Whether one of them refers to its sources, so that such an environment is good in one place only."""
    return any(isinstance(library, Unbuilt) and library.kind == "editable" for library in wanted)


def _remembered(home: Path, environments: Environments, report: RecreateReport) -> bool:
    """Whether the environment's install state notes the present choice and lock already."""
    install_state, chosen = own_install_state(home, environments), report.selection
    noted = (report.project, report.editable, report.lock_stamp)
    if install_state is not None and noted != (
        install_state.project,
        install_state.editable,
        install_state.lock,
    ):
        return False
    if install_state is None or chosen is None:
        return install_state is not None and install_state.groups is None and install_state.extras is None
    return install_state.groups == sorted(chosen.groups) and install_state.extras == sorted(chosen.extras)


def _absent(session: Session, asked: LockedState) -> str | None:
    """Why a new environment is needed; `None` if one exists that was made on this machine.

    Raises `EnvironmentFailed` for anything else in its place.
    """
    root = session.project.environment
    if not root.exists() and not root.is_symlink():
        return "there is none yet"
    if not session.machine.environments().owns(root):
        raise not_made_here(session.project)
    return "what Rabbet noted of it can't be read" if asked.install_state is None else None
