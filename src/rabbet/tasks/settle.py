"""Solving all targets of a declaration, and what to say when one has no solution."""

import difflib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import Version

from rabbet.core.lock.build import Solved, build_lock
from rabbet.core.lock.moves import Move, explained_moves
from rabbet.core.lock.select import needed, serves
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock, LockedRuntime
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.model.target import Target
from rabbet.core.solve.policy import Policy
from rabbet.core.solve.prose import explained
from rabbet.core.solve.solver import Refutation, solve
from rabbet.core.solve.suggest import suggestions
from rabbet.core.targets import target_of
from rabbet.errors import NoSolution
from rabbet.runtimes.choose import newest_first
from rabbet.sources.catalogue import Catalogue
from rabbet.tasks.advice import command_for
from rabbet.tasks.catalogue import open_catalogue
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project
from rabbet.tasks.runtime import found_runtimes, targets_for

__all__ = ["Aim", "Settlement", "settle"]

_MOST_OTHER_TARGETS = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class Aim:
    """What is wanted besides the declaration.

    `raised` libraries may leave their locked version; `afresh` frees everything, the runtime too. `lowest`
    asks for the lowest allowed release of each declared library. Nothing uploaded after `as_of` exists.
    """

    raised: frozenset[NormalizedName] = frozenset()
    afresh: bool = False
    lowest: bool = False
    as_of: datetime | None = None

    @property
    def plain(self) -> bool:
        """Whether nothing but the declaration is asked for."""
        return not (self.raised or self.afresh or self.lowest or self.as_of)

    @property
    def reason(self) -> str:
        """Why a library moved, where everything is free to move and nobody's requirement explains it."""
        if self.lowest:
            return "the lowest that is allowed"
        if self.as_of is not None:
            return f"the newest on {self.as_of:%Y-%m-%d}"
        return "raised on purpose" if self.afresh else ""

    @property
    def keeps(self) -> bool:
        """Whether what is locked stays where it can."""
        return not (self.afresh or self.lowest or self.as_of)


@dataclass(frozen=True, slots=True, kw_only=True)
class Settlement:
    """What resolving came to, before anything is written."""

    lock: Lock
    moves: tuple[Move, ...]
    passed_over: tuple[str, ...]
    also_known: Mapping[NormalizedName, tuple[str, ...]]
    taken_from: Mapping[NormalizedName, str]


