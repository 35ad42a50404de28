"""A cache of results for identical inputs: locks that are up to date, environments that match.

Whether locks are up to date follows from the texts of the declaration and of the locks, from the interpreters
on this machine and from Rabbet's version, and from nothing else. Whether an environment fits follows from
these and from the state of its files. A digest of all that leads to what was found. Work takes its inputs
before it reads any of them, and its result is cached only while they are still the same: who edits a file
while a command runs is not told that all fits. This module imports little: most runs of `resolve` and
`recreate` end here.
"""

import hashlib
import os
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from rabbet import __version__
from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.disk.file_states import TreeState, inodes_of, packed_state, state_of, unpacked_state
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import read_regular
from rabbet.errors import WrongUsage
from rabbet.python.builds.folder_state import folder_state, needs_state, tree_state
from rabbet.python.environment.place.layout import interpreter_in
from rabbet.python.environment.place.staging import leftovers
from rabbet.store.blob_cache import BlobCache
from rabbet.store.layout import OBTAINED
from rabbet.workspace.looking.declared_facts import DeclaredFacts, declared_facts
from rabbet.workspace.looking.programs_seen import seen_programs
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.rules.state import RulePlaces, rules_state, users_places
from rabbet.workspace.session import Session

__all__ = [
    "CachedMatch",
    "Inputs",
    "UpToDate",
    "environment_state",
    "fitting_key",
    "inputs_of",
    "may_have_rules",
    "recall_findings",
    "recall_fit",
    "recall_no_findings",
    "recall_rules_met",
    "recall_sound",
    "recall_unbuilt",
    "recall_unchanged",
    "recall_up_to_date",
    "remember_findings",
    "remember_fit",
    "remember_rules_met",
    "remember_unbuilt",
    "remember_unchanged",
]


class UpToDate(NamedTuple):
    """A lock that was found up to date: its file, how many libraries it holds, and for which targets."""

    file: str
    variant: str
    libraries: int
    targets: str


class Inputs(NamedTuple):
    """What results follow from apart from the environment, as it was at some moment.

    `declared` is a digest of the declaration, of folders of sources and of interpreters, empty where one of
    them could not be read; `locks` are the files' names with the digests of their texts.
    """

    declared: str
    locks: dict[str, str]

    @property
    def digest(self) -> str:
        """One for both."""
        told = "".join(f"{name}\n{digest}\n" for name, digest in sorted(self.locks.items()))
        return hashlib.sha256(f"{self.declared}\n{told}".encode(errors="surrogateescape")).hexdigest()

    def with_locks(self, written: Mapping[str, str]) -> "Inputs":
        """The same once these texts of locks, by their files' names, were written."""
        digests = {name: hashlib.sha256(text.encode()).hexdigest() for name, text in written.items()}
        return self._replace(locks={**self.locks, **digests})


class CachedMatch(NamedTuple):
    """An environment that was found to match the lock: what it is called, its libraries and its runtime."""

    environment: str
    libraries: int
    runtime: str


def may_have_rules(session: Session) -> bool:
    """Whether the declaration or the settings may state rules. Raises `OSError`."""
    return _stated(session) is not None or users_places(session.machine) is not None


def _stated(session: Session) -> RulePlaces | None:
    """The places that the project's rules name. Raises `OSError`."""
    declaration = read_regular(session.project.declaration_file, most=MOST_TEXT_FILE)
    return declared_facts(declaration, _memory(session.machine)).rules


def _by_rules(session: Session) -> str:
    """What a key of a result that rules bear on has more; empty where there are none. Raises `OSError`."""
    state = rules_state(session.machine, session.project.folder, _stated(session))
    return f"-{hashlib.sha256(state.encode(errors='surrogateescape')).hexdigest()}" if state else ""


def recall_rules_met(session: Session) -> bool:
    """Whether an earlier run found that the locks break no rule, by the same files, records and rules."""
    try:
        key = f"{_inputs(session).digest}{_by_rules(session)}-met"
        return _memory(session.machine).recall(key) is not None
    except OSError:
        return False


def remember_rules_met(session: Session, inputs: Inputs) -> None:
    """Cache that the locks break no rule."""
    with suppress(OSError):
        if _inputs(session) == inputs:
            _memory(session.machine).remember(f"{inputs.digest}{_by_rules(session)}-met", b"")


