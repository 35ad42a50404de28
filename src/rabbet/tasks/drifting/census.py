"""Everyone's inventories: recorded, sent, collected, shown against the lock, checked."""

import time
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from functools import partial
from hashlib import sha256
from typing import NamedTuple, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from rabbet import __version__
from rabbet.core.census.machine_inventory import MachineInventory
from rabbet.core.census.matrix import MachineState, Matrix, matrix_of, reordered
from rabbet.core.census.tags import Tags, Wanted, fits
from rabbet.core.declaration.edit import Edit
from rabbet.core.drift.since import LockRevision
from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.core.shell import quoted
from rabbet.core.shown_text import shown_location
from rabbet.disk.atomic import write_text
from rabbet.disk.named import path_named
from rabbet.disk.process_lock import claimed
from rabbet.disk.regular_file import read_regular
from rabbet.errors import SourceFailed, WrongUsage
from rabbet.formats.cyclonedx import write_inventory_file
from rabbet.net.git.own_repository import remote_at
from rabbet.net.git.program import ask_git, top_of
from rabbet.net.git.shared_refs import SharedRefs, collected_state
from rabbet.tasks.declaring.declare import Edited, change
from rabbet.team.database import DatabaseRecord, Sent, opened_database
from rabbet.team.extra import needing_extra
from rabbet.team.labels import checked_label, own_label, set_label
from rabbet.team.sheet import order_by_likeness
from rabbet.work.own_program import own_program, start_in_background
from rabbet.workspace.rules.judging import CountedRules, counted_rules
from rabbet.workspace.rules.rule_sets import Look
from rabbet.workspace.session import Session
from rabbet.workspace.states.census import CensusComparison, file_digests, inventory_here
from rabbet.workspace.states.lock_history import lock_history
from rabbet.workspace.states.machines import (
    NOBODY,
    Unread,
    census_group,
    census_repository,
    collected_machines,
    kept_contents,
    machines_from,
    stored_machines,
)
from rabbet.workspace.states.sending import answer

__all__ = [
    "Census",
    "Collected",
    "Development",
    "Heard",
    "LibraryOverTime",
    "RecordOptions",
    "SavedInventory",
    "collect",
    "developed",
    "forget",
    "library_over_time",
    "nothing_here",
    "one_machine",
    "record",
    "refs_of",
    "rename",
    "send",
    "send_every",
    "send_in_background",
    "send_to_database",
    "show",
    "shown_state",
]

_Value = TypeVar("_Value")
EVENTS = "events"  # the note on machines that were forgotten or renamed
_KEPT = 50  # inventories of each machine
_SECONDS_AHEAD = 300  # by which a sender's clock may go before that of this machine


class RecordOptions(Struct, frozen=True, kw_only=True):
    """Options of a record: the project's environment or another `place`, the label, and tags."""

    label: str | None = None
    place: str | None = None
    deep: bool = False
    tags: Tags = field(default_factory=dict)


class SavedInventory(Struct, frozen=True, kw_only=True):
    """An inventory of this machine, as it was written or sent."""

    inventory: MachineInventory
    text: str
    where: str


class Collected(Struct, frozen=True, kw_only=True):
    """How many inventories of how many machines came through a remote."""

    remote: str
    machines: int
    inventories: int


class Heard(NamedTuple):
    """A machine, and when it was recorded by its own clock, in seconds since the epoch."""

    label: str
    recorded: int


class Census(Struct, frozen=True, kw_only=True):
    """The machines against the lock, and the inventories that can't be read, with the reasons.

    Records of those that are `ahead` are from a time that is still to come here: one of the clocks is wrong.
    `silent` machines were not heard of for so long that they are left out. `held_against` is the revision of
    the lock, if git has it; `made` is the time of the census.
    """

    matrix: Matrix
    states: tuple[MachineState, ...]
    unread: tuple[Unread, ...]
    ahead: tuple[Heard, ...]
    silent: tuple[Heard, ...] = ()
    held_against: LockRevision | None = None
    made: float = 0.0


