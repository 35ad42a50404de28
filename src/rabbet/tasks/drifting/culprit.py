"""Which changed library makes a command fail: search, evidence, and what keeps it out."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from itertools import islice, product
from pathlib import Path
from time import monotonic

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.culprit.consistency import Consistency, in_order
from rabbet.core.culprit.mixture import Mixture, StateChange
from rabbet.core.culprit.outcome import Outcome, Runs, Symptom
from rabbet.core.culprit.verdict import CulpritVerdict, SearchAnswer, find_culprits
from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, Needed
from rabbet.errors import EnvironmentFailed, WrongUsage
from rabbet.proving.attempts import SEARCHES, Attempts, MixtureOracle
from rabbet.proving.evidence import keep_evidence
from rabbet.proving.keeping_out import KeptOut, kept_out
from rabbet.proving.runner import ABSENT, RunRecord, TestedCommand
from rabbet.proving.sides import sides_of
from rabbet.proving.two_states import TwoStates, two_states
from rabbet.python.formats.metadata import release_notes
from rabbet.workspace.machine import Machine
from rabbet.workspace.session import Session
from rabbet.workspace.states.states import ComparedState, read_state

__all__ = ["Case", "CulpritOptions", "culprit"]

_GOOD = Mixture()
_CHOICES = 4  # of what could be kept out; each is resolved


class CulpritOptions(Struct, frozen=True, kw_only=True):
    """The options of the command line.

    The failure is told by a `text` in the output or by an exit `code`. A command is run for so many `seconds`
    at most, `repeat` times in each mixture, `jobs` at once. `start_over` forgets what an interrupted search
    found.
    """

    text: str = ""
    code: int | None = None
    seconds: int
    repeat: int = 1
    jobs: int = 1
    start_over: bool = False
    keep: Path | None = None


class Case(Struct, frozen=True, kw_only=True):
    """A search's result, with the states it ran between, and how it ran.

    `tried` tells of each mixture how its runs ended. Of guilty releases there are addresses of
    `release_notes` where their metadata has some. Results of an interrupted search that were `recalled` were
    not run again.
    """

    good: str
    bad: str
    command: tuple[str, ...]
    changes: Mapping[NormalizedName, StateChange]
    verdict: CulpritVerdict
    tried: Mapping[Mixture, RunRecord]
    seconds: float
    recalled: int
    notes: tuple[str, ...]
    keeping: KeptOut | None = None
    release_notes: Mapping[NormalizedName, str] = field(default_factory=dict)
    kept: str = ""


def culprit(session: Session, good: str, bad: str, words: Sequence[str], options: CulpritOptions) -> Case:
    """Find what makes a command fail in the bad state and not in the good one.

    Raises what reading and installing states raises, `WrongUsage` for a folder that is to keep the evidence
    and is not empty, `CannotWrite`.
    """
    begun = monotonic()
    machine = session.machine
    _refuse_kept(options.keep)
    working = read_state(session, good)
    two = two_states(working, read_state(session, bad), session)
    command = TestedCommand(
        words=tuple(words),
        folder=machine.folder,
        symptom=Symptom(text=options.text, code=options.code),
        seconds=options.seconds,
        repeat=options.repeat,
    )
    attempts = Attempts(command, session, jobs=options.jobs, memory=SEARCHES, afresh=options.start_over)
    oracle = MixtureOracle(two, attempts, command.symptom)
    verdict = _searched(two, attempts, oracle, machine, options.jobs)
    attempts.forget()
    _refuse_absent(oracle.tried, two)
    case = Case(
        good=two.good.name,
        bad=two.bad.name,
        command=command.words,
        changes=two.changes,
        verdict=verdict,
        tried=oracle.tried,
        seconds=monotonic() - begun,
        recalled=attempts.recalled,
        notes=(*two.notes, *_notes(attempts, oracle.tried)),
    )
    if verdict.answer is not SearchAnswer.FOUND:
        return case
    if options.keep is not None:
        keep_evidence(two, verdict.culprits[0], command, options.keep, session)
        case = replace(case, kept=str(options.keep))
    helps = partial(_helps, working, replace(command, symptom=oracle.symptom), session)
    keeping = kept_out(_choices(verdict, two), helps, session, working.declaration)
    case = replace(case, keeping=keeping, seconds=monotonic() - begun)
    return _with_release_notes(case, two, machine)


def _helps(
    good: ComparedState, command: TestedCommand, session: Session, lock: Lock, declaration: Declaration
) -> bool:
    """Whether the command passes with a lock."""
    two = two_states(
        good, ComparedState(name="with the constraint", lock=lock, declaration=declaration), session
    )
    everything = frozenset(two.changes)
    attempts = Attempts(command, session, jobs=1, memory=SEARCHES)
    oracle = MixtureOracle(two, attempts, command.symptom)
    runs = oracle([everything], "does a constraint help?") if everything else [Runs(passed=1)]
    attempts.forget()
    return runs[0].outcome is Outcome.PASS


def _with_release_notes(case: Case, two: TwoStates, machine: Machine) -> Case:
    """The case with the addresses where guilty releases tell what is new in them."""
    culprits = case.verdict.culprits
    guilty = [two.changes[name] for culprit in culprits for name in sorted(culprit.guilty)]
    return replace(case, release_notes=dict(_release_notes(guilty, two, machine)))


def _refuse_kept(folder: Path | None) -> None:
    """Raise `WrongUsage` for a folder that can't take the evidence."""
    if folder is not None and (folder.is_file() or (folder.is_dir() and any(folder.iterdir()))):
        raise WrongUsage(f"{folder} is not empty", note="the two environments go into a new folder")


