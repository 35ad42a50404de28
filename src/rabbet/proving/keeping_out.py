"""The constraint that keeps guilty releases out, tried with the solver and with the command."""

from collections.abc import Callable, Iterable, Iterator, Sequence

from msgspec import Struct
from packaging.specifiers import SpecifierSet

from rabbet.core.culprit.consistency import PYTHON
from rabbet.core.culprit.mixture import StateChange, bounds_without
from rabbet.core.declaration.edit import Edit
from rabbet.core.declaration.model import Declaration, Section
from rabbet.core.model.lock import Lock, runtime_name
from rabbet.core.needs.wording import need_text, specifiers_text
from rabbet.core.shell import variant_option
from rabbet.errors import NoRuntime, NoSolution, RabbetError
from rabbet.proving.edited_lock import EditedLocks
from rabbet.resolving.suggested_commands import command_for
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session

__all__ = ["KeptOut", "edits_against", "is_there", "kept_out"]

_RUNTIME = "runtime "


class KeptOut(Struct, frozen=True, kw_only=True):
    """The command that keeps the guilty releases out, and what is locked in their place, by name.

    With that the command that failed was tried, and passed. Without a command, there is the reason why none
    is known.
    """

    command: str = ""
    instead: tuple[tuple[str, str], ...] = ()
    reason: str = ""


def kept_out(
    choices: Iterable[Sequence[StateChange]],
    helps: Callable[[Lock, Declaration], bool],
    session: Session,
    before: Declaration | None = None,
) -> KeptOut:
    """The first constraint with which the project has a solution that `helps`.

    Each of the `choices` are changes that would have to be kept out, the first of them before others. Where
    no constraint helps, it may have been the declaration itself: then what it said `before` is tried.
    """
    project, trial = session.project, EditedLocks(session)
    reason = ""
    for guilty in choices:
        for edits in (*_ways(guilty, project.declaration()), *_as_before(guilty, before, project)):
            command = command_for(edits)
            try:
                lock, declaration = trial.lock(edits)
            except (NoSolution, NoRuntime):
                reason = reason or f"there is no solution with {_constraint(edits)}"
                continue
            except RabbetError as error:  # such as an index that is not reached
                return KeptOut(reason=str(error))
            if any(is_there(lock, change) for change in guilty):
                continue
            instead = _instead(lock, guilty)
            if helps(lock, declaration):
                variant = variant_option(project.variant)
                return KeptOut(
                    command=f"{command} && rabbet resolve && rabbet recreate{variant}", instead=instead
                )
            told = ", ".join(" ".join(bound) for bound in instead)
            reason = f"with {_constraint(edits)} it fails too ({told or 'nothing comes instead'})"
    return KeptOut(reason=reason or "nothing in the declaration decides on it")


def _constraint(edits: Iterable[Edit]) -> str:
    return " and ".join(edit.value for edit in edits)


def _as_before(
    guilty: Sequence[StateChange], before: Declaration | None, project: Project
) -> Iterator[tuple[Edit, ...]]:
    """The edits that declare again what was declared: of guilty libraries alone, then of all."""
    if before is None or project.variant is not None:
        return
    earlier, now = _by_place(before), _by_place(project.declaration())
    changed = [place for place in sorted({*earlier, *now}, key=str) if earlier.get(place) != now.get(place)]
    names = {change.name for change in guilty}
    for places in ([place for place in changed if place[1] in names], changed):
        edits = [
            Edit(verb="declare", what="library", value=earlier[place], section=place[0], exactly=place in now)
            if place in earlier
            else Edit(verb="retract", what="library", value=place[1], section=place[0])
            for place in places
        ]
        if edits:
            yield tuple(edits)


def _by_place(declaration: Declaration) -> dict[tuple[Section | None, str], str]:
    """What is required of each library, by the section and the library's name."""
    return {
        (requirement.section, requirement.need.name): need_text(requirement.need, whole=True)
        for requirement in declaration.declared()
    }


def _instead(lock: Lock, guilty: Iterable[StateChange]) -> tuple[tuple[str, str], ...]:
    """The versions in a lock in place of guilty releases."""
    names = {change.name for change in guilty}
    found: list[tuple[str, str]] = [
        (library.name, str(library.version)) for library in lock.libraries if library.name in names
    ]
    found += [
        (runtime.language, str(runtime.version))
        for runtime in lock.runtimes
        if runtime_name(runtime.language) in names
    ]
    return tuple(found)


def _ways(guilty: Sequence[StateChange], declaration: Declaration) -> Iterator[tuple[Edit, ...]]:
    """The edits that keep all of these out, the widest bounds first; those that are short of ways repeat."""
    each = [list(edits_against(change, declaration)) for change in guilty]
    for number in range(max(map(len, each))):
        yield tuple(edits[min(number, len(edits) - 1)] for edits in each)


def edits_against(change: StateChange, declaration: Declaration) -> Iterator[Edit]:
    """The edits of which each keeps a change out, by the bounds of `bounds_without`."""
    if not change.bad:
        yield Edit(verb="declare", what="library", value=f"{change.name}>={change.good}")
        return
    for bound in bounds_without(change):
        known = _beside(bound, _declared(change, declaration))
        before = f"{specifiers_text(known)}," if known else ""
        if change.name.startswith(_RUNTIME):
            language = change.name.removeprefix(_RUNTIME)
            yield Edit(verb="declare", what="runtime", value=f"{language}{before}{bound}")
        else:
            yield Edit(verb="declare", what="limit", value=f"{change.name}{before}{bound}")


def _beside(bound: str, known: SpecifierSet | None) -> SpecifierSet:
    """The declared bounds without those that a narrower one makes redundant."""
    kept = (clause for clause in known or () if bound[0] not in "<>" or clause.operator[0] != bound[0])
    return SpecifierSet(",".join(map(str, kept)))


def _declared(change: StateChange, declaration: Declaration) -> SpecifierSet | None:
    """The present bounds in the place of the new one."""
    if change.name == PYTHON:
        return declaration.python
    known: dict[str, SpecifierSet] = {limit.name: limit.specifier for limit in declaration.limits}
    known |= {f"{_RUNTIME}{runtime.language}": runtime.versions for runtime in declaration.runtimes}
    return known.get(change.name)


def is_there(lock: Lock, change: StateChange) -> bool:
    """Whether a lock has what a change brings; or still lacks what it took away."""
    if change.name.startswith(_RUNTIME):
        language = change.name.removeprefix(_RUNTIME)
        return any(
            runtime.language == language and str(runtime.version) == change.bad for runtime in lock.runtimes
        )
    versions = {str(library.version) for library in lock.libraries if library.name == change.name}
    return change.bad in versions if change.bad else not versions
