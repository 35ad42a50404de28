"""The views of `prove`."""

from argparse import Namespace
from collections.abc import Iterable, Sequence
from pathlib import Path

from rabbet.cli.context import Context
from rabbet.cli.options import USUAL_LIMIT
from rabbet.cli.terminal.style import TableLine
from rabbet.core.needs.wording import specifiers_text
from rabbet.core.prove.newest import NewestAnswer
from rabbet.core.prove.requirements import LibraryBounds, Verdict
from rabbet.core.shell import joined_words, variant_option
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count
from rabbet.proving.bounds import Bounds, PythonProof
from rabbet.proving.everywhere import Cell, End, Row
from rabbet.proving.newest import KeptBack, Newest, RaiseStep
from rabbet.resolving.suggested_commands import command_for
from rabbet.tasks.drifting.prove import Costs
from rabbet.team.sheet import Cell as DrawnCell
from rabbet.team.sheet import Column, Line, Nouns, Sheet
from rabbet.workspace.session import Session

__all__ = [
    "MatrixPrinter",
    "bounds_outcome",
    "matrix_sheet",
    "outcome",
    "show_bounds",
    "show_everywhere",
    "show_newest",
    "show_steps",
]

_SHOWN = 4  # names in a sentence
_PROJECT = "the project"


def show_newest(found: Newest, costs: Costs, context: Context) -> None:
    """Print what is raised, what is kept back and why, and what that took."""
    rows = [("raised", change.name, change.good or "-", change.bad or "-") for change in found.raised]
    rows += [("kept back", one.name, one.stays or "-", one.newest or "-") for one in found.kept]
    if rows:
        tones = {"raised": context.style.good, "kept back": context.style.bad}
        context.show_table(("verdict", "library", "from", "to"), rows, tones=tones)
        context.show()
    for one in found.kept:
        context.show(_why(one))
        for line in one.lines if not one.because_of else ():
            context.show(f"  | {line}")
    for line in found.failure[-_SHOWN:]:
        context.show(f"  | {line}")
    for note in found.notes:
        context.show(note)
    if costs.environments:
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
        *(("--raise", *arguments.raising) if arguments.raising else ()),
        *(("--one-by-one",) if arguments.one_by_one else ()),
        *_options(arguments, more),
    ]
    return joined_words(["rabbet", "prove", "--newest", *options, *more, "--", *found.command])


def _options(arguments: Namespace, more: Sequence[str] = ()) -> list[str]:
    """The options that all kinds of proofs have, as they were given."""
    return [
        *(("--only", *arguments.only) if arguments.only else ()),
        *(("--variant", arguments.variant) if arguments.variant else ()),
        *(("--time-limit", str(arguments.time_limit)) if arguments.time_limit != USUAL_LIMIT else ()),
        *(("--repeat", str(arguments.repeat)) if arguments.repeat > 1 and "--repeat" not in more else ()),
        *(("--jobs", str(arguments.jobs)) if arguments.jobs > 1 else ()),
    ]


def show_bounds(found: Bounds, costs: Costs, context: Context) -> None:
    """Print what passes of each library and Python, what is false of the declaration, and what that took."""
    rows = [
        (
            str(library.name),
            ", ".join(specifiers_text(one.need.specifier) or "any" for one in library.declared),
            str(library.oldest),
            str(library.newest),
            _bound_text(library),
        )
        for library in found.libraries
    ]
    rows += [(f"python {proof.minor}", "", "", "", _python_text(proof)) for proof in found.pythons]
    if rows:
        context.show_table(("library", "declared", "oldest", "newest", "verdict"), rows)
        context.show()
    for line in found.failure[-_SHOWN:]:
        context.show(f"  | {line}")
    for reason in found.skipped:
        context.show(f"Not tried: {reason}.")
    if found.joint:
        context.show("The lowest releases that are allowed pass together.")
    for text in found.raised_for_joint:
        context.show(f"Together with the others it takes {text}.")
    if found.joint is None and found.libraries:
        context.show("The lowest releases that are allowed have no solution, so they were not tried.")
    if found.joint is False:
        context.show("The lowest releases that are allowed fail together; no declared bound mends that.")
    context.show(_costs(costs))
    context.show()


def _bound_text(library: LibraryBounds) -> str:
    told = {
        (Verdict.FALSE, 0): f"{library.below} fails",
        (Verdict.WIDER, 0): f"{library.oldest} would do",
        (Verdict.FALSE, 1): f"{library.above} fails",
        (Verdict.WIDER, 1): f"{library.newest} passes too",
    }
    parts = [told.get((library.lower, 0), ""), told.get((library.upper, 1), "")]
    return "; ".join(filter(None, parts)) or "true"


def _python_text(proof: PythonProof) -> str:
    if proof.passes is None:
        return f"not tried: {proof.reason}"
    return "passes" if proof.passes else "fails"