def record(session: Session, options: RecordOptions, file: str | None) -> SavedInventory:
    """Write the inventory of this machine into a file. Raises what `drift` raises, and `CannotWrite`."""
    found = _recorded(session, options)
    path = session.machine.folder / (file or f"census-{found.inventory.label}.json")
    write_text(path, found.text, below=session.project.folder)
    return SavedInventory(inventory=found.inventory, text=found.text, where=path.name)


def _recorded(session: Session, options: RecordOptions) -> SavedInventory:
    label = (
        own_label(session.machine.environments().folder) if options.label is None else _label(options.label)
    )
    session.observer.stage("looking at what is installed")
    project = session.project
    tags = {**project.declaration().census.tags, **options.tags}
    found = replace(inventory_here(session, label, options.place, deep=options.deep), tags=tags)
    place = path_named(options.place, session.machine.folder) if options.place else project.environment
    files = file_digests(project, place) if options.deep else None
    return SavedInventory(inventory=found, text=write_inventory_file(found, __version__, files), where="")


def send(session: Session, options: RecordOptions, remote: str | None) -> SavedInventory:
    """Record this machine and share that through the project's git remote.

    Raises what `drift` raises, and `SourceFailed`.
    """
    refs, name = refs_of(session, remote)
    found = _recorded(session, options)
    session.observer.stage(f"sending through '{name}'")
    content = found.text.encode()
    # git's own locks don't wait
    with claimed(session.machine.store_folder, f"census {session.project.folder}"):
        refs.send(found.inventory.label, content, keep=_KEPT)
    return SavedInventory(inventory=found.inventory, text=found.text, where=name)


def send_to_database(session: Session, options: RecordOptions, url: str) -> SavedInventory:
    """Record this machine and add that to a database.

    Raises what `drift` raises, `SourceFailed`, and `EnvironmentFailed` without the extra `team`.
    """
    found = _recorded(session, options)
    session.observer.stage("sending to the database")
    machine = found.inventory
    content = write_inventory_file(replace(machine, label=NOBODY, recorded=0), __version__)
    with needing_extra("a database"), opened_database(url) as database:
        record = DatabaseRecord(machine.label, machine.recorded, content)
        database.send(census_group(session.project), [record], keep=_KEPT)
    return SavedInventory(inventory=machine, text=found.text, where=shown_location(url))


def send_every(session: Session, when: str, remote: str | None) -> Edited:
    """Declare that inventories are sent by themselves: after each `recreate`, or `never` again.

    Who declares it agrees to it on this machine. Raises what `change` raises.
    """
    edits = [Edit(verb="declare", what="census", name="every", value=when)]
    if remote is not None and when != "never":
        edits.append(Edit(verb="declare", what="census", name="remote", value=remote))
    edited = change(session, edits)
    answer(session, agreed=True if when != "never" else None)
    return edited


def send_in_background(session: Session) -> None:
    """Let a process of its own send the inventory. Nobody waits for it; `status` tells its outcome."""
    census = session.declaration().census
    through = ["--remote", census.remote] if census.remote else []
    variant = ["--variant", session.project.variant] if session.project.variant else []
    command = own_program("census", "send", "--quiet", *through, *variant)
    start_in_background(command, session.project.folder, session.machine.environ)


def collect(session: Session, remote: str | None) -> Collected:
    """Fetch what all machines have sent. Raises `SourceFailed`."""
    refs, name = refs_of(session, remote)
    session.observer.stage(f"collecting from '{name}'")
    with claimed(session.machine.store_folder, f"census {session.project.folder}"):
        files = refs.collect()
    return Collected(remote=name, machines=len({file.label for file in files}), inventories=len(files))


