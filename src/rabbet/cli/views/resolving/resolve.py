"""The view of `resolve`."""

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import TypeAlias

from rabbet.cli.context import Context
from rabbet.cli.views.drifting.rules import broken_lines, mend_text
from rabbet.cli.views.recreating.unchanged import show_up_to_date
from rabbet.core.graph.graph import asked_for_by
from rabbet.core.lock.version_changes import Move
from rabbet.core.model.lock import Lock, runtime_name
from rabbet.core.model.target import targets_text
from rabbet.core.rules.breach import refusing
from rabbet.core.shell import variant_option
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count
from rabbet.documents.resolving.resolve import ResolvedDocument, VerdictsDocument
from rabbet.tasks.resolving.resolve import LockVerdict, Resolved, up_to_date_lock

__all__ = ["ResolvedView", "VerdictsView", "locked_text"]

Rows: TypeAlias = tuple[tuple[str, ...], Sequence[tuple[str, ...]]]
"""The headings of a table, and its rows."""

_SHOWN_REQUIRERS = 2
_SHOWN_NOTES = 4
_SECTION = r"'[^']+' in (?:extras|dependency_groups)"
_SECTIONS = re.compile(rf"(?:^| and )\(?{_SECTION}(?: or {_SECTION})*\)?\Z")


class ResolvedView(ResolvedDocument, frozen=True):
    """The new locks: that of the declaration itself first, then those of its variants.

    It was `written` or not; what comes next is told unless the command is `going_on` to it, or asks about
    what is `planned`.
    """

    going_on: bool = False
    planned: bool = False

    def show(self, context: Context) -> None:
        """Print of each lock what moved and why, and what to do next."""
        for resolved in self.resolved:
            _show(
                resolved,
                self.resolved[0].lock,
                context,
                written=self.written,
                going_on=self.going_on or self.planned,
            )
            for line in broken_lines(resolved.broken):
                context.show(line)
            mend = mend_text(resolved.broken, resolved.variant)
            if mend:
                context.show(mend)


class VerdictsView(VerdictsDocument, frozen=True):
    """Whether locks are what the declaration asks for, and why not."""

    def show(self, context: Context) -> None:
        """Print what speaks against each, and the outcome."""
        for verdict in self.verdicts:
            _show_verdict(verdict, context)


def _show(resolved: Resolved, own: Lock, context: Context, *, written: bool, going_on: bool) -> None:
    """Print one lock; `own` is that of the declaration itself."""
    for name in resolved.unused_checkouts:
        context.show(f"The checkout {resolved.declaration.local[name]} is not used: nothing requires {name}.")
    if resolved.untouched:
        if not going_on:
            show_up_to_date(up_to_date_lock(resolved), context)
        return
    if resolved.variant:
        context.show()
        context.show(f"The variant {resolved.variant}:")
    if resolved.merged:
        context.show(f"{resolved.file} was an unfinished merge: the versions of both sides were kept")
        context.show("where they could be, of two the newer one.")
        context.show()
    if resolved.unread:
        context.show(f"{resolved.file} could not be read: {resolved.unread}.")
        context.show("It is written whole again; versions that it names were kept where they could be.")
        context.show()
    if resolved.edited:
        told = ", ".join(resolved.edited)
        context.show(f"{resolved.file} was edited by hand since it was resolved: {told}.")
        context.show("It is written whole again.")
        context.show()
    for reason, targets in _left_out(resolved.lock).items():
        context.show(f"Not locked for {', '.join(targets)}: {reason}.")
    if resolved.moves:
        headings, rows = _moved(resolved, own)
        if rows:
            context.show_table(headings, rows)
        else:
            context.show("Every version is that of the project's own lock.")
        context.show()
    for line in _notes(resolved):
        context.show(line)
    _show_lost(resolved, context)
    following = "" if going_on else f" Next: rabbet recreate{variant_option(resolved.variant)}"
    following = following if written or going_on else " Nothing was written."
    context.show(locked_text(resolved, written=written) + following)


def locked_text(resolved: Resolved, *, written: bool = True) -> str:
    """One sentence on a lock that was written, or would be."""
    into = f" in {resolved.file}" if resolved.variant else ""
    locked = count(len(resolved.lock.versions), "library")
    others = len(resolved.lock.runtimes) - 1
    locked += f" and {count(others, 'runtime')}" if others > 0 else ""
    targets = targets_text(resolved.targets)
    verb = "Locked" if written else "Would lock"
    return f"{verb} {locked} for {targets}{into}{_against_before(resolved)}."


def _left_out(lock: Lock) -> Mapping[str, list[str]]:
    """The targets without a solution, by the reason."""
    found: dict[str, list[str]] = {}
    for text in lock.left_out:
        target, _, reason = text.partition(": ")
        found.setdefault(reason, []).append(target)
    return found


def _against_before(resolved: Resolved) -> str:
    """The numbers of changes since the lock before."""
    if not resolved.moves:
        return ", no version moved"
    if all(move.before is None for move in resolved.moves):
        return ""
    counts: Counter[str] = Counter()
    for move in resolved.moves:
        if move.before is None or move.after is None:
            counts["added" if move.before is None else "removed"] += 1
        else:
            counts["raised" if move.after > move.before else "lowered"] += 1
    return ": " + ", ".join(
        f"{counts[move]} {move}" for move in ("raised", "lowered", "added", "removed") if counts[move]
    )


def _show_lost(resolved: Resolved, context: Context) -> None:
    """Tell of targets that were served before, and no longer are."""
    if resolved.lost:
        context.show(f"The lock covers this machine, and no longer {' and '.join(resolved.lost)}.")
        if resolved.serving_too:
            context.show(f"To lock for both: {resolved.serving_too}")


