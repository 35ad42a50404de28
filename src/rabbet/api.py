"""Rabbet for other programs: an editor's plug-in, a service, a script. The commands use it themselves.

    from rabbet.api import Rabbet

    with Rabbet("hivescale") as project:
        project.declare("combframe>=2")
        project.resolve()
        project.recreate()
        print(project.drift().findings)

All methods raise the errors of `rabbet.errors`, each with its reasons and the commands that help. Results are
frozen values; `rabbet.documents` makes of them what the commands print with `--json`. Nothing is printed, and
nobody is asked. This module imports little, for each method imports what it needs.
"""

from collections.abc import Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Self

from rabbet.core.model.options import RecreateOptions, ResolveOptions
from rabbet.core.progress import Observer, Silent
from rabbet.core.shell import quoted
from rabbet.errors import RabbetError, WrongUsage
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project, behind, find_project
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from collections.abc import Iterator
    from types import TracebackType

    from rabbet.core.declaration.edit import Edit
    from rabbet.core.declaration.model import Declaration, Section
    from rabbet.core.model.lock import Lock
    from rabbet.python.environment.put.manifest import EnvironmentManifest
    from rabbet.tasks.declaring.declare import Done
    from rabbet.tasks.drifting.drift import Drift
    from rabbet.tasks.drifting.imports import Imports
    from rabbet.tasks.drifting.rules import RulesReport
    from rabbet.tasks.more.past import Past
    from rabbet.tasks.more.status import Status
    from rabbet.tasks.recreating.now import BroughtUp
    from rabbet.tasks.recreating.recreate import RecreateReport
    from rabbet.tasks.resolving.compare import Compared
    from rabbet.tasks.resolving.explain import Explained
    from rabbet.tasks.resolving.lookup import LookedUp
    from rabbet.tasks.resolving.resolve import LockVerdict, Resolved
    from rabbet.workspace.fetching.opening import OpenedSources
    from rabbet.workspace.looking.result_cache import CachedMatch, UpToDate
    from rabbet.workspace.runtimes.explaining import RuntimeExplained

__all__ = ["Rabbet", "RecreateOptions", "ResolveOptions"]