def refs_of(session: Session, remote: str | None) -> tuple[SharedRefs, str]:
    """The remote that is named, else `origin`, else the only one. Raises `SourceFailed`.

    Only its address is taken from the repository's configuration, nothing else of it counts.
    """
    project, environ = session.project, session.machine.helpers_environ()
    done = ask_git(project.folder, ["remote"], environ)
    known = done.text.split() if done.code == 0 else []
    if remote is None and not known:
        raise SourceFailed(
            "there is no remote to share inventories through",
            because=[f"git knows none in {project.folder}"],
            remedy="git remote add origin ADDRESS" if done.code == 0 else "git init",
        )
    name = remote or ("origin" if "origin" in known else known[0])
    if name not in known:
        # A place is none: a repository that came with a clone may bring hooks of its own.
        raise SourceFailed(
            f"there is no remote '{name}'",
            because=[f"git knows: {', '.join(known)}" if known else "git knows none here"],
            remedy="git remote --verbose",
        )
    address = ask_git(project.folder, ["remote", "get-url", "--", name], environ).text.partition("\n")[0]
    there = remote_at(address, top_of(project.folder) or project.folder)
    own = census_repository(project, session.machine)
    return SharedRefs(own, there, name, census_group(project)), name


def forget(session: Session, label: str, remote: str | None, url: str | None) -> str:
    """Remove all that a machine has sent, from a database or through a remote; the name of that.

    Raises `WrongUsage` for a machine that has sent nothing there, `SourceFailed`.
    """
    label = _label(label)
    if url:
        with needing_extra("a database"), opened_database(url) as database:
            found, where = database.forget(census_group(session.project), label), shown_location(url)
    else:
        refs, where = refs_of(session, remote)
        with claimed(session.machine.store_folder, f"census {session.project.folder}"):
            found = refs.forget(label)
            if found:
                refs.note(EVENTS, partial(_with_event, what=f"forget {label}"))
    if not found:
        raise _no_machine(label, where)
    return where


def rename(session: Session, label: str, new: str, remote: str | None, url: str | None) -> str:
    """Give a machine another label, with all that it has sent; the name of where that was done.

    This machine's own label changes, too. Raises `WrongUsage` for a machine that has sent nothing there, and
    a label that can't be one or is in use, `SourceFailed`.
    """
    label, wanted = _label(label), _label(new)
    if label == wanted:
        raise WrongUsage(f"the machine is called '{label}' already", remedy="rabbet census show")
    if url:
        with needing_extra("a database"), opened_database(url) as database:
            done, where = database.rename(census_group(session.project), label, wanted), shown_location(url)
    else:
        refs, where = refs_of(session, remote)
        with claimed(session.machine.store_folder, f"census {session.project.folder}"):
            done = refs.rename(label, wanted)
            if done == "done":
                refs.note(EVENTS, partial(_with_event, what=f"rename {label} {wanted}"))
    if done == "absent":
        raise _no_machine(label, where)
    if done == "taken":
        raise WrongUsage(
            f"another machine is called '{wanted}'", remedy=f"rabbet census show --machine {quoted(wanted)}"
        )
    folder = session.machine.environments().folder
    if own_label(folder) == label:
        set_label(folder, wanted)
    return where


def _with_event(text: str, what: str) -> str:
    """The events with another one: a line each, with its time."""
    return f"{text}{datetime.now(UTC):%Y-%m-%dT%H:%M:%SZ} {what}\n"


def _no_machine(label: str, where: str) -> WrongUsage:
    return WrongUsage(
        f"no machine '{label}' has sent anything through '{where}'", remedy="rabbet census show"
    )


def _label(text: str) -> str:
    """A label as it is stored. Raises `WrongUsage` for what can't be one."""
    label = checked_label(text)
    if label is None:
        raise WrongUsage(
            f"'{text[:60]}' can't be a label",
            because=["it takes letters, digits, '.', '_' and '-', with a letter or digit at both ends"],
        )
    return label