def recall_unchanged(session: Session) -> tuple[UpToDate, ...]:
    """The cached locks for these files and interpreters; empty on a miss."""
    if session.project.preferred_file.exists():
        return ()
    try:
        content = _memory(session.machine).recall(_inputs(session).digest + _by_rules(session)) or b""
        rows = [line.split("\t") for line in content.decode().splitlines()]
        return tuple(UpToDate(file, variant, int(count), targets) for file, variant, count, targets in rows)
    except (OSError, ValueError):  # a file that can't be read, a damaged store: the long way tells more
        return ()


def remember_unchanged(session: Session, inputs: Inputs, found: Iterable[UpToDate]) -> None:
    """Cache the result for the inputs that it follows from."""
    rows = [f"{entry.file}\t{entry.variant}\t{entry.libraries}\t{entry.targets}\n" for entry in found]
    with suppress(OSError):
        if _inputs(session) == inputs:
            key = inputs.digest + _by_rules(session)
            _memory(session.machine).remember(key, "".join(rows).encode())


def recall_fit(session: Session) -> CachedMatch | None:
    """The cached result for this environment's state, files and interpreters."""
    try:
        content = _memory(session.machine).recall(_present_key(session)) or b""
        environment, count, runtime = content.decode().split("\t")
        return CachedMatch(environment, int(count), runtime)
    except (OSError, ValueError):
        return None


def recall_unbuilt(session: Session) -> str:
    """Why the editable form of edited sources could not be built again in this state; empty if unknown."""
    try:
        key = _present_key(session)
        return (_memory(session.machine).recall(f"{key}-unbuilt") or b"").decode()
    except (OSError, UnicodeDecodeError):
        return ""


def remember_unbuilt(session: Session, inputs: Inputs, reason: str) -> None:
    """Cache why it could not be built again."""
    with suppress(OSError):
        key = _present_key(session)
        if _inputs(session) == inputs:
            _memory(session.machine).remember(f"{key}-unbuilt", reason.encode(errors="replace"))


def recall_up_to_date(session: Session) -> bool:
    """Whether an earlier run found lock and environment up to date for these very files.

    Of a variant no run notes that, so it is always worked out.
    """
    if session.project.variant is not None or not recall_unchanged(session):
        return False
    return recall_fit(session) is not None


def fitting_key(session: Session) -> str:
    """A digest of all inputs of the cached fit; empty when one of them is unknown."""
    try:
        key = _present_key(session)
        return key if _memory(session.machine).recall(key) is not None else ""
    except OSError:
        return ""


def remember_fit(session: Session, inputs: Inputs, state: str, found: CachedMatch | None) -> None:
    """Cache that every file of an environment is as recorded and, unless `found` is `None`, that it fits.

    `state` is the one that it had before it was looked at: what was changed since is not in it.
    """
    with suppress(OSError):
        if state:
            _memory(session.machine).remember(state, b"")
        if state and found is not None and _inputs(session) == inputs:
            row = f"{found.environment}\t{found.libraries}\t{found.runtime}"
            _memory(session.machine).remember(_fit_key(session, inputs, state), row.encode())


def recall_no_findings(session: Session, *, notes: bool) -> int | None:
    """How many libraries were compared when these states, files and interpreters gave no finding at all.

    Where `notes` do not count, it suffices that the environment was found to fit.
    """
    try:
        key = _present_key(session)
        known = _memory(session.machine).recall(f"{key}{_by_rules(session)}-drift")
        if known is None and not notes and not may_have_rules(session):
            known = (_memory(session.machine).recall(key) or b"").split(b"\t")[1]
        return int(known or b"")
    except (OSError, ValueError, IndexError):
        return None


def recall_sound(state: str, machine: Machine) -> bool:
    """Whether every file of an environment was read in this state, and found to be as recorded."""
    return bool(state) and _memory(machine).recall(state) is not None


def remember_findings(
    session: Session, inputs: Inputs, state: str, found: int, compared: int | None = None
) -> None:
    """Cache how many findings there were, in the state that the environment had before it was looked at.

    So many libraries were `compared` without any finding at all, if not `None`.
    """
    with suppress(OSError):
        if state and _inputs(session) == inputs:
            key, memory = _fit_key(session, inputs, state), _memory(session.machine)
            memory.remember(f"{key}-found", str(found).encode())
            if compared is not None:
                memory.remember(f"{key}{_by_rules(session)}-drift", str(compared).encode())


def recall_findings(session: Session) -> int | None:
    """How many findings these states, files and interpreters gave; `None` where that is not known."""
    try:
        key = _present_key(session)
        return int(_memory(session.machine).recall(f"{key}-found") or b"")
    except (OSError, ValueError):
        return None


