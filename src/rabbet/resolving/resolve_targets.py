"""Solving all targets of a declaration, and putting the solutions into one lock."""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.corrections import idle_corrections
from rabbet.core.lock.build import Solved, build_lock, merged_builds
from rabbet.core.lock.select import libraries_for
from rabbet.core.lock.serving import serves
from rabbet.core.lock.version_changes import Move, build_moves, explained_moves, runtime_moves
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import OWN_FOLDER, Lock, LockedBuild, LockedCheckout, LockedRuntime, LockedWheel
from rabbet.core.model.release import Candidate, Metadata, SetAside, SourceTree
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.model.solution import Solution
from rabbet.core.model.target import Target
from rabbet.core.needs.need import library_name
from rabbet.core.progress import Observer
from rabbet.core.solve.policy import Policy
from rabbet.resolving.build_requirements import BuildQuestions, Subject
from rabbet.sources.catalogue import Catalogue
from rabbet.sources.locking import also_known, locked_artifacts
from rabbet.workspace.machine import Machine
from rabbet.workspace.sources import Sources

if TYPE_CHECKING:
    from rabbet.builds.workshop import Workshop
    from rabbet.core.solve.solver import Refutation
    from rabbet.errors import NoSolution

__all__ = ["ResolveOptions", "ResolveRequest", "ResolveResult", "resolve_targets"]


class ResolveOptions(Struct, frozen=True, kw_only=True):
    """What the command line asks for besides the declaration.

    `raised` libraries get the newest release that can be had, the first of them before others; `afresh` frees
    everything, the runtime too. `lowest` asks for the lowest allowed release of each declared library.
    Nothing uploaded after `as_of` exists.
    """

    raised: tuple[NormalizedName, ...] = ()
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


class ResolveRequest(Struct, frozen=True, kw_only=True):
    """What is to be settled: a declaration for targets, with an interpreter of this machine.

    `earlier` are the locks whose versions are kept: usually one, two for an unfinished merge (ours first).
    Those that are `preferred` are kept before them.
    What is settled may be what is needed for `building` some libraries. Only where the declaration is the one
    that is `written` down can changes of it be suggested.
    """

    declaration: Declaration
    variant: str | None
    sources: Sources
    machine: Machine
    observer: Observer
    runtime: PythonRuntime
    targets: tuple[Target, ...]
    earlier: tuple[Lock, ...]
    building: frozenset[NormalizedName] = frozenset()
    written: bool = True
    preferred: Mapping[NormalizedName, Version] = field(default_factory=dict)


class ResolveResult(Struct, frozen=True, kw_only=True):
    """What resolving came to, before anything is written."""

    lock: Lock
    moves: tuple[Move, ...]
    passed_over: tuple[str, ...]
    also_known: Mapping[NormalizedName, tuple[str, ...]]
    idle_checkouts: tuple[NormalizedName, ...]
    unhashed: tuple[str, ...]
    taken_from: Mapping[NormalizedName, str]
    idle_corrections: tuple[str, ...]
    unknown_extras: tuple[str, ...]


def resolve_targets(work: ResolveRequest, options: ResolveOptions) -> ResolveResult:
    """Solve every target, and put the solutions into one lock; nothing is written.

    Raises `NoSolution` with the reasons and with changes that help, `SourceFailed`, `IntegrityFailed`.
    """
    policy = _policy(work, work.targets[0], options)
    kept = [_without(lock, options.raised) for lock in work.earlier] if options.keeps else []
    builds = _build_questions(work, options)
    with work.sources.catalogue(
        work.declaration, work.targets[0], policy, work.observer, kept, builds
    ) as catalogue:
        if not work.building:
            work.observer.stage("reading listings and metadata")
        declared = [one.need for one in work.declaration.declared()]
        catalogue.expect(one for one in declared if work.targets[0].admits(one.marker))
        settled, moves = _resolve_all(work, catalogue, options)
        chosen = {(name, one.version): one for part in settled for name, one in part.solution.chosen.items()}
        elsewhere = also_known(chosen.values(), catalogue.routing, catalogue.asking)
        before = work.earlier[0] if work.earlier and options.keeps else None
        lock = build_lock(
            work.declaration, _runtimes(work, before, options), settled, catalogue.routing.indexes
        )
        lock = replace(lock, builds=merged_builds(_locked_builds(work, builds, settled)))
        return ResolveResult(
            lock=replace(lock, also_known=tuple(sorted(elsewhere))),
            moves=(*runtime_moves(before, lock, work.declaration), *moves, *build_moves(before, lock)),
            passed_over=tuple(_passed_over(catalogue, lock.versions, chosen.values())),
            also_known=elsewhere,
            idle_checkouts=tuple(sorted(set(work.declaration.local) - set(lock.versions))),
            unhashed=tuple(sorted(_unhashed(catalogue, chosen.values()))),
            taken_from={name: one.source for (name, _), one in chosen.items()},
            unknown_extras=tuple(sorted(_unknown_extras(catalogue, settled))),
            idle_corrections=_idle_corrections(work.declaration, catalogue, chosen.values()),
        )