def show(
    session: Session,
    places: Sequence[str],
    url: str | None = None,
    *,
    judged: bool = False,
    since: int = 0,
    wanted: Wanted | None = None,
) -> Census:
    """All collected machines against the lock, or those of a database, and those of more files or places.

    What is installed on each may be `judged` by the rules of today, as far as an inventory tells it. Machines
    that were not recorded `since` a time (in seconds) are left out; those of places are looked at now. Only
    machines with the `wanted` tags count. Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `WrongUsage` where
    there is nothing to show, `SourceFailed`.
    """
    session.observer.stage("reading inventories")
    machines, unread = ([], []) if url else collected_machines(session)
    named, unread_places = machines_from(places, session.machine)
    unread += unread_places
    of_tags = wanted or {}
    machines = [machine for machine in (*machines, *named) if fits(machine.tags, of_tags)]
    session.observer.stage("comparing them with the lock")
    against = CensusComparison(session, _rules(session) if judged else None)
    states = list(against.states(machines))
    # one by one: a fleet's take a lot of room
    for machine, sent in stored_machines(session.project, url) if url else ():
        if isinstance(machine, Unread):
            unread.append(machine)
            continue
        for state in against.states([machine] if fits(machine.tags, of_tags) else ()):
            states += (replace(state, label=them.label, recorded=them.recorded) for them in sent)
    if not (states or unread):
        raise nothing_here(of_tags)
    silent = tuple(Heard(state.label, state.recorded) for state in states if 0 < state.recorded < since)
    states = [state for state in states if not 0 < state.recorded < since]
    matrix = matrix_of(states)
    with suppress(ModuleNotFoundError):  # without the extra the largest groups come first
        matrix = reordered(matrix, order_by_likeness(matrix))
    ahead = _ahead((state.label, state.recorded) for state in states)
    return Census(
        matrix=matrix,
        states=tuple(states),
        unread=tuple(unread),
        ahead=ahead,
        silent=tuple(sorted(silent)),
        held_against=against.revision,
        made=time.time(),
    )


def nothing_here(wanted: Wanted) -> WrongUsage:
    """The error where no machine can be shown."""
    if wanted:
        return WrongUsage("no machine has all of these tags", remedy="rabbet census show")
    return WrongUsage(
        "no inventories are here yet",
        because=["none was collected or stored, and --from names none"],
        remedy="rabbet census send && rabbet census collect",
    )


def shown_state(session: Session, places: Sequence[str], url: str | None) -> str:
    """A text that differs where `show` may show something else: machines, lock, declaration, or the day.

    Nobody tells when what lies in places changes: with these it is another one each second. Raises
    `SourceFailed`, `NotUnderstood`.
    """
    project = session.project
    if url:
        with needing_extra("a database"), opened_database(url) as database:
            machines = database.state(census_group(project))
    else:
        own = census_repository(project, session.machine)
        machines = collected_state(own, census_group(project))
    revision = next((revision.commit for revision, _ in lock_history(session, 1)), "")
    with suppress(OSError):
        files = [
            read_regular(file, most=MOST_TEXT_FILE) for file in (project.lock_file, project.declaration_file)
        ]
        digest = sha256(b"\0".join(files)).hexdigest()
        day = datetime.now(UTC).date()
        return f"{machines} {revision} {digest} {day} {int(time.time()) if places else ''}"
    return str(time.time_ns())  # `show` tells what is wrong


def _rules(session: Session) -> CountedRules:
    """The rules that count here. Raises `WrongUsage` where none are stated, `SourceFailed`."""
    rules = counted_rules(session, Look(anew=True))
    if rules is None:
        raise WrongUsage("no rules are stated that machines could be judged by", remedy="rabbet rules")
    rules.records.refuse_old()
    return rules


def _ahead(recorded: Iterable[tuple[str, int]]) -> tuple[Heard, ...]:
    """Those of the machines whose clocks go before that of this one, by their labels and times."""
    latest = time.time() + _SECONDS_AHEAD
    return tuple(Heard(label, when) for label, when in sorted(set(recorded)) if when > latest)


def one_machine(census: Census, label: str) -> MachineState:
    """One machine of a census by its label. Raises `WrongUsage`."""
    known = {state.label: state for state in census.states}
    if label not in known:
        near = near_names(label, known)
        raise WrongUsage(
            f"there is no machine '{label}' in the census",
            because=[f"there are {len(known)}, such as {', '.join(sorted(known)[:3])}"] if known else [],
            remedy=f"rabbet census show --machine {quoted(near[0])}" if near else "rabbet census show",
        )
    return known[label]


