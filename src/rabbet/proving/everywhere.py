"""Every combination that a declaration promises and this machine can make: variants, Pythons, both ends."""

from collections.abc import Iterator, Sequence
from enum import StrEnum

from msgspec import Struct
from packaging.version import Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock
from rabbet.core.model.options import ResolveOptions
from rabbet.core.model.runtime import PythonRuntime
from rabbet.errors import RabbetError
from rabbet.proving.attempts import Attempts
from rabbet.proving.combination import Combination, combination_of
from rabbet.proving.edited_lock import EditedLocks
from rabbet.python.choosing.targets import target_of
from rabbet.runtimes.choose import newest_first
from rabbet.workspace.runtimes.pythons import own_target, pythons_of, targets_of_lock
from rabbet.workspace.session import Session

__all__ = ["Cell", "End", "Row", "rows_everywhere"]


class End(StrEnum):
    """The releases that a combination is made of."""

    LOWEST = "lowest"
    LOCKED = "locked"
    NEWEST = "newest"


_OPTIONS = {End.LOWEST: ResolveOptions(lowest=True), End.NEWEST: ResolveOptions(raise_all=True)}


class Cell(Struct, frozen=True, kw_only=True):
    """One combination: whether the command passes, or the `reason` why it can't be made here."""

    end: End
    passes: bool | None = None
    reason: str = ""
    ended: str = ""
    lines: tuple[str, ...] = ()


class Row(Struct, frozen=True, kw_only=True):
    """A variant (`None`: the project itself) with a version of Python, at both ends and as it is locked."""

    variant: str | None
    python: str
    cells: tuple[Cell, ...]


def rows_everywhere(session: Session, attempts: Attempts, *, jobs: int) -> Iterator[Row]:
    """Try everything, as many rows at a time as there are jobs for; each comes when it is done.

    Raises `NotUnderstood`, `CannotWrite`.
    """
    declaration = session.declaration()
    variants = [session.project.variant] if session.project.variant else [None, *sorted(declaration.variants)]
    todo = [row for variant in variants for row in _Variant(session.of(variant)).rows()]
    at_once = max(1, jobs // len(End))
    for start in range(0, len(todo), at_once):
        yield from _tried(todo[start : start + at_once], attempts)


_Wanted = tuple[str | None, str, dict[End, Combination | str]]


def _tried(rows: Sequence[_Wanted], attempts: Attempts) -> Iterator[Row]:
    """Rows whose combinations were tried."""
    able = [made for _, _, ends in rows for made in ends.values() if not isinstance(made, str)]
    told = ", ".join(f"{variant or 'the project'} with Python {python}" for variant, python, _ in rows)
    passed = iter(attempts.passes(able, told))
    for variant, python, ends in rows:
        cells = []
        for end, made in ends.items():
            if isinstance(made, str):
                cells.append(Cell(end=end, reason=made))
                continue
            passes, record = next(passed), attempts.record(made)
            if record is not None and record.reason and not passes:
                cells.append(Cell(end=end, passes=False, ended=record.reason))
                continue
            ended = ", ".join(dict.fromkeys(map(str, record.ends))) if record else ""
            lines = record.telling if record and not passes else ()
            cells.append(Cell(end=end, passes=passes, ended=ended, lines=lines))
        yield Row(variant=variant, python=python, cells=tuple(cells))


class _Variant:
    """One variant, or the project itself."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._declaration = session.declaration()
        self._here: dict[str, PythonRuntime] = {}
        for runtime in newest_first(pythons_of(session)):
            self._here.setdefault(runtime.minor, runtime)

    def rows(self) -> Iterator[_Wanted]:
        """What is to be tried with each Python of the lock, or why it can't be."""
        variant = self._session.project.variant
        try:
            lock = self._session.lock()
        except RabbetError as error:
            yield variant, "-", dict.fromkeys(End, str(error))
            return
        own = own_target(self._session.machine).platform
        targets = targets_of_lock(lock, self._declaration.baselines, self._session)
        minors = {
            f"{target.python.major}.{target.python.minor}" for target in targets if target.platform == own
        }
        for minor in sorted(minors, key=Version):
            python = self._here.get(minor)
            if python is None:
                reason = "this Python is not on this machine"
                yield variant, minor, dict.fromkeys(End, reason)
            else:
                yield variant, minor, {end: self._made(end, lock, python) for end in End}

    def _made(self, end: End, lock: Lock, python: PythonRuntime) -> Combination | str:
        """A combination, or why there is none."""
        try:
            found, declaration = self._locked(end, lock, python)
            return combination_of(found, declaration, python, self._session)
        except RabbetError as error:
            return "; ".join([str(error), *error.because[:1]])

    def _locked(self, end: End, lock: Lock, python: PythonRuntime) -> tuple[Lock, Declaration]:
        if end is End.LOCKED:
            return lock, self._declaration
        return EditedLocks(self._session).lock([], _OPTIONS[end], targets=[target_of(python)])