def _build_questions(work: ResolveRequest, options: ResolveOptions) -> BuildQuestions:
    """Asks builds of what has no wheel; what these need is settled in the same way."""

    def settle(
        declaration: Declaration,
        earlier: Sequence[Lock],
        targets: tuple[Target, ...],
        building: frozenset[NormalizedName],
    ) -> Lock:
        inner = replace(
            work,
            declaration=declaration,
            earlier=tuple(earlier),
            targets=targets,
            building=building,
            written=False,
        )
        return resolve_targets(inner, replace(options, lowest=False)).lock  # that is about declared bounds

    def open_workshop() -> "Workshop":
        from rabbet.workspace.supply import workshop_for  # here: few libraries have to be built

        return workshop_for(work.sources.project, work.machine, work.observer, work.runtime)

    return BuildQuestions(work.declaration, work.earlier, open_workshop, settle, work.building)


def _locked_builds(
    work: ResolveRequest, builds: BuildQuestions, settled: Sequence[Solved]
) -> Iterator[LockedBuild]:
    """What has to be built for some targets, and what that needs there."""
    where: dict[tuple[Subject, Version | None], list[Target]] = {}
    for part in settled:
        for name, candidate in part.solution.chosen.items():
            source = next((one for one in part.artifacts[name] if not isinstance(one, LockedWheel)), None)
            if source not in (None, OWN_FOLDER) and not any(file.is_wheel for file in candidate.files):
                subject = Subject(name=name, what=str(candidate), source=source)
                if subject.allowed(work.declaration):
                    where.setdefault((subject, candidate.version), []).append(part.solution.target)
    own = _own_build(work, builds)
    if own is not None:
        where[own, None] = list(work.targets)
    for (subject, version), targets in where.items():
        yield from builds.locked(subject, version, tuple(targets))


def _own_build(work: ResolveRequest, builds: BuildQuestions) -> Subject | None:
    """The project itself, if it can be built; its name may have to be told by that."""
    declaration = work.declaration
    if declaration.build_system is None:
        return None
    name = library_name(declaration.name)
    subject = Subject(name=name, what=name, source=OWN_FOLDER, own=True)
    named = declaration.version is not None or declaration.dynamic
    return subject if named else replace(subject, name=builds.metadata(subject).name)


def _passed_over(
    catalogue: Catalogue, highest: Mapping[NormalizedName, Version], chosen: Iterable[Candidate]
) -> Iterator[str]:
    """Releases that would have been preferred to what is locked, and files to what was taken, and why not."""
    for (name, version), reason in sorted(catalogue.set_aside.items()):
        if name in highest and version > highest[name]:
            yield f"{name} {version}: {reason}"
    for name, version in highest.items():
        for one in catalogue.candidates(name).aside:
            if one.unbuilt and one.newer_than(version):
                yield f"{name} {one.version}: {one.reason}"
    for candidate in chosen:
        for double in candidate.doubles:
            yield f"{double}: the same release, build and tags as {candidate.files[0].filename}"


