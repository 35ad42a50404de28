"""The view of `culprit`."""

from argparse import Namespace
from collections.abc import Iterator, Sequence

from rabbet.cli.context import Context
from rabbet.cli.options import USUAL_LIMIT
from rabbet.core.culprit.mixture import Mixture, StateChange
from rabbet.core.culprit.outcome import Runs
from rabbet.core.culprit.search import Culprit
from rabbet.core.culprit.verdict import SearchAnswer
from rabbet.core.shell import joined_words, quoted
from rabbet.core.shown_text import some_of
from rabbet.documents.drifting.culprit import CulpritDocument, untried
from rabbet.proving.evidence import SCRIPT
from rabbet.tasks.drifting.culprit import Case

__all__ = ["CulpritView"]

_SHOWN = 6  # names in a sentence
_LINES = 4  # of output


class CulpritView(CulpritDocument, frozen=True):
    """The culprits and the innocent, how that was found out, and what keeps the culprits out."""

    arguments: Namespace

    def show(self, context: Context) -> None:
        """Print the table of what matters, then what is known of it, and last the verdict."""
        case = self.case
        rows = list(_rows(case))
        if rows:
            tones = {"guilty": context.style.bad, "suspect": context.style.warning}
            context.show_table(("verdict", "change", "good", "bad"), rows, tones=tones)
            context.show()
        output = list(_output(case))
        for text in (*output, *[""][: len(output)], *_proof(case), *case.notes, *_costs(case)):
            context.show(text)
        context.show()
        context.show(_outcome(case))
        for text in _next_steps(case, self.arguments):
            context.show(text)


def _rows(case: Case) -> Iterator[tuple[str, str, str, str]]:
    """The culprits, and what came along with them."""
    word = "guilty" if case.verdict.answer is SearchAnswer.FOUND else "suspect"
    for culprit in case.verdict.culprits:
        for verdict, names in (
            (word, culprit.guilty),
            ("unclear", culprit.unclear),
            ("needed", culprit.company - case.verdict.innocent),
        ):
            for name in sorted(names):
                change = case.changes[name]
                yield verdict, name, change.good or "-", change.bad or "-"


def _named(names: Mixture) -> str:
    """The first names, and how many more there are."""
    return some_of(sorted(names), _SHOWN)


def _output(case: Case) -> Iterator[str]:
    """The end of what the command printed where it fails."""
    failing = [culprit.failing for culprit in case.verdict.culprits] or [frozenset(case.changes), Mixture()]
    if case.verdict.answer in (SearchAnswer.FOUND, SearchAnswer.BOTH_FAIL, SearchAnswer.UNTELLABLE):
        shown = next((case.tried[mixture] for mixture in failing if mixture in case.tried), None)
        for line in shown.lines[-_LINES:] if shown else ():
            yield f"  | {line}"


def _proof(case: Case) -> Iterator[str]:
    """The runs that prove the result."""
    runs = dict(case.verdict.runs)
    for culprit in case.verdict.culprits:
        failed, passed = runs[culprit.failing], runs[culprit.passing]
        yield (
            f"the good state with {_counted(culprit.failing)} fails{_rate(failed)}, "
            f"with {_counted(culprit.passing)} it passes{_rate(passed)}"
        )
    rest = case.verdict.innocent
    if case.verdict.answer is SearchAnswer.FOUND and rest in runs and rest:
        yield f"with all other changes, {len(rest)} of {len(case.changes)}, it passes{_rate(runs[rest])}"
    if rest and case.verdict.culprits:
        yield f"innocent: {_named(rest)}"
    if untried(case) and case.verdict.culprits:
        yield f"neither guilty nor proven innocent: {_named(untried(case))}"
    for mixture in case.verdict.odd:
        yield f"with {_counted(mixture)} it passes all the same{_rate(runs[mixture])}: the others hide it"


def _counted(mixture: Mixture) -> str:
    return _named(mixture) if mixture else "none of the changes"


def _rate(runs: Runs) -> str:
    """How often, where that is worth telling."""
    return f" ({runs.failed} of {runs.total} runs failed)" if runs.total > 2 or runs.flaky else ""


def _costs(case: Case) -> Iterator[str]:
    if not case.tried:
        return
    runs = sum(len(tried.ends) for tried in case.tried.values())
    known = f", {case.recalled} of them known from before" if case.recalled else ""
    yield (
        f"{len(case.tried)} environments, {runs} runs{known}, {case.seconds:.1f} s for "
        f"{len(case.changes)} change{'s' if len(case.changes) != 1 else ''}"
    )


