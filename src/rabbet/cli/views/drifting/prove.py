"""The views of `prove`."""

from argparse import Namespace
from collections.abc import Iterable, Sequence

from rabbet.cli.context import Context
from rabbet.cli.options import USUAL_LIMIT
from rabbet.core.prove.newest import NewestAnswer
from rabbet.core.shell import joined_words, variant_option
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count
from rabbet.proving.newest import KeptBack, Newest, RaiseStep
from rabbet.tasks.drifting.prove import Costs
from rabbet.workspace.session import Session

__all__ = ["outcome", "show_newest", "show_steps"]

_SHOWN = 4  # names in a sentence


def show_newest(found: Newest, costs: Costs, context: Context) -> None:
    """Print what is raised, what is kept back and why, and what that took."""
    rows = [("raised", change.name, change.good or "-", change.bad or "-") for change in found.raised]
    kept = [kept for kept in found.kept if kept.stays != kept.newest]
    rows += [("kept back", one.name, one.stays or "-", one.newest or "-") for one in kept]
    if rows:
        tones = {"raised": context.style.good, "kept back": context.style.bad}
        context.show_table(("verdict", "library", "from", "to"), rows, tones=tones)
        context.show()
    for one in kept:
        context.show(_why(one))
        for line in one.lines if not one.because_of else ():
            context.show(f"  | {line}")
    for line in found.failure[-_SHOWN:]:
        context.show(f"  | {line}")
    for note in found.notes:
        context.show(note)
    context.show(_costs(costs))
    context.show()


def _why(kept: KeptBack) -> str:
    what = f"{kept.name} {kept.newest}" if kept.newest else f"without {kept.name}"
    if not kept.fails:
        return f"{what} has no solution with what is raised."
    if kept.because_of:
        return f"{what} is kept back because of {some_of(kept.because_of, _SHOWN)}."
    return f"{what} makes it fail: {kept.ended or 'tried'}."


def _costs(costs: Costs) -> str:
    known = f", {costs.recalled} of them known from before" if costs.recalled else ""
    runs = f"{count(costs.environments, 'environment')}, {count(costs.runs, 'run')}"
    return f"{runs}{known}, {costs.seconds:.1f} s"


def show_steps(steps: Iterable[RaiseStep], context: Context, *, quiet: bool) -> None:
    """Carry out the steps, and print each as it is committed."""
    for step in steps:
        moves = [f"{change.name} {change.bad or 'gone'}" for change in step.raised]
        if not quiet:
            context.show(f"Committed: {some_of(moves, _SHOWN)}.")


def outcome(found: Newest, arguments: Namespace, session: Session, *, written: bool) -> list[str]:
    """The last lines: what is proven, and what comes next."""
    file, answer = session.project.lock_file.name, found.verdict.answer
    if answer is NewestAnswer.NOTHING:
        return ["Nothing can be raised on this machine: the lock has the newest releases that are allowed."]
    if answer is NewestAnswer.FAILS_NOW:
        return ["The command fails with the present lock already, so nothing can be proven with it."]
    if answer is NewestAnswer.FLAKY:
        repeat = max(found.verdict.repeats, 2 * arguments.repeat, 10)
        told = "No verdict: the command passes at some times and fails at others. Try:"
        return [told, f"  {_again(found, arguments, ['--repeat', str(repeat)])}"]
    lines = ["To keep out what fails from now on:", f"  {found.limits}"] if found.limits else []
    if found.lock is None:
        return [*lines, "Nothing can be raised: the command fails with each raise."]
    if written:
        following = f"rabbet recreate{variant_option(session.project.variant)}"
        return [*lines, f"Wrote {file}; the command passes with it. Next: {following}"]
    if arguments.plan:
        return [*lines, "The command passes with these raises. Nothing was written."]
    return [*lines, "Nothing was written. To write it:", f"  {_again(found, arguments, ['--yes'])}"]


def _again(found: Newest, arguments: Namespace, more: Sequence[str]) -> str:
    """The same command line with more options."""
    options = [
        *(("--raise", *arguments.raised) if arguments.raised else ()),
        *(("--one-by-one",) if arguments.one_by_one else ()),
        *(("--variant", arguments.variant) if arguments.variant else ()),
        *(("--time-limit", str(arguments.time_limit)) if arguments.time_limit != USUAL_LIMIT else ()),
        *(("--repeat", str(arguments.repeat)) if arguments.repeat > 1 and "--repeat" not in more else ()),
        *(("--jobs", str(arguments.jobs)) if arguments.jobs > 1 else ()),
    ]
    return joined_words(["rabbet", "prove", "--newest", *options, *more, "--", *found.command])