def _unknown_extras(catalogue: Catalogue, settled: Iterable[Solved]) -> set[str]:
    """Extras that somebody asks for and the chosen release does not have."""
    found = set()
    for solved in settled:
        for name, extra in solved.solution.needs:
            stated = catalogue.stated(solved.solution.chosen[name]) if extra else None
            if isinstance(stated, Metadata) and extra not in stated.extras:
                found.add(f"{solved.solution.chosen[name]} has no extra '{extra}'")
    return found


def _idle_corrections(
    declaration: Declaration, catalogue: Catalogue, chosen: Iterable[Candidate]
) -> tuple[str, ...]:
    """Corrections of chosen releases that change nothing in what these say."""
    stated = [] if not declaration.corrections else [catalogue.stated(one) for one in chosen]
    idle = idle_corrections(declaration, [one for one in stated if not isinstance(one, SetAside)])
    return tuple(sorted({str(one) for one in idle}))


def _unhashed(catalogue: Catalogue, chosen: Iterable[Candidate]) -> set[str]:
    """The indexes that list chosen files without a digest that can be trusted."""
    files = [file for candidate in chosen for file in candidate.files]
    return {file.source for file in files if file.sha256 is None and file.source in catalogue.routing.indexes}


def _resolve_all(
    work: ResolveRequest, catalogue: Catalogue, options: ResolveOptions
) -> tuple[list[Solved], tuple[Move, ...]]:
    """Solve each target, preferring what is locked for it and then what was chosen for the others."""
    from rabbet.core.solve.solver import (  # here: the first answers are on their way meanwhile
        Refutation,
        solve,
    )

    chosen: dict[NormalizedName, Version] = {}
    settled: list[Solved] = []
    moves: dict[tuple[object, ...], tuple[Move, Target]] = {}
    for target in work.targets:
        answering = catalogue if target is work.targets[0] else catalogue.for_target(target)
        policy = _policy(work, target, options, chosen)
        answer = solve(answering, target, work.declaration.asked(), policy=policy)
        if isinstance(answer, Refutation):
            raise _no_solution(work, answer, answering, target, options)
        settled.append(_with_files(answer, answering))
        versions = [_versions(lock, target) for lock in work.earlier]
        moved = explained_moves(
            versions[0] if versions else {},
            answer,
            work.declaration,
            answering,
            intended=partial(_intention, work, options, answer, versions[1:]),
        )
        for move in moved:
            moves.setdefault((move.name, move.before, move.after), (move, target))
        chosen = {**{name: one.version for name, one in answer.chosen.items()}, **chosen}
    told = [_only_there(move, target, chosen) for move, target in moves.values()]
    return settled, tuple(sorted(told, key=lambda move: move.name))


def _only_there(move: Move, target: Target, chosen: Mapping[NormalizedName, Version]) -> Move:
    """Name the target in the reason of a library that only this target no longer needs."""
    if move.after is None and move.name in chosen:
        return replace(move, reason=f"{move.reason} for {target}")
    return move


def _no_solution(
    work: ResolveRequest,
    refutation: "Refutation",
    catalogue: Catalogue,
    target: Target,
    options: ResolveOptions,
) -> "NoSolution":
    from rabbet.resolving.conflict_report import (  # here: most declarations have a solution
        Unsolved,
        no_solution,
        unsolved_elsewhere,
    )

    policy = _policy(work, target, options)
    unsolved = Unsolved(
        declaration=work.declaration,
        variant=work.variant,
        refutation=refutation,
        catalogue=catalogue,
        target=target,
        targets=work.targets,
        project=work.sources.project,
        reopened=lambda changed: work.sources.catalogue(changed, target, policy, work.observer),
        on_date=f"{options.as_of:%Y-%m-%d}" if options.as_of else "",
    )
    if not work.written:
        return unsolved_elsewhere(unsolved)
    if options.as_of is None:
        return no_solution(unsolved, work.machine, work.observer)
    later = replace(policy, as_of=None)
    with work.sources.catalogue(work.declaration, target, later, work.observer) as undated:
        return no_solution(replace(unsolved, undated=undated), work.machine, work.observer)


def _with_files(solution: Solution, catalogue: Catalogue) -> Solved:
    """A solution with what its libraries can be had from, as it is locked."""
    stated = {name: catalogue.stated(one) for name, one in solution.chosen.items()}
    return Solved(
        solution=solution,
        artifacts=locked_artifacts(solution.chosen.values(), catalogue.routing, catalogue.asking),
        pythons={name: one.requires_python for name, one in stated.items() if isinstance(one, Metadata)},
    )