def bounds_outcome(found: Bounds, arguments: Namespace, *, written: bool) -> list[str]:
    """The last lines: what is to be declared, and what comes next."""
    if found.fails_now:
        return ["The command fails with the present lock already, so nothing can be proven with it."]
    if not found.edits:
        return [f"{'All bounds that were tried are true' if found.libraries else 'Nothing could be tried'}."]
    lines = [f"  {command_for([edit])}" for edit in found.edits]
    if written:
        return ["Declared:", *lines, "Next: rabbet resolve"]
    if arguments.plan:
        return ["To make the bounds true:", *lines, "Nothing was written."]
    again = joined_words(["rabbet", "prove", "--bounds", *_options(arguments), "--yes", "--", *found.command])
    return ["To make the bounds true:", *lines, "Nothing was written. To write it:", f"  {again}"]


class MatrixPrinter:
    """Prints the rows of a matrix as they come."""

    def __init__(self, variants: Sequence[str], context: Context) -> None:
        self._width = max(map(len, ("variant", _PROJECT, *variants)))
        self._context = context
        self._print("variant", "python", list(End))

    def row(self, row: Row) -> None:
        """Print one row."""
        self._print(row.variant or _PROJECT, row.python, [cell_word(cell) for cell in row.cells])

    def _print(self, variant: str, python: str, cells: Sequence[str]) -> None:
        columns = [f"{text:<6}" for text in cells]
        line = "  ".join([f"{variant:<{self._width}}", f"{python:<6}", *columns])
        self._context.show(TableLine(line.rstrip()))


def cell_word(cell: Cell) -> str:
    """A cell in one word."""
    return {True: "passes", False: "fails", None: "-"}[cell.passes]


def show_everywhere(rows: Sequence[Row], costs: Costs, drawn: Sequence[Path], context: Context) -> None:
    """Print the first output of each failure, why cells are empty, what that took, and the outcome."""
    context.show()
    failing = [(row, cell) for row in rows for cell in row.cells if cell.passes is False]
    for row, cell in failing:
        context.show(f"{_place(row)}, {cell.end}: {cell.ended}")
        for line in cell.lines[-_SHOWN:]:
            context.show(f"  | {line}")
    for reason, places in _untried(rows).items():
        context.show(f"Not tried: {some_of(places, _SHOWN)}: {reason}.")
    for path in drawn:
        context.show(f"Wrote {path}.")
    context.show(_costs(costs))
    context.show()
    context.show(matrix_outcome(rows))


def _untried(rows: Sequence[Row]) -> dict[str, list[str]]:
    """The places of empty cells by their reasons; a row without a single result is one place."""
    found: dict[str, list[str]] = {}
    for row in rows:
        reasons = {cell.reason for cell in row.cells}
        if len(reasons) == 1 and "" not in reasons:
            found.setdefault(reasons.pop(), []).append(_place(row))
            continue
        for cell in row.cells:
            if cell.reason:
                found.setdefault(cell.reason, []).append(f"{_place(row)}, {cell.end}")
    return found


def matrix_outcome(rows: Sequence[Row]) -> str:
    """One sentence on all cells."""
    cells = [cell for row in rows for cell in row.cells]
    tried = [cell for cell in cells if cell.passes is not None]
    failing = sum(cell.passes is False for cell in tried)
    untried = f"; {len(cells) - len(tried)} can't be made here" if len(tried) < len(cells) else ""
    if not tried:
        return "No combination can be made on this machine."
    if failing:
        return f"The command fails in {failing} of {count(len(tried), 'combination')}{untried}."
    return f"The command passes in {count(len(tried), 'combination')}{untried}."


def _place(row: Row) -> str:
    return f"{f'variant {row.variant}' if row.variant else _PROJECT} with Python {row.python}"


def matrix_sheet(rows: Sequence[Row], project: str, command: Sequence[str]) -> Sheet:
    """The matrix for the picture and the page."""
    ends = {
        End.LOWEST: "the lowest releases that are allowed",
        End.LOCKED: "the releases in the lock",
        End.NEWEST: "the newest releases that are allowed",
    }
    return Sheet(
        title=f"{project}: every combination that is promised",
        outcome=matrix_outcome(rows),
        legend="passes: exit code 0   fails: anything else   -: can't be made here",
        columns=tuple(Column(name=str(end), labels=(), text=text) for end, text in ends.items()),
        lines=tuple(
            Line(
                name=_place(row),
                breaking=sum(cell.passes is False for cell in row.cells),
                differing=0,
                cells=tuple(_drawn(cell) for cell in row.cells),
            )
            for row in rows
        ),
        doubts=(f"The command: {joined_words(command)}",),
        nouns=Nouns(row="combination", rows="combinations", member=""),
    )


def _drawn(cell: Cell) -> DrawnCell:
    weight = {True: "", False: "breaks", None: "unknown"}[cell.passes]
    detail = cell.reason or "\n".join([cell.ended or cell_word(cell), *cell.lines])
    return DrawnCell(text=cell_word(cell), weight=weight, detail=detail)