def environment_state(root: Path, machine: Machine) -> str:
    """A name for the state of all files of an environment; empty where there is none that can be read.

    It stays the same where nothing but links to the files were made or removed elsewhere.
    """
    try:
        inode, state = root.lstat().st_ino, state_of(str(root))
    except OSError:
        return ""
    name = hashlib.sha256(f"{inode} {state.digest}".encode()).hexdigest()
    memory, key = _memory(machine), hashlib.sha256(f"{root}".encode(errors="surrogateescape")).hexdigest()
    known = (memory.recall(f"{key}-state") or b"").partition(b"\n")
    names, _, packed = known
    before, _, first = names.decode().partition(" ")
    if before == name:
        return first
    earlier = unpacked_state(packed)
    if earlier is None or not _only_links(state, earlier, root, machine):
        first = name
    memory.remember(f"{key}-state", f"{name} {first}\n".encode() + packed_state(state))
    return first


def _only_links(state: TreeState, earlier: TreeState, root: Path, machine: Machine) -> bool:
    """Whether links that came and went are all that was changed; of shared files the store says it."""
    doubtful = state.doubtful(earlier)
    if not doubtful:
        return doubtful is not None
    from rabbet.workspace.looking.shared_files import are_sound_in_store  # here: links seldom come and go

    try:
        return are_sound_in_store(root, inodes_of(str(root), doubtful), machine)
    except OSError:
        return False


def _present_key(session: Session) -> str:
    """The key of the environment as it is now. Raises what `_fit_key` raises."""
    inputs = _inputs(session)
    return _fit_key(session, inputs, environment_state(session.project.environment, session.machine))


def _fit_key(session: Session, inputs: Inputs, state: str) -> str:
    """Raises `OSError` without an environment, without its interpreter, and beside what a killed run left.

    No other environment, such as one that came with a clone, can have the state of one that was found to fit.
    """
    root = session.project.environment
    interpreter_in(root).stat()
    if root.is_symlink() or leftovers(root, session.machine.environments()):
        raise FileExistsError(root)
    fit = f"{inputs.digest} {root} {state}"
    return hashlib.sha256(fit.encode(errors="surrogateescape")).hexdigest()


def _memory(machine: Machine) -> BlobCache:
    return machine.memory("unchanged")


def inputs_of(session: Session) -> Inputs:
    """The inputs as they are now; where one can't be read, such as are never found again."""
    try:
        return _inputs(session)
    except OSError:
        return Inputs("", {})


def _inputs(session: Session) -> Inputs:
    """Raises `OSError`."""
    project, machine = session.project, session.machine
    digest = hashlib.sha256(__version__.encode())
    declaration = read_regular(project.declaration_file, most=MOST_TEXT_FILE)
    facts = declared_facts(declaration, _memory(machine))
    _add(digest, project.declaration_file.name.encode(), declaration)
    locks = {
        path.name: hashlib.sha256(read_regular(path, most=MOST_TEXT_FILE)).hexdigest()
        for path in project.home.glob("pylock*.toml")
    }
    for folder in _folders(project, facts):
        _add(digest, folder_state(str(folder)).encode(), needs_state(str(folder)).encode())
        if not facts.editable:
            _add(digest, tree_state(str(folder)).encode())
    programs = seen_programs(machine, others=facts.others, more=facts.programs)
    for program in (*programs, *sorted(map(str, (machine.store_folder / OBTAINED).glob("*")))):
        state = os.stat(program)  # noqa: PTH116 - a part of the lightest runs
        told = f"{state.st_size} {state.st_mtime_ns} {state.st_ctime_ns}".encode()
        _add(digest, program.encode(errors="surrogateescape"), told)
    return Inputs(digest.hexdigest(), locks)


def _folders(project: Project, facts: DeclaredFacts) -> Iterator[Path]:
    """The folders of sources that are installed where they lie: the project's own, and checkouts.

    Raises `FileNotFoundError` for a path that can't be one.
    """
    if facts.built or project.has_setup:
        yield project.folder
    try:
        yield from [path_named(path, project.folder) for path in facts.local]
    except WrongUsage as error:
        raise FileNotFoundError(project.declaration_file) from error


def _add(digest: "hashlib._Hash", *parts: bytes) -> None:
    """Hash parts with their lengths, so that no two lists collide."""
    for part in parts:
        digest.update(b"%d:" % len(part) + part)