def settle(
    project: Project,
    machine: Machine,
    observer: Observer,
    runtime: PythonRuntime,
    before: Lock | None,
    aim: Aim,
) -> Settlement:
    """Solve every target, and put the solutions into one lock; nothing is written.

    Raises `NoSolution` with the reasons and with changes that help, `SourceFailed`, `IntegrityFailed`.
    """
    declaration = project.declaration()
    targets = targets_for(declaration, runtime)
    policy = _policy(declaration, before, targets[0], aim)
    with open_catalogue(project, machine, targets[0], policy, observer) as catalogue:
        observer.stage("reading listings and metadata")
        outcome = _settle_all(declaration, catalogue, targets, before, aim)
        if isinstance(outcome, _Unsolved):
            raise _no_solution(outcome, declaration, machine, observer)
        settled, moves = outcome
        chosen = {(name, one.version): one for part in settled for name, one in part.solution.chosen.items()}
        also_known = catalogue.also_known(chosen.values())
    lock = build_lock(
        declaration, _locked_runtime(runtime, before if aim.keeps else None), settled, catalogue.indexes
    )
    highest = lock.versions
    return Settlement(
        lock=replace(lock, also_known=tuple(sorted(also_known))),
        moves=moves,
        passed_over=tuple(
            f"{name} {version}: {reason}"
            for (name, version), reason in sorted(catalogue.set_aside.items())
            if name in highest and version > highest[name]
        ),
        also_known=also_known,
        taken_from={name: one.wheels[0].source for (name, _), one in chosen.items()},
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class _Unsolved:
    """A target without a solution, and the catalogue that was asked for it."""

    refutation: Refutation
    catalogue: Catalogue
    target: Target


def _settle_all(
    declaration: Declaration,
    catalogue: Catalogue,
    targets: Sequence[Target],
    before: Lock | None,
    aim: Aim,
) -> "tuple[list[Solved], tuple[Move, ...]] | _Unsolved":
    """Solve each target, preferring what is locked for it and then what was chosen for the others."""
    chosen: dict[NormalizedName, Version] = {}
    settled: list[Solved] = []
    moves: dict[tuple[object, ...], Move] = {}
    for target in targets:
        answering = catalogue if target is targets[0] else catalogue.for_target(target)
        policy = _policy(declaration, before, target, aim, chosen)
        answer = solve(answering, target, list(declaration.declared()), policy=policy)
        if isinstance(answer, Refutation):
            return _Unsolved(refutation=answer, catalogue=answering, target=target)
        settled.append(Solved(solution=answer, wheels=answering.locked(answer.chosen.values())))
        moved = explained_moves(
            _versions(before, target), answer, declaration, answering, raised=aim.raised, otherwise=aim.reason
        )
        for move in moved:
            moves.setdefault((move.name, move.before, move.after), move)
        chosen = {**{name: one.version for name, one in answer.chosen.items()}, **chosen}
    return settled, tuple(sorted(moves.values(), key=lambda move: move.name))


def _versions(lock: Lock | None, target: Target) -> Mapping[NormalizedName, Version]:
    """What a lock holds for a target; for one that it does not serve, what it holds at all."""
    if lock is None:
        return {}
    if not serves(lock, target):
        return lock.versions
    return {one.locked.name: one.locked.version for one in needed(lock, target, groups=lock.groups)}


def _locked_runtime(runtime: PythonRuntime, before: Lock | None) -> LockedRuntime:
    """The runtime as the lock names it: another patch of the same one does not change the lock."""
    found = LockedRuntime(language="python", implementation=runtime.implementation, version=runtime.version)
    known = before.runtime if before else None
    if known is None or known.implementation != found.implementation:
        return found
    return known if known.version.release[:2] == found.version.release[:2] else found


def _policy(
    declaration: Declaration,
    before: Lock | None,
    target: Target,
    aim: Aim,
    chosen: Mapping[NormalizedName, Version] | None = None,
) -> Policy:
    """The policy for one target; `chosen` are the versions that other targets have got already."""
    locked = _versions(before, target) if aim.keeps else {}
    kept = {name: version for name, version in locked.items() if name not in aim.raised}
    names = frozenset(canonicalize_name(one.requirement.name) for one in declaration.declared())
    return Policy(
        preferred={**(chosen or {}), **kept},
        lowest=names if aim.lowest else frozenset(),
        as_of=aim.as_of,
    )


def _no_solution(
    unsolved: _Unsolved, declaration: Declaration, machine: Machine, observer: Observer
) -> NoSolution:
    catalogue, target = unsolved.catalogue, unsolved.target
    for one in declaration.declared():
        name = canonicalize_name(one.requirement.name)
        if target.admits(one.requirement.marker) and not catalogue.candidates(name).known:
            near = difflib.get_close_matches(name, catalogue.all_names(), n=3)
            group = f" --group {one.group}" if one.group else ""
            swap = f"rabbet retract{group} {name} && rabbet declare{group} "
            return NoSolution(
                f"no source knows a library named '{name}'",
                because=[f"near names: {', '.join(near)}"] if near else [],
                remedy=swap + near[0] if near else "check its spelling",
            )
    observer.stage("looking for what would help")
    remedies = _remedies(unsolved, declaration, machine)
    explanation = explained(unsolved.refutation, declaration.name)
    where = f" for {target}" if declaration.targets or declaration.pythons else ""
    return NoSolution(
        f"no set of releases meets all requirements{where}: they clash on {explanation.clash}",
        because=explanation.sentences,
        remedy=remedies[0] if remedies else "loosen one of these requirements with: rabbet declare",
        or_else=remedies[1:],
    )


def _remedies(unsolved: _Unsolved, declaration: Declaration, machine: Machine) -> list[str]:
    """Commands that were tried and help, the smallest changes first."""
    catalogue, target = unsolved.catalogue, unsolved.target
    others = ((other, catalogue.for_target(other)) for other in _other_targets(declaration, target, machine))
    found = suggestions(unsolved.refutation, list(declaration.declared()), catalogue, target, others)
    return [command_for(one) for one in found]


def _other_targets(declaration: Declaration, target: Target, machine: Machine) -> list[Target]:
    """The same machine with its other runtimes, those that the declaration allows first.

    There are none where the declaration itself names what is to be served.
    """
    if declaration.targets or declaration.pythons:
        return []
    runtimes = {one.version.release[:2]: one for one in reversed(newest_first(found_runtimes(machine)))}
    others = [one for minor, one in runtimes.items() if minor != target.python.release[:2]]
    allowed = [one for one in others if declaration.python.contains(one.version, prereleases=True)]
    rest = [one for one in others if one not in allowed]
    return [target_of(one) for one in [*newest_first(allowed), *newest_first(rest)]][:_MOST_OTHER_TARGETS]