class Development(Struct, frozen=True, kw_only=True):
    """The states that machines came into since a time, the first ones first, among those that are kept.

    A machine that was recorded before, in the same state, is not told again.
    """

    states: tuple[MachineState, ...]
    unread: tuple[Unread, ...]
    ahead: tuple[Heard, ...]


def developed(session: Session, since: int, url: str | None, wanted: Wanted) -> Development:
    """How machines with these tags differed from the lock of today since a time (seconds since the epoch).

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`.
    """
    session.observer.stage("reading inventories")
    against = CensusComparison(session)

    def compared(machine: MachineInventory) -> tuple[MachineState, object]:
        state = next(iter(against.states([machine])))
        return state, state.key

    records, unread = _over_time(session, url, wanted, compared)
    last: dict[str, object] = {}
    told = []
    for sent, (state, key) in records:
        if last.get(sent.label) != key and sent.recorded >= since:
            told.append(replace(state, label=sent.label, recorded=sent.recorded))
        last[sent.label] = key
    ahead = _ahead((state.label, state.recorded) for state in told)
    return Development(states=tuple(told), unread=tuple(unread), ahead=ahead)


def _over_time(
    session: Session, url: str | None, wanted: Wanted, value_of: Callable[[MachineInventory], _Value]
) -> tuple[list[tuple[Sent, _Value]], list[Unread]]:
    """The kept records by time of recording, those of one machine as they arrived; and what can't be read.

    Of each content a value is computed, once.
    """
    records: list[tuple[Sent, _Value]] = []
    unread: list[Unread] = []
    for machine, sent in kept_contents(session, url, wanted):
        if isinstance(machine, Unread):
            unread.append(machine)
        else:
            value = value_of(machine)
            records += [(one, value) for one in sent]
    records.sort(key=lambda record: record[0].number)
    latest: dict[str, int] = {}
    times: dict[int, int] = {}
    for record, _ in reversed(records):
        latest[record.label] = min(record.recorded, latest.get(record.label, record.recorded))
        times[record.number] = latest[record.label]
    return sorted(records, key=lambda record: times[record[0].number]), unread


class LibraryOverTime(Struct, frozen=True, kw_only=True):
    """The versions of a library that each machine has had, each with the time from which on it was recorded.

    An empty version means that it was not there. `locked` are those of the lock of today.
    """

    name: str
    locked: tuple[str, ...]
    changes: tuple[tuple[str, int, str], ...]
    unread: tuple[Unread, ...]
    ahead: tuple[Heard, ...]


def library_over_time(session: Session, name: str, url: str | None, wanted: Wanted) -> LibraryOverTime:
    """A library's changes on all machines with these tags, as far back as inventories go, newest last.

    Raises `NoLock`, `WrongUsage` for one that neither the lock nor any inventory has.
    """
    session.observer.stage("reading inventories")
    found = library_name(name)

    def version_on(machine: MachineInventory) -> str:
        installed = machine.inventory.libraries.get(found)
        return str(installed.version) if installed else ""

    records, unread = _over_time(session, url, wanted, version_on)
    changes: list[tuple[str, int, str]] = []
    last: dict[str, str] = {}
    for sent, version in records:
        if last.get(sent.label) != version:
            changes.append((sent.label, sent.recorded, version))
        last[sent.label] = version
    locked = sorted({str(library.version) for library in session.lock().libraries if library.name == found})
    if not (locked or unread or any(version for _, _, version in changes)):
        raise WrongUsage(f"no machine has {found}, and the lock does not either", remedy="rabbet census show")
    return LibraryOverTime(
        name=found,
        locked=tuple(locked),
        changes=tuple(changes),
        unread=tuple(unread),
        ahead=_ahead((label, when) for label, when, _ in changes),
    )