def _notes(resolved: Resolved) -> Iterator[str]:
    """Notes on the lock besides its changes."""
    for version in resolved.not_preferred:
        yield f"Preferred version not used: {version}."
    yield from _yanked_notes(resolved.lock)
    for extra in resolved.unknown_extras:
        yield f"Warning: {extra}, although it is required."
    for need in resolved.by_patch[:_SHOWN_NOTES]:
        yield f"Depends on the patch release of Python: {need}."
    if resolved.told_here:
        yield f"Asked with {resolved.asked_with}, and taken for all targets: {_listed(resolved.told_here)}."
    if resolved.file_clash:
        yield f"Warning: {resolved.file_clash}. `rabbet recreate` will refuse that."
    for note in resolved.passed_over[:_SHOWN_NOTES]:
        yield f"Passed over: {note}"
    if len(resolved.passed_over) > _SHOWN_NOTES:
        yield f"Passed over: {len(resolved.passed_over) - _SHOWN_NOTES} more (see --json)"
    for risk in resolved.new_sources[:_SHOWN_NOTES]:
        yield f"Warning: {risk}."
    if resolved.new_sources:
        yield "To settle where they come from: only = [NAMES] under a source in pyproject.toml."
    yield from _notes_of_sources(resolved)
    if resolved.new_pins:
        yield f"Pinned by hand: {', '.join(resolved.new_pins)}. The lock pins everything already, also"
        yield "what these depend on. Consider looser constraints."


def _notes_of_sources(resolved: Resolved) -> Iterator[str]:
    """Notes that come from the sources' data on files, and from the releases' metadata."""
    for correction in resolved.unused_corrections:
        yield f"No longer needed, because it changes nothing: the correction {correction}."
    for source in resolved.unhashed:
        yield f"Warning: '{source}' lists files without sha256; they were fetched, and locked as they came."


def _listed(builds: Sequence[str]) -> str:
    """The first of some builds, and how many more there are."""
    shown = some_of(builds, _SHOWN_NOTES)
    return f"what the build of {shown} needs" if len(builds) == 1 else f"what the builds of {shown} need"


def _yanked_notes(lock: Lock) -> Iterator[str]:
    """The locked releases that their source withdrew, which only a pin lets in."""
    for library in lock.libraries:
        if library.yanked is not None:
            reason = library.yanked or "no reason is given"
            yield f"Warning: {library.name} {library.version} was yanked: {reason}."


def _show_verdict(verdict: LockVerdict, context: Context) -> None:
    """Print whether the lock is what the declaration asks for, and why not."""
    for note in _yanked_notes(verdict.settled):
        context.show(note)
    if not verdict.reasons:
        locked = count(len(verdict.lock.versions), "library")
        context.show(f"{verdict.file} is what the declaration asks for: {locked}.")
        return
    for reason in verdict.reasons:
        context.show(f"  {reason}")
    context.show()
    command = "rabbet resolve" if verdict.noticed else "rabbet resolve --fresh-listings"
    if refusing(verdict.broken) and len(verdict.reasons) == len(refusing(verdict.broken)):
        context.show(f"{verdict.file} breaks a rule. {mend_text(verdict.broken, verdict.variant)}")
        return
    context.show(f"{verdict.file} is not what the declaration asks for. To mend: {command}")


def _moved(resolved: Resolved, own: Lock) -> Rows:
    """The changed libraries; all of a first lock, and of a variant's first lock the differences."""
    if any(move.before is not None for move in resolved.moves):
        return _moves(resolved.moves)
    return _apart(resolved, own) if resolved.variant else _first_lock(resolved)


def _apart(resolved: Resolved, own: Lock) -> Rows:
    versions = [_versions(own), _versions(resolved.lock)]
    names = sorted({*versions[0], *versions[1]})
    rows = [(name, *(version.get(name, "-") for version in versions)) for name in names]
    apart = [row for row in rows if row[1] != row[2]]
    return ("library", "locked", resolved.variant or ""), apart


def _versions(lock: Lock) -> Mapping[str, str]:
    """The versions of each library, of several for different targets all."""
    found: dict[str, str] = {}
    for library in lock.libraries:
        found[library.name] = (
            f"{found[library.name]}, {library.version}" if library.name in found else str(library.version)
        )
    return found


def _first_lock(resolved: Resolved) -> Rows:
    asked = asked_for_by(resolved.lock.libraries, resolved.declaration)
    declared = {runtime.language for runtime in resolved.declaration.runtimes}
    for runtime in resolved.lock.runtimes:
        who = resolved.declaration.name if runtime.language in declared else "another runtime"
        asked[runtime_name(runtime.language)] = [who]
    where = {
        (str(library.name), str(library.version)): _where(library.marker or "")
        for library in resolved.lock.libraries
    }
    rows = []
    for move in resolved.moves:
        here = where.get((move.name, str(move.after)), "")
        who = some_of(asked.get(move.name, []), _SHOWN_REQUIRERS)
        rows.append((move.name, _text(move.after), f"{who}, where {here}" if here else who))
    return ("library", "locked", "asked for by"), rows


def _where(marker: str) -> str:
    """On which targets an entry of the lock counts, whatever sections ask for it; empty for all of them."""
    targets = _SECTIONS.sub("", marker)
    return "" if "' in " in targets else targets


def _moves(moves: Sequence[Move]) -> Rows:
    rows = [(move.name, _text(move.before), _text(move.after), move.reason) for move in moves]
    return ("library", "before", "locked", "because"), rows


def _text(version: object) -> str:
    return "-" if version is None else str(version)
