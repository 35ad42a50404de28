"""Raising as far as a command passes: from the present lock to the newest releases that work together."""

from collections.abc import Iterator, Sequence
from math import ceil, log2

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.culprit.consistency import PYTHON, Consistency, in_order
from rabbet.core.culprit.mixture import Mixture, StateChange
from rabbet.core.declaration.edit import Edit
from rabbet.core.model.lock import Lock
from rabbet.core.model.options import ResolveOptions
from rabbet.core.prove.newest import NewestAnswer, NewestVerdict, find_newest
from rabbet.errors import NoRuntime, NoSolution, SourceFailed
from rabbet.proving.attempts import Attempts, MixtureOracle
from rabbet.proving.edited_lock import EditedLocks
from rabbet.proving.keeping_out import edits_against
from rabbet.proving.sides import sides_of
from rabbet.proving.two_states import TwoStates, two_states
from rabbet.resolving.suggested_commands import command_for
from rabbet.workspace.session import Session
from rabbet.workspace.states.states import ComparedState

__all__ = ["KeptBack", "Newest", "RaiseStep", "newest", "single_raises"]

_NOW = Mixture()
_ALONE = 2  # bounds at most, where none is wider than the one at the good release


class KeptBack(Struct, frozen=True, kw_only=True):
    """A release that does not go along: the version that stays in its place, and what keeps it back.

    It fails by itself, `because_of` other raises that are kept back, or the solver refuses it where both are
    empty. `lines` are the end of what the command printed.
    """

    name: NormalizedName
    stays: str
    newest: str
    fails: bool
    because_of: tuple[NormalizedName, ...] = ()
    ended: str = ""
    lines: tuple[str, ...] = ()


class Newest(Struct, frozen=True, kw_only=True):
    """What was proven: the lock to write, where anything is raised; what is raised here, and kept back.

    `limits` is the command that declares bounds which keep out what fails; empty where there is none.
    """

    command: tuple[str, ...]
    verdict: NewestVerdict
    lock: Lock | None = None
    raised: tuple[StateChange, ...] = ()
    kept: tuple[KeptBack, ...] = ()
    limits: str = ""
    failure: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


class RaiseStep(Struct, frozen=True, kw_only=True):
    """Some raises that were proven together, and the lock with these and all before them."""

    raised: tuple[StateChange, ...]
    lock: Lock


def newest(session: Session, attempts: Attempts, names: Sequence[NormalizedName], *, jobs: int) -> Newest:
    """Raise everything, or these libraries, as far as the command passes; nothing is written.

    Raises `NoLock`, what resolving raises, and what making the environment of the present lock raises.
    """
    return _Work(session, attempts, names, jobs).found()


def single_raises(session: Session, attempts: Attempts, lock: Lock) -> Iterator[RaiseStep]:
    """One raise after the other, until the locks' difference is done; each step was proven to pass.

    Raises that fail one by one come last, together. Raises as `newest`.
    """
    work = _Work(session, attempts, (), 1)
    two = work.between(lock)
    changes = frozenset(two.changes)
    good, bad = sides_of(two, session.machine, lambda *_: None)
    mixing, done = Consistency(good, bad, changes), _NOW
    for name in in_order(changes, good, bad):
        mixture = mixing.least(done | {name}, changes)
        if name in done or mixture is None or mixture == done:
            continue
        if work.passes(two, mixture, f"{name} {two.changes[name].bad or 'is dropped'}"):
            raised = tuple(two.changes[one] for one in sorted(mixture - done))
            step = lock if mixture == changes else work.exactly(two, mixture)
            if step is not None:
                done = mixture
                yield RaiseStep(raised=raised, lock=step)
    if done != changes:
        yield RaiseStep(raised=tuple(two.changes[one] for one in sorted(changes - done)), lock=lock)