def _outcome(case: Case) -> str:
    """The verdict in one sentence."""
    changes, good, bad = case.changes, case.good, case.bad
    command = joined_words(case.command)
    ends = {
        number: ", ".join(dict.fromkeys(map(str, case.tried[mixture].ends)))
        for number, mixture in enumerate((Mixture(), frozenset(changes)))
        if mixture in case.tried
    }
    ended = f"{ends.get(0)} in {good} and {ends.get(1)} in {bad}"
    answer = case.verdict.answer
    if answer is SearchAnswer.FOUND:
        return _guilty(case)
    if answer is SearchAnswer.NO_DIFFERENCE:
        return f"Nothing that this machine would install differs between {good} and {bad}."
    if answer is SearchAnswer.FLAKY and any(runs.flaky for _, runs in case.verdict.runs):
        return f"No verdict: {command} fails at some times and passes at others in the same environment."
    if answer is SearchAnswer.FLAKY:
        return f"No verdict: what {command} did in different combinations contradict each other."
    return {
        SearchAnswer.BOTH_PASS: f"It passes in both states, {good} and {bad}:"
        " no library between them breaks it.",
        SearchAnswer.BOTH_FAIL: f"It fails in both states, {ended}: what breaks it is not between them.",
        SearchAnswer.REVERSED: f"It is the other way round: it fails in {good} and passes in {bad}.",
        SearchAnswer.UNTELLABLE: f"No verdict: it came to {ended},"
        " and one of these is neither pass nor failure.",
    }[answer]


def _guilty(case: Case) -> str:
    """Who did it."""
    told = [_told(culprit, case) for culprit in case.verdict.culprits]
    others = (
        "all other changes are innocent"
        if not untried(case)
        else "others are neither guilty nor proven innocent"
    )
    many = len(case.changes) > sum(len(culprit.guilty) for culprit in case.verdict.culprits)
    return f"{'; '.join(told)} made it fail{f'; {others}' if many else ''}."


def _told(culprit: Culprit, case: Case) -> str:
    groups = [" or ".join(_moved(case.changes[name]) for name in sorted(group)) for group in culprit.groups]
    joined = " together with ".join(groups)
    if any(len(group) > 1 for group in culprit.groups):
        joined += " (inseparable)"
    return joined


def _moved(change: StateChange) -> str:
    if not change.good:
        return f"{change.name} {change.bad}, which is new,"
    if not change.bad:
        return f"the loss of {change.name} {change.good}"
    after = (
        f"{change.bad} in place of {change.good}"
        if change.good != change.bad
        else f"{change.bad} with other files"
    )
    return f"{change.name} {after}"


def _next_steps(case: Case, arguments: Namespace) -> Iterator[str]:
    """The next steps: what to read, and what to do."""
    for name, address in case.release_notes.items():
        yield f"  release notes of {name}: {address}"
    if case.kept:
        yield f"  to see it: sh {quoted(f'{case.kept}/{SCRIPT}')}"
    keeping = case.keeping
    if keeping and keeping.command:
        instead = ", ".join(" ".join(bound) for bound in keeping.instead)
        yield f"  to keep it out{f', with {instead} instead' if instead else ''} (tried: it passes):"
        yield f"  {keeping.command}"
    elif keeping:
        yield f"  no constraint is known that helps: {keeping.reason}"
    answer = case.verdict.answer
    if answer is SearchAnswer.REVERSED:
        yield f"  try: {_again(arguments, case, swapped=True)}"
    elif answer is SearchAnswer.FLAKY:
        yield f"  try: {_again(arguments, case, repeat=max(case.verdict.repeats, 2 * arguments.repeat, 10))}"
    elif answer is SearchAnswer.BOTH_FAIL and arguments.exit_code is None:
        codes = [case.tried[mixture].ends[0].code for mixture in (Mixture(), frozenset(case.changes))]
        if codes[0] != codes[1] > 0:
            yield f"  if only the second is meant: {_again(arguments, case, code=codes[1])}"
    elif answer is SearchAnswer.BOTH_PASS and arguments.repeat == 1:
        yield f"  if it fails at times only: {_again(arguments, case, repeat=10)}"


def _again(
    arguments: Namespace, case: Case, *, repeat: int = 0, swapped: bool = False, code: int | None = None
) -> str:
    """The same command with one thing changed."""
    states: Sequence[tuple[str, str | None]] = [("--good", arguments.good), ("--bad", arguments.bad)]
    if swapped:
        states = [("--good", arguments.bad or case.bad), ("--bad", arguments.good)]
    options = [
        *states,
        ("--variant", arguments.variant),
        ("--fails-with", arguments.fails_with),
        ("--exit-code", arguments.exit_code if code is None else code),
        ("--time-limit", arguments.time_limit if arguments.time_limit != USUAL_LIMIT else None),
        ("--jobs", arguments.jobs if arguments.jobs > 1 else None),
        ("--repeat", repeat or (arguments.repeat if arguments.repeat > 1 else None)),
    ]
    words = [str(word) for name, value in options if value is not None for word in (name, value)]
    return joined_words(["rabbet", "culprit", *words, "--", *case.command])