def _refuse_absent(tried: Mapping[Mixture, RunRecord], two: TwoStates) -> None:
    """Raise `EnvironmentFailed` for a command that is in neither state."""
    reasons = {tried[mixture].reason for mixture in (_GOOD, frozenset(two.changes)) if mixture in tried}
    if len(reasons) == 1 and any(reason.endswith(ABSENT) for reason in reasons):
        raise EnvironmentFailed(
            f"in both states {reasons.pop()}",
            note="the shell's own words, such as aliases and pipes, need a shell: sh -c '…'",
        )


def _searched(
    two: TwoStates, attempts: Attempts, oracle: MixtureOracle, machine: Machine, jobs: int
) -> CulpritVerdict:
    """Try both states, for then the store knows what each library needs, and search between them."""
    changes = frozenset(two.changes)
    states = [two.combination(_GOOD), two.combination(changes)]
    attempts.require(*states)
    if changes:
        attempts.prepare(states, ["trying the good state", "trying the bad state"])
    good, bad = sides_of(two, machine, oracle.wheel_of)
    return find_culprits(in_order(changes, good, bad), Consistency(good, bad, changes), oracle, jobs=jobs)


def _choices(verdict: CulpritVerdict, two: TwoStates) -> Iterator[list[StateChange]]:
    """Sets of changes to keep out, one group of each culprit; as many as are worth a try."""
    groups = [culprit.groups for culprit in verdict.culprits]
    for chosen in islice(product(*groups), _CHOICES):
        yield [two.changes[name] for name in sorted(_GOOD.union(*chosen))]


def _release_notes(
    guilty: Sequence[StateChange], two: TwoStates, machine: Machine
) -> Iterator[tuple[NormalizedName, str]]:
    """Where the releases that the bad state brought tell what is new in them (PEP 753)."""
    for change in guilty:
        item = two.bad.libraries.get(change.name)
        content = machine.metadata.recall(item.artifact.sha256) if isinstance(item, Needed) else None
        address = release_notes(content) if content else ""
        if address:
            yield change.name, address


def _notes(attempts: Attempts, tried: Mapping[Mixture, RunRecord]) -> Iterator[str]:
    if attempts.runner.changed_by_command:
        yield "the command changes the environment that it runs in: each run got a fresh one"
    reasons = Counter(record.reason for record in tried.values() if record.reason)
    for reason, times in reasons.items():
        yield f"in {times} of {len(tried)} environments nothing was learned: {reason}"