class _Work:
    """One run, from the present lock."""

    def __init__(
        self, session: Session, attempts: Attempts, names: Sequence[NormalizedName], jobs: int
    ) -> None:
        self._session = session
        self._attempts = attempts
        self._jobs = jobs
        self._locks = EditedLocks(session)
        self._present = session.lock()
        self._options = ResolveOptions(raise_all=not names, raised=tuple(names))

    def between(self, lock: Lock) -> TwoStates:
        """The present lock and another one, on this machine."""
        declaration = self._session.declaration()
        now = ComparedState(name="the lock", lock=self._present, declaration=declaration)
        after = ComparedState(name="everything raised", lock=lock, declaration=declaration)
        return two_states(now, after, self._session)

    def passes(self, two: TwoStates, mixture: Mixture, purpose: str) -> bool:
        """Whether the command passes in a mixture."""
        return self._attempts.passes([two.combination(mixture)], purpose)[0]

    def found(self) -> Newest:
        """Search, and find a lock that holds what passes."""
        words = self._attempts.runner.command.words
        self._session.observer.stage("resolving with everything raised")
        raised, _ = self._locks.lock([], self._options)
        two = self.between(raised)
        verdict, oracle = self._searched(two)
        if verdict.answer in (NewestAnswer.NOTHING, NewestAnswer.FAILS_NOW, NewestAnswer.FLAKY):
            record = oracle.tried.get(_NOW)
            failed = verdict.answer is NewestAnswer.FAILS_NOW and record
            failure = (record.lines or (record.reason,)) if failed and record else ()
            return Newest(command=words, verdict=verdict, failure=failure, notes=two.notes)
        lock, limits = (raised, ()) if verdict.answer is NewestAnswer.ALL else self._held_back(two, verdict)
        done = self.between(lock)
        return Newest(
            command=words,
            verdict=verdict,
            lock=lock if done.changes else None,
            raised=tuple(done.changes.values()),
            kept=tuple(_kept(two, verdict, oracle, done)),
            limits=command_for(limits) if limits else "",
            notes=two.notes,
        )

    def _searched(self, two: TwoStates) -> tuple[NewestVerdict, MixtureOracle]:
        """Try what is locked and everything raised, and search between them."""
        changes = frozenset(two.changes)
        states = [two.combination(_NOW), two.combination(changes)]
        self._attempts.require(states[0])
        oracle = MixtureOracle(two, self._attempts, self._attempts.runner.command.symptom)
        if changes and self._jobs > 1:
            self._attempts.prepare_at_once(states, "trying what is locked, and everything raised")
        elif changes:
            self._attempts.prepare(states[:1], ["trying what is locked"])
            if self._attempts.passed(states[0]):
                self._attempts.prepare(states[1:], ["trying everything raised"])
        good, bad = sides_of(two, self._session.machine, oracle.wheel_of)
        order = in_order(changes, good, bad)
        return find_newest(order, Consistency(good, bad, changes), oracle, jobs=self._jobs), oracle

    def _held_back(self, two: TwoStates, verdict: NewestVerdict) -> tuple[Lock, tuple[Edit, ...]]:
        """A lock with what passes; where a wider bound admits releases between the two, with these."""
        guilty = [two.changes[name] for group in verdict.guilty for name in sorted(group)]
        declaration = self._session.declaration()
        ways = [list(edits_against(change, declaration)) for change in guilty]
        chosen = [edits[1] if len(edits) > _ALONE else edits[0] for edits in ways]
        lock, content = self._proven(chosen, two.combination(verdict.passing).content)
        if lock is None:
            exact = self.exactly(two, verdict.passing)
            if exact is None:
                raise NoSolution(
                    "no lock holds just what passes on this machine",
                    note="its other targets, or other bounds of the declaration, ask for something else",
                    remedy="rabbet resolve --raise-all --plan",
                )
            return exact, ()
        most = 3 + len(guilty) * (3 + ceil(log2(len(two.changes))))  # with several at once more are tried
        for number, edits in enumerate(ways):
            if edits[0] != chosen[number]:
                wider = [*chosen[:number], edits[0], *chosen[number + 1 :]]
                trying = self._jobs > 1 or self._attempts.environments < most
                found, after = self._proven(wider, content, trying=trying)
                if found is not None:
                    lock, content, chosen = found, after, wider
        return lock, tuple(chosen)

    def _proven(
        self, edits: Sequence[Edit], known: object, *, trying: bool = True
    ) -> tuple[Lock | None, object]:
        """The lock under bounds, and what it comes to here, if that is known to pass or does so now."""
        lock = self._resolved(edits)
        if lock is None:
            return None, known
        after = self.between(lock)
        everything = frozenset(after.changes)
        content = after.combination(everything).content
        told = "does a release between them pass?"
        passes = content == known or (trying and self.passes(after, everything, told))
        return (lock if passes else None), content

    def exactly(self, two: TwoStates, mixture: Mixture) -> Lock | None:
        """A lock that holds a mixture that passes, or else passes as well; `None` where there is none."""
        edits = []
        for name, change in two.changes.items():
            version = change.bad if name in mixture else change.good
            if version and name != PYTHON and not name.startswith("runtime "):
                edits.append(Edit(verb="declare", what="limit", value=f"{name}=={version}"))
        return self._proven(edits, two.combination(mixture).content)[0]

    def _resolved(self, edits: Sequence[Edit]) -> Lock | None:
        """The lock under further bounds, as the declaration alone has it; `None` without a solution."""
        try:
            lock, _ = self._locks.lock(edits, self._options)
            return self._locks.lock([], earlier=[lock])[0]
        except (NoSolution, NoRuntime, SourceFailed):
            return None


def _kept(
    two: TwoStates, verdict: NewestVerdict, oracle: MixtureOracle, done: TwoStates
) -> Iterator[KeptBack]:
    """What does not go along, with the reason."""
    guilty = frozenset().union(*verdict.guilty)
    versions = {name: str(item.locked.version) for name, item in done.bad.libraries.items()}
    for name, failing in verdict.kept.items():
        change = two.changes[name]
        stays = versions.get(name, "") if name in versions or not name.startswith("runtime ") else change.good
        if stays == change.bad:
            continue
        record = None if failing is None else oracle.tried.get(failing)
        others = tuple(sorted((failing or _NOW) & guilty - {name}))
        ended = (record.reason or ", ".join(dict.fromkeys(map(str, record.ends)))) if record else ""
        yield KeptBack(
            name=name,
            stays=stays,
            newest=change.bad,
            fails=failing is not None,
            because_of=() if name in guilty else others,
            ended=ended,
            lines=record.telling if record else (),
        )
