"""What `resolve` settled."""

from collections.abc import Mapping, Sequence

from packaging.utils import NormalizedName, canonicalize_name

from rabbet.cli.context import Context
from rabbet.cli.style import count, table
from rabbet.core.lock.moves import Move
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.target import Target
from rabbet.tasks.resolve import Resolved, Verdict

__all__ = ["document", "show", "show_verdict", "verdict_document"]

_SHOWN_REQUIRERS = 2
_SHOWN_NOTES = 4


def show(resolved: Resolved, declaration: Declaration, context: Context) -> None:
    """Print what moved and why, and what to do next."""
    locked = count(len(resolved.lock.libraries), "library")
    if resolved.untouched:
        context.show(
            f"pylock.toml is up to date: {locked} for {_targets(resolved.targets)}. Next: rabbet recreate"
        )
        return
    if resolved.moves:
        first = all(move.before is None for move in resolved.moves)
        for line in _first_lock(resolved, declaration, context) if first else _moves(resolved.moves, context):
            context.show(line)
        context.show()
    for note in resolved.passed_over[:_SHOWN_NOTES]:
        context.show(f"Passed over: {note}")
    if len(resolved.passed_over) > _SHOWN_NOTES:
        context.show(f"Passed over: {len(resolved.passed_over) - _SHOWN_NOTES} more releases (see --json)")
    for risk in resolved.also_known[:_SHOWN_NOTES]:
        context.show(f"Beware: {risk}.")
    if resolved.also_known:
        context.show("To settle where they come from: only = [NAMES] under a source in pyproject.toml.")
    if resolved.new_pins:
        context.show(
            f"Pinned by hand: {', '.join(resolved.new_pins)}. The lock pins everything already, also"
        )
        context.show("what these depend on. A few pins by hand age badly: better loosen them.")
    moved = "" if resolved.moves else ", no version moved"
    context.show(f"Locked {locked} for {_targets(resolved.targets)}{moved}. Next: rabbet recreate")


def show_verdict(verdict: Verdict, context: Context) -> None:
    """Print whether the lock is what the declaration asks for, and why not."""
    if not verdict.reasons:
        locked = count(len(verdict.lock.libraries), "library")
        context.show(f"pylock.toml is what the declaration asks for: {locked}.")
        return
    for reason in verdict.reasons:
        context.show(f"  {reason}")
    context.show()
    context.show("pylock.toml is not what the declaration asks for. To mend: rabbet resolve")


def _first_lock(resolved: Resolved, declaration: Declaration, context: Context) -> list[str]:
    asked = _asked_by(resolved, declaration)
    rows = [(move.name, _text(move.after), asked.get(move.name, "")) for move in resolved.moves]
    return table(("library", "locked", "asked for by"), rows, context.style)


def _moves(moves: Sequence[Move], context: Context) -> list[str]:
    rows = [(move.name, _text(move.before), _text(move.after), move.reason) for move in moves]
    return table(("library", "before", "locked", "because"), rows, context.style)


def _text(version: object) -> str:
    return "-" if version is None else str(version)


def _asked_by(resolved: Resolved, declaration: Declaration) -> Mapping[NormalizedName, str]:
    """For each locked library: the declaration (with the group), else the libraries that need it."""
    asked: dict[NormalizedName, str] = {}
    for library in resolved.lock.libraries:
        needed_by = [one.name for one in resolved.lock.libraries if library.name in one.dependencies]
        asked[library.name] = _some(needed_by)
    for one in declaration.declared():
        name = canonicalize_name(one.requirement.name)
        if one.group is None:
            asked[name] = declaration.name
        elif asked.get(name) != declaration.name:
            asked[name] = f"{declaration.name}, group {one.group}"
    return asked


def _targets(targets: Sequence[Target]) -> str:
    return str(targets[0]) if len(targets) == 1 else f"{len(targets)} targets"


def _some(names: Sequence[str]) -> str:
    more = len(names) - _SHOWN_REQUIRERS
    return ", ".join(names[:_SHOWN_REQUIRERS]) + (f" and {more} more" if more > 0 else "")


def document(resolved: Resolved) -> dict[str, object]:
    """The content of the JSON document."""
    return {
        "targets": [{"platform": one.platform, "python": str(one.python)} for one in resolved.targets],
        "untouched": resolved.untouched,
        "libraries": [
            {"name": one.name, "version": str(one.version), "dependencies": list(one.dependencies)}
            for one in resolved.lock.libraries
        ],
        "moves": [_move(move) for move in resolved.moves],
        "passed_over": list(resolved.passed_over),
        "also_known": list(resolved.also_known),
    }


def verdict_document(verdict: Verdict) -> dict[str, object]:
    """The content of the JSON document of `--verify`."""
    return {
        "verified": not verdict.reasons,
        "reasons": list(verdict.reasons),
        "moves": [_move(move) for move in verdict.moves],
    }


def _move(move: Move) -> dict[str, str | None]:
    return {
        "name": move.name,
        "before": None if move.before is None else str(move.before),
        "after": None if move.after is None else str(move.after),
        "reason": move.reason,
    }
