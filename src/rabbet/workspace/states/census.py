"""An inventory for others, and those that others sent, against the project's lock."""

import time
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path

from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.census.expected import unexpected
from rabbet.core.census.machine_inventory import LEFT_OUT, MachineInventory, is_left_out, left_out
from rabbet.core.census.matrix import MachineState
from rabbet.core.declaration.model import Declaration
from rabbet.core.drift.checks.project import rule_findings
from rabbet.core.drift.checks.runtimes import runtime_findings
from rabbet.core.drift.compare import compare
from rabbet.core.drift.expected import Expectation
from rabbet.core.drift.since import LockRevision, nearest_revision
from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.core.model.cause import LeftOut
from rabbet.core.model.finding import About, Finding, Kind, Subject, Weight
from rabbet.core.model.inventory import Installed
from rabbet.core.model.lock import Lock, Selection
from rabbet.core.model.options import RecreateOptions
from rabbet.core.model.target import Target
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.progress import reading_files
from rabbet.core.rules.breach import Breach
from rabbet.core.rules.judge import ReleaseFacts
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import read_regular
from rabbet.errors import NotUnderstood, RabbetError
from rabbet.python.checks import PYTHON_CHECKS, bound_to_minor
from rabbet.python.choosing.select import needed
from rabbet.python.choosing.targets import PLATFORMS, named_target, target_of
from rabbet.python.environment.look.foreign import foreign_inventory, library_folders
from rabbet.python.formats.record import read_record
from rabbet.workspace.looking.comparison import compared, corrected_libraries, question
from rabbet.workspace.project import Project
from rabbet.workspace.rules.judging import CountedRules
from rabbet.workspace.session import Session
from rabbet.workspace.states.lock_history import lock_history

__all__ = ["CensusComparison", "file_digests", "inventory_here"]


def inventory_here(session: Session, label: str, place: str | None, *, deep: bool) -> MachineInventory:
    """An inventory of the project's environment, or of another place, that is safe to share.

    It contains no paths and no user names. Raises what `drift` raises.
    """
    asked = question(session, RecreateOptions())
    target = target_of(asked.runtime)
    if place is None:
        found = compared(asked, session, deep=deep).inventory
    else:
        path = path_named(place, session.machine.folder)
        minor = Version(asked.runtime.minor)  # the patch of a stranger's Python may be told nowhere
        found = foreign_inventory(path, minor, reading_files(session.observer))
    own = library_name(asked.declaration.name)
    libraries = {name: _given(library, target) for name, library in found.libraries.items() if name != own}
    whole = MachineInventory(
        label=label,
        recorded=int(time.time()),
        project=asked.declaration.name,
        platform=target.platform,
        python=found.python,
        inventory=replace(found, libraries=libraries, made_with="", runtimes={}, twins=()),
        runtimes={language: str(runtime.version) for language, runtime in asked.others.chosen.items()},
        twice=tuple((twin.name, twin.version) for twin in found.twins),
    )
    return left_out(
        whole, {library.name for library in asked.lock.libraries}, asked.declaration.census.leave_out
    )


def _given(library: Installed, target: Target) -> Installed:
    """A library without what only this machine knows; of its needs those that count here."""
    needs = library.metadata.needs if library.metadata else ()
    counting = tuple(
        Need(need.name, need.specifier, need.extras) for need in needs if target.admits(need.marker)
    )
    metadata = replace(library.metadata, needs=counting) if library.metadata else None
    by_hand = replace(library.installation, origin="", since=None) if library.installation else None
    return replace(library, metadata=metadata, installation=by_hand)


def file_digests(project: Project, place: Path) -> dict[NormalizedName, Mapping[str, str]]:
    """The sha256 digests of the files of each library installed in a place, by their own records.

    Those that the declaration leaves out are missing.
    """
    from rabbet.python.formats.metadata import MetadataBroken, parse_metadata

    patterns = project.declaration().census.leave_out
    found: dict[NormalizedName, Mapping[str, str]] = {}
    for site in library_folders(place):
        for info in site.glob("*.dist-info"):
            with suppress(OSError, MetadataBroken, ValueError):
                name = parse_metadata(read_regular(info / "METADATA", most=MOST_TEXT_FILE)).name
                rows = read_record(read_regular(info / "RECORD", most=MOST_TEXT_FILE).decode())
                told = {row.path: row.sha256 for row in rows if row.sha256}
                found[name] = {path: sha for path, sha in told.items() if not is_left_out(path, patterns)}
    return found


def _left_out(libraries: int) -> Iterator[Finding]:
    """That libraries are left out of an inventory, which may break something."""
    if libraries:
        subject = Subject(About.INVENTORY, LEFT_OUT)
        yield Finding(kind=Kind.SURPLUS, subject=subject, weight=Weight.DIFFERS, cause=LeftOut(libraries))