def _without(lock: Lock, names: Collection[NormalizedName]) -> Lock:
    return replace(lock, libraries=tuple(library for library in lock.libraries if library.name not in names))


def _intention(
    work: ResolveRequest,
    options: ResolveOptions,
    solution: Solution,
    others: Sequence[Mapping[NormalizedName, Version]],
    name: NormalizedName,
) -> str:
    """Why a library moved, if nobody's requirement made it; `others` are the other sides of a merge."""
    if name in options.raised:
        return "raised on purpose"
    chosen = solution.chosen.get(name)
    if chosen is not None and work.preferred.get(name) == chosen.version:
        return "this version is preferred"
    checkout = chosen.offered.locked if chosen and isinstance(chosen.offered, SourceTree) else None
    if checkout == OWN_FOLDER:
        return "it is the project itself"
    if isinstance(checkout, LockedCheckout):
        return f"the checkout in {checkout.path} stands in for it"
    if any(one.name == name and isinstance(one.tree, LockedCheckout) for one in work.earlier[0].libraries):
        return "its checkout is not declared any more"
    if chosen is not None and any(side.get(name) == chosen.version for side in others):
        return "the merged side has it"
    return options.reason


def _versions(lock: Lock, target: Target) -> Mapping[NormalizedName, Version]:
    """What a lock holds for a target; for one that it does not serve, what it holds at all."""
    if not serves(lock, target):
        return lock.versions
    return {one.name: one.version for one in libraries_for(lock, target, lock.everything)}


def _runtimes(
    work: ResolveRequest, before: Lock | None, options: ResolveOptions
) -> tuple[LockedRuntime, ...]:
    """The runtimes that the lock names, Python's first. Raises `NoRuntime`, `NoSolution`, `SourceFailed`."""
    if not (work.declaration.runtimes or work.declaration.catalogues):
        return (_locked_python(work.runtime, before),)
    from rabbet.workspace.runtimes.choice import runtimes_to_lock
    from rabbet.workspace.runtimes.obtaining import Shelf

    shelf = Shelf(work.sources.project, work.machine)
    known = before.runtimes if before else ()
    others = runtimes_to_lock(work.declaration, shelf, work.runtime, known, options.raised)
    platforms = {one.platform for target in work.targets for one in target.each}
    found = (_locked_python(work.runtime, before), *others)
    return tuple(shelf.with_archives(runtime, platforms) for runtime in found)


def _locked_python(runtime: PythonRuntime, before: Lock | None) -> LockedRuntime:
    """The Python that the lock names: the earlier lock's, unless distributor or minor version changed."""
    found = LockedRuntime(language=runtime.language, version=runtime.version, distributor=runtime.distributor)
    known = before.python if before else None
    if known is None or known.distributor != found.distributor:
        return found
    return known if known.version.release[:2] == found.version.release[:2] else found


def _policy(
    work: ResolveRequest,
    target: Target,
    options: ResolveOptions,
    chosen: Mapping[NormalizedName, Version] | None = None,
) -> Policy:
    """The policy for one target; `chosen` are the versions that other targets have got already.

    Where the sides of a merge have different versions, the newer one is tried first.
    """
    kept: dict[NormalizedName, set[Version]] = {}
    for lock in work.earlier if options.keeps else ():
        for name, version in _versions(lock, target).items():
            kept.setdefault(name, set()).add(version)
    names = frozenset(one.need.name for one in work.declaration.declared())
    liked = {name: tuple(sorted(versions, reverse=True)) for name, versions in kept.items()}
    for name, version in work.preferred.items() if options.keeps else ():
        liked[name] = (version, *liked.get(name, ()))
    return Policy(
        kept={name: versions for name, versions in liked.items() if name not in options.raised},
        raised=tuple(name for name in options.raised if name in kept),
        preferred={name: (version,) for name, version in (chosen or {}).items()},
        lowest=names if options.lowest else frozenset(),
        as_of=options.as_of,
        may_build=work.declaration.build_from_source,
    )