class Rabbet:
    """A project, or a variant of it, on this machine; to be closed, or used in a `with` statement.

    Its files are read at each question, so that no answer is older than they are. One object is for one
    thread; several of them, and commands beside them, may work on the same project.
    """

    def __init__(
        self,
        place: Path | str = ".",
        *,
        variant: str | None = None,
        offline: bool = False,
        fresh_listings: bool = False,
        attended: bool = True,
        observer: Observer | None = None,
    ) -> None:
        """Find the project of a folder, whose declaration lies there or above it, of a name, or of a script.

        A script's metadata is read at each question, and written back by what changes it; `resolve` leaves a
        lock beside it. `offline` asks no network; `fresh_listings` asks indexes for listings that are said to
        be fresh, too.
        The project's own build runs the project's code: where a program is `attended`, it is refused until
        `agree_to_build` was called once on this machine. The `observer` is told how the work goes.
        Raises `NoDeclaration`, `NotUnderstood`, and `WrongUsage` where there is no such place.
        """
        folder = Path(place)
        machine = Machine.of_this_process(
            folder if folder.is_dir() else Path(),
            offline=offline,
            fresh_listings=fresh_listings,
            attended=attended,
        )
        self._script: str | None = None
        project = find_project(machine.folder) if folder.is_dir() else self._placed(place, variant, machine)
        self._session = Session(project.of(variant), machine, observer or Silent())

    def _placed(self, place: Path | str, variant: str | None, machine: Machine) -> Project:
        from rabbet.workspace.places import place_in

        found = place_in(str(place), machine)
        found.refuse_variant(variant)
        self._script = str(found.project.script.file) if found.project.script else None
        return found.project

    @classmethod
    def on(cls, session: Session) -> Self:
        """The same for a session that is there already."""
        found = cls.__new__(cls)
        found._session, found._script = session, None  # noqa: SLF001 - its own
        return found

    @property
    def session(self) -> Session:
        """The project, this machine and the observer, for the tasks. Raises `NotUnderstood` for a script."""
        if self._script is not None:
            from rabbet.workspace.places import script_place

            script_place(self._script, self._session.machine)
        return self._session

    @contextmanager
    def _writing(self, *, locking: bool = False) -> "Iterator[Session]":
        """The session for what changes the declaration or locks: a script gets that in the end."""
        if self._script is None:
            yield self._session
            return
        from rabbet.disk.process_lock import claimed
        from rabbet.workspace.places import script_place

        machine = self._session.machine
        with claimed(machine.store_folder, f"script {self._script}"):
            place = script_place(self._script, machine)
            yield self._session
            place.write_back(locking=locking)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: "type[BaseException] | None",
        error: BaseException | None,
        traceback: "TracebackType | None",
    ) -> None:
        self.close()

    def close(self) -> None:
        """Write what is to be remembered, and end all connections; what needs them later gets new ones."""
        self.session.machine.close()

    @property
    def folder(self) -> Path:
        """The project's folder."""
        return self.session.project.folder

    @property
    def environment(self) -> Path:
        """The environment's folder, whether there is one or not."""
        return self.session.project.environment

    def declaration(self) -> "Declaration":
        """The project's declaration. Raises `NotUnderstood`, and `WrongUsage` for an unknown variant."""
        return self.session.declaration()

    def declare(self, *requirements: str, section: "Section | None" = None) -> "Done":
        """Add or change libraries, such as `combframe>=2`, for the project or a section of it.

        Raises `WrongUsage`, `NotUnderstood`, `CannotWrite`; the declaration is then as it was.
        """
        from rabbet.core.declaration.edit import Edit

        return self.edit(
            [
                Edit(verb="declare", what="library", value=requirement, section=section)
                for requirement in requirements
            ]
        )

    def retract(self, *names: str, section: "Section | None" = None) -> "Done":
        """Take libraries out of the project or a section of it. Raises as `declare`."""
        from rabbet.core.declaration.edit import Edit

        return self.edit(
            [Edit(verb="retract", what="library", value=name, section=section) for name in names]
        )

    def edit(self, edits: "Sequence[Edit]", *, now: bool = False) -> "Done":
        """Change anything that is declared; `now` resolves and recreates too, or puts all back.

        Raises as `declare`, and `now` as `resolve` and `recreate`.
        """
        from rabbet.tasks.declaring.declare import carried_out

        with self._writing() as session:
            return carried_out(session, edits, now=now)

    def planned(self, edits: "Sequence[Edit]") -> "Done":
        """The locks that the declaration would get if it were changed so; nothing is written.

        Raises as `declare` and `resolve`.
        """
        from rabbet.tasks.declaring.declare import planned

        return planned(self.session, edits)

    def bring_up_to_date(self, options: ResolveOptions | None = None) -> "BroughtUp":
        """Resolve, then recreate; if one fails, locks and environment are as before. Raises as these."""
        from rabbet.tasks.recreating.now import bring_up_to_date

        with self._writing() as session:
            return bring_up_to_date(session, options)

    def lock(self) -> "Lock":
        """The project's lock. Raises `NoLock`, `NotUnderstood`."""
        return self.session.lock()

    def up_to_date(self) -> "tuple[UpToDate, ...]":
        """The locks, if an earlier run found all of them up to date for these very files and interpreters.

        Empty where that has to be worked out.
        """
        from rabbet.workspace.looking.result_cache import recall_unchanged

        return recall_unchanged(self.session)

    def behind(self) -> str | None:
        """Why the lock is not what the declaration asks for, as far as the two texts tell.

        Raises `NoLock`, `NotUnderstood`.
        """
        return behind(self.session.project)

    def resolve(self, options: ResolveOptions | None = None, *, write: bool = True) -> "tuple[Resolved, ...]":
        """Settle every version, and `write` the locks: the declaration's own first, then its variants'.

        Of a variant it is that one's alone. A lock that is up to date stays as it is, byte for byte.
        Raises `NoSolution`, `SourceFailed`, `NoRuntime`, `NotUnderstood`, `BuildFailed`, `CannotWrite`.
        """
        asked = options or ResolveOptions()
        opened = self._asked_ahead(anyway=not asked.plain or self.session.machine.fresh_listings)
        from rabbet.tasks.resolving.resolve import resolve

        with self._writing(locking=write) as session:
            return resolve(session, asked, writing=write, opened=opened)

    def write(self, resolved: "Sequence[Resolved]") -> None:
        """Write locks that were resolved and not written. Raises `IntegrityFailed`, `CannotWrite`."""
        from rabbet.tasks.resolving.resolve import write_locks

        with self._writing(locking=True) as session:
            write_locks(session, resolved)

    def verify(self) -> "tuple[LockVerdict, ...]":
        """Whether each lock is what resolving would leave as it is. Raises as `resolve`, and `NoLock`."""
        opened = self._asked_ahead(anyway=True)
        from rabbet.tasks.resolving.resolve import verify

        return verify(self.session, opened)

    def _asked_ahead(self, *, anyway: bool) -> "OpenedSources | None":
        """Send the first questions before what reads the answers is loaded; what is wrong is told later."""
        from rabbet.workspace.fetching.opening import asked_ahead

        with suppress(RabbetError):
            return asked_ahead(self.session, anyway=anyway)
        return None

    def explain(self, name: str) -> "Explained | RuntimeExplained":
        """Why a library, or the runtime of a language, is in the lock, and what holds it back.

        Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `WrongUsage` for one that is not locked.
        """
        from rabbet.core.needs.names import library_name

        wanted = library_name(name)
        if wanted not in self.lock().versions:
            from rabbet.workspace.runtimes.explaining import explained_runtime

            runtime = explained_runtime(self.session, wanted)
            if runtime is not None:
                return runtime
        from rabbet.tasks.resolving.explain import explain

        return explain(self.session, wanted)

    def explain_all(self, *, holders: bool = False) -> "Explained":
        """The whole lock as a graph; with `holders`, what holds each library back. Raises as `explain`."""
        from rabbet.tasks.resolving.explain import explain_all

        return explain_all(self.session, holders=holders)

    def lookup(self, library: str) -> "LookedUp":
        """The releases of a library, or those of some versions, such as `combframe>=2`.

        Raises `NotUnderstood`, `SourceFailed`, `NoSolution` for one that no source knows.
        """
        from rabbet.formats.text.requirement import parse_requirement
        from rabbet.tasks.resolving.lookup import lookup

        return lookup(self.session, parse_requirement(library))

    def compare(self, old: str, new: str | None = None) -> "Compared":
        """Compare two states; without `new`, `old` is compared with the present lock.

        Each is written as the command `compare` takes it. Raises `NotUnderstood`, `WrongUsage`.
        """
        from rabbet.tasks.resolving.compare import compare

        return compare(self.session, old, new)

    def past(self, library: str | None = None) -> "Past":
        """Each revision of the lock in git with its changes, newest first; with `library`, of that one only.

        Raises `NoLock` where git has none, `WrongUsage` for a library that none of them holds.
        """
        from rabbet.core.needs.names import library_name
        from rabbet.tasks.more.past import past

        return past(self.session, None if library is None else library_name(library))

    def known_fit(self) -> "CachedMatch | EnvironmentManifest | None":
        """That the environment matches the lock, if an earlier run found it so for these very files.

        One that is gone is made again from what was noted when it was made. `None` where it has to be worked
        out. Raises `CannotWrite`.
        """
        from rabbet.workspace.looking.result_cache import recall_fit

        known = recall_fit(self.session)
        if known is not None or self.session.project.environment.exists():
            return known
        from rabbet.workspace.looking.restore import restored

        return restored(self.session)

    def plan(self, options: RecreateOptions | None = None) -> "RecreateReport":
        """Plan a recreation without changing anything. Raises as `recreate`."""
        from rabbet.tasks.recreating.recreate import prepare

        return prepare(self.session, options or RecreateOptions())

    def recreate(self, options: RecreateOptions | None = None) -> "RecreateReport":
        """Make the environment match the lock; one that can't be completed stays as it was.

        Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed`, `SourceFailed`, `BuildFailed`,
        `IntegrityFailed`, `CannotWrite`.
        """
        from rabbet.tasks.recreating.recreate import recreate

        return recreate(self.session, options or RecreateOptions())

    def agree_to_build(self) -> None:
        """Let the project's own build run on this machine, which means code of the project."""
        from rabbet.workspace.agreement import agree_to_build

        agree_to_build(self.session)

    def variables(self) -> dict[str, str]:
        """The variables for a program that is to run in the environment. Raises `EnvironmentFailed`."""
        from rabbet.tasks.recreating.run import inside

        return inside(self.session)

    def known_drift(self, *, notes: bool = True) -> int | None:
        """How many libraries were compared, if an earlier run found no drift for these very files.

        Mere `notes` count as drift or not. `None` where it has to be worked out.
        """
        from rabbet.workspace.looking.result_cache import recall_no_findings
        from rabbet.workspace.looking.shadows import any_shadow

        compared = recall_no_findings(self.session, notes=notes)
        if compared is None or any_shadow(self.session):
            return None
        if notes:
            from rabbet.exports.kernel import kernels_folder, lost_kernels
            from rabbet.exports.marked import stale_files

            project, machine = self.session.project, self.session.machine
            kernels = kernels_folder(machine.environ, machine.home)
            noted = stale_files(project.folder, project.lock_stamp()) or lost_kernels(kernels, project.folder)
            return None if noted else compared
        return compared

    def drift(self, *, place: str | None = None, against: str | None = None, deep: bool = False) -> "Drift":
        """Compare what is installed, in the environment or at another `place`, with the lock.

        The environment may be held `against` another state, such as `git:REV`, in place of the lock. A `deep`
        look holds every file against the hashes of the lock. Nothing of what is installed is run.
        Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed`, `WrongUsage` for both at once; a
        deep look `SourceFailed` too.
        """
        from rabbet.tasks.drifting.drift import drift, drift_against, drift_elsewhere

        if place is not None and against is not None:
            raise WrongUsage(
                "--env and --against are one question: `compare` takes two states",
                remedy=f"rabbet compare {quoted(against)} {quoted(f'env:{place}')}",
            )
        if against is not None:
            return drift_against(self.session, against, deep=deep)
        if place is None:
            return drift(self.session, deep=deep)
        return drift_elsewhere(self.session, place, deep=deep)

    def rules(self) -> "RulesReport":
        """The rules that count, and all that is locked or installed and breaks one.

        Raises `NotUnderstood`, and `SourceFailed` where shared rules or records can't be had.
        """
        from rabbet.tasks.drifting.rules import rules

        return rules(self.session)

    def imports(self) -> "Imports":
        """Compare the code's imports with the declaration. Raises `NoLock`, `NotUnderstood`."""
        from rabbet.tasks.drifting.imports import imports

        return imports(self.session)

    def status(self) -> "Status":
        """Where the project stands, by its files and the store alone. Raises `NotUnderstood`."""
        from rabbet.tasks.more.status import status

        return status(self.session)
