"""Proving with a command: how new everything can be, whether bounds are true, whether it works everywhere."""

from collections.abc import Iterator, Sequence
from time import monotonic

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.culprit.outcome import Symptom
from rabbet.core.model.lock import Lock
from rabbet.core.needs.names import library_name
from rabbet.core.shell import joined_words
from rabbet.disk.atomic import write_text
from rabbet.errors import CannotWrite, EnvironmentFailed, WrongUsage
from rabbet.net.git.program import ask_git
from rabbet.proving.attempts import PROOFS, Attempts
from rabbet.proving.bounds import Bounds
from rabbet.proving.bounds import prove_bounds as bounds_of
from rabbet.proving.everywhere import Row, rows_everywhere
from rabbet.proving.newest import Newest, RaiseStep, newest, single_raises
from rabbet.proving.runner import ABSENT, TestedCommand
from rabbet.tasks.resolving.resolve import readable_text
from rabbet.workspace.session import Session

__all__ = [
    "Costs",
    "Everywhere",
    "ProveOptions",
    "prove_bounds",
    "prove_newest",
    "refuse_uncommitted",
    "save_lock",
    "save_one_by_one",
]


class ProveOptions(Struct, frozen=True, kw_only=True):
    """The command may run for so many `seconds`, `repeat` times in each environment, `jobs` at once.

    What is remembered does not count where all is tried `afresh`.
    """

    seconds: int
    repeat: int = 1
    jobs: int = 1
    afresh: bool = False


class Costs(Struct, frozen=True, kw_only=True):
    """What it took; `recalled` runs were known from before."""

    environments: int
    runs: int
    recalled: int
    seconds: float


def _attempts_for(session: Session, words: Sequence[str], options: ProveOptions) -> Attempts:
    """Attempts with a command in which everything but exit code 0 counts as a failure."""
    command = TestedCommand(
        words=tuple(words),
        folder=session.machine.folder,
        symptom=Symptom(anything=True),
        seconds=options.seconds,
        repeat=options.repeat,
    )
    return Attempts(command, session, jobs=options.jobs, memory=PROOFS, afresh=options.afresh)


def _costs_of(attempts: Attempts, begun: float) -> Costs:
    """What it took until now."""
    return Costs(
        environments=attempts.environments,
        runs=attempts.runs,
        recalled=attempts.recalled,
        seconds=monotonic() - begun,
    )


def prove_newest(
    session: Session, words: Sequence[str], names: Sequence[str], options: ProveOptions
) -> tuple[Newest, Costs]:
    """Find how far the lock can be raised so that a command passes; nothing is written.

    Raises `NoLock`, `WrongUsage` for names that are not locked, what resolving raises, and what making the
    environment of the present lock raises.
    """
    begun = monotonic()
    wanted = [library_name(name) for name in names]
    _refuse_unlocked(wanted, session.lock())
    attempts = _attempts_for(session, words, options)
    found = newest(session, attempts, wanted, jobs=options.jobs)
    _refuse_absent(found.failure)
    return found, _costs_of(attempts, begun)


def prove_bounds(
    session: Session, words: Sequence[str], names: Sequence[str], options: ProveOptions
) -> tuple[Bounds, Costs]:
    """Find which declared bounds are true for a command; nothing is written.

    Raises `NoLock`, `WrongUsage` for names that are not declared, what resolving raises, and what making the
    environment of the present lock raises.
    """
    begun = monotonic()
    wanted = [library_name(name) for name in names]
    declared = {requirement.need.name for requirement in session.declaration().declared()}
    for name in wanted:
        if name not in declared:
            raise WrongUsage(f"'{name}' is not declared, so it has no bounds", remedy="rabbet declare")
    attempts = _attempts_for(session, words, options)
    found = bounds_of(session, attempts, wanted, jobs=options.jobs)
    _refuse_absent(found.failure)
    return found, _costs_of(attempts, begun)


class Everywhere:
    """The rows of a matrix as they come, and what they took once they are all there."""

    def __init__(self, session: Session, words: Sequence[str], options: ProveOptions) -> None:
        self._begun = monotonic()
        self._attempts = _attempts_for(session, words, options)
        self._session = session
        self._jobs = options.jobs

    def rows(self) -> Iterator[Row]:
        """Each variant with each Python of its lock. Raises `NotUnderstood`, `CannotWrite`."""
        return rows_everywhere(self._session, self._attempts, jobs=self._jobs)

    @property
    def costs(self) -> Costs:
        """What it took until now."""
        return _costs_of(self._attempts, self._begun)


def _refuse_unlocked(names: Sequence[NormalizedName], lock: Lock) -> None:
    for name in names:
        if name not in lock.versions:
            raise WrongUsage(f"'{name}' is not in the lock", remedy="rabbet explain")


def _refuse_absent(failure: Sequence[str]) -> None:
    """Raise `EnvironmentFailed` for a command that is not there."""
    for line in failure:
        if line.endswith(ABSENT):
            raise EnvironmentFailed(
                line, note="the shell's own words, such as aliases and pipes, need a shell: sh -c '…'"
            )


def save_lock(session: Session, lock: Lock, before: str) -> None:
    """Write a lock that was proven, in place of the one whose stamp was `before`.

    Raises `CannotWrite`, also where somebody changed the lock meanwhile, and `IntegrityFailed`.
    """
    if session.project.lock_stamp() != before:
        raise CannotWrite(
            f"{session.project.lock_file.name} was changed meanwhile, so it was not written",
            note="what was tried is remembered, so the same command again takes little time",
        )
    write_text(session.project.lock_file, readable_text(lock, session))


def save_one_by_one(
    session: Session, found: Newest, words: Sequence[str], options: ProveOptions, before: str
) -> Iterator[RaiseStep]:
    """Write one proven lock after the other, each with a commit of its own; nothing is pushed.

    Raises `WrongUsage` outside of a repository, and where the lock has changes that are not committed;
    `CannotWrite` where git refuses.
    """
    refuse_uncommitted(session)
    lock = found.lock
    if lock is None:
        return
    told = joined_words(words)
    for step in single_raises(session, _attempts_for(session, words, options), lock):
        save_lock(session, step.lock, before)
        before = session.project.lock_stamp()
        moves = [f"{change.name} {change.good or 'new'} → {change.bad or 'gone'}" for change in step.raised]
        title = f"Raise {moves[0]}" + (f" and {len(moves) - 1} more" if len(moves) > 1 else "")
        lines = [title, "", *(f"- {move}" for move in moves), "", f"Proven: {told} passes with this lock."]
        _git(session, "commit", "--quiet", "-m", "\n".join(lines), "--", session.project.lock_file.name)
        yield step


def refuse_uncommitted(session: Session) -> None:
    """Raise `WrongUsage` unless the lock lies in a repository, and is as it was committed."""
    name = session.project.lock_file.name
    answer = ask_git(session.project.home, ["status", "--porcelain", "--", name], session.machine.environ)
    if answer.code:
        raise WrongUsage("--one-by-one commits each lock, and this folder lies in no git repository")
    if answer.out.strip():
        raise WrongUsage(
            f"{name} has changes that are not committed, so raises can't be told apart from them",
            remedy=f"git commit -m 'The lock as it is' -- {name}",
        )


def _git(session: Session, *arguments: str) -> None:
    answer = ask_git(session.project.home, arguments, session.machine.environ)
    if answer.code:
        said = (answer.err or answer.out).decode("utf-8", "replace").strip().splitlines()
        raise CannotWrite(f"git {arguments[0]} failed", because=said[:3])