def _releases(machine: MachineInventory) -> list[tuple[NormalizedName, Version]]:
    """What is installed on a machine, second copies too."""
    first = [(library.name, library.version) for library in machine.inventory.libraries.values()]
    return [*first, *machine.twice]


class CensusComparison:
    """A project's lock, against which inventories of other machines are held.

    What a machine needs follows from its own platform and version of Python.
    """

    def __init__(self, session: Session, rules: CountedRules | None = None) -> None:
        asked = question(session, RecreateOptions())
        self._declaration: Declaration = asked.declaration
        self._lock: Lock = asked.lock
        self._stamp = asked.lock_stamp
        self._here = target_of(asked.runtime)
        self._expected: dict[object, Expectation] = {}
        self._history = list(lock_history(session))
        self._rules = rules
        self._known: dict[tuple[NormalizedName, Version], tuple[Breach, ...]] = {}

    @property
    def revision(self) -> LockRevision | None:
        """The revision of the lock that machines are compared with; `None` where git has none like it."""
        return next((revision for revision, stamp in self._history if stamp == self._stamp), None)

    def states(self, machines: Iterable[MachineInventory]) -> Iterator[MachineState]:
        """How each machine differs from the lock."""
        for machine in machines:
            try:
                yield self._state(machine)
            except RabbetError as error:  # the lock does not serve such a machine
                yield MachineState(
                    label=machine.label, recorded=machine.recorded, trouble=str(error), tags=machine.tags
                )

    def _state(self, machine: MachineInventory) -> MachineState:
        target = self._target(machine)
        inventory = replace(
            machine.inventory,
            python=machine.inventory.python if machine.python else target.python,
            libraries=corrected_libraries(machine.inventory.libraries, self._declaration),
        )
        expected = self._expected_of(machine, target)
        findings = (
            *compare(expected, inventory, of_language=PYTHON_CHECKS),
            *rule_findings(expected, self._broken(machine)),
            *runtime_findings(
                self._lock.runtimes,
                self._declaration.runtimes,
                machine.runtimes,
                complete=bool(inventory.lock_stamp),
            ),
            *_left_out(machine.left_out),
        )
        behind = self._behind(machine, len({finding.subject for finding in findings}))
        locked = {needed.locked.name: needed.locked.version for needed in expected.needed}
        expect = self._declaration.census.expect
        return MachineState(
            label=machine.label,
            recorded=machine.recorded,
            findings=(*findings, *unexpected(expect, _releases(machine), locked, behind)),
            behind=behind,
            tags=machine.tags,
        )

    def _broken(self, machine: MachineInventory) -> list[Breach]:
        """The vulnerabilities of a machine's libraries: of the rules, all that an inventory can tell."""
        if self._rules is None:
            return []
        there = _releases(machine)
        new = [release for release in there if release not in self._known]
        advisories = self._rules.records.about(name for name, _ in new)
        for name, version in new:
            facts = ReleaseFacts(name=name, version=version)
            self._known[name, version] = self._rules.judged(facts, advisories)
        return [breach for release in dict.fromkeys(there) for breach in self._known[release]]

    def _target(self, machine: MachineInventory) -> Target:
        python = machine.python or self._here.python
        minor = f"{python.major}.{python.minor}"
        if machine.platform in ("", self._here.platform) and minor == self._here.minor:
            return self._here
        platform = machine.platform or self._here.platform
        if platform not in PLATFORMS:
            raise NotUnderstood(f"its platform '{platform}' is none that is known here")
        return named_target(platform, minor, self._declaration.baselines)

    def _expected_of(self, machine: MachineInventory, target: Target) -> Expectation:
        everything = self._lock.everything
        chosen = machine.inventory.selection
        selection = (
            everything
            if chosen is None
            else Selection(everything.groups & chosen.groups, everything.extras & chosen.extras)
        )
        by_rabbet = bool(machine.inventory.lock_stamp)
        key = (target.platform, target.minor, selection, by_rabbet)
        if key not in self._expected:
            wanted = needed(self._lock, target, selection, self._declaration)
            expected = Expectation.of(
                self._declaration, self._lock, target, selection, wanted, stamp=self._stamp
            )
            bound = bound_to_minor(wanted)
            self._expected[key] = replace(expected, origins_known=by_rabbet, bound_to_minor=bound)
        return self._expected[key]

    def _behind(self, machine: MachineInventory, differing: int) -> int | None:
        """How many revisions of the lock came since the one that the machine has, if that can be told."""
        stamp = machine.inventory.lock_stamp
        if stamp == self._stamp or not differing:
            return 0
        stamps = [known for _, known in self._history]
        newer = 0 if self._stamp in stamps[:1] else 1  # the lock of today may not be committed yet
        if stamp in stamps:
            return stamps.index(stamp) + newer
        revisions: list[LockRevision] = [revision for revision, _ in self._history]
        installed = {name: str(library.version) for name, library in machine.inventory.libraries.items()}
        fit = nearest_revision(installed, revisions, differing)
        return fit.newer + newer if fit is not None and not fit.differing else None
