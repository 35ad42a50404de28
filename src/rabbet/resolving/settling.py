"""Solving all targets of a declaration, and putting the solutions into one lock."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial
from itertools import chain
from typing import TYPE_CHECKING

from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.corrections import corrected, unused_corrections
from rabbet.core.declaration.model import Declaration
from rabbet.core.lock.build import Solved, build_lock, merged_builds
from rabbet.core.lock.version_changes import Move, build_moves, explained_moves, runtime_moves
from rabbet.core.model.lock import (
    Lock,
    LockedCheckout,
    LockedRuntime,
    LockedWheel,
    is_own_folder,
)
from rabbet.core.model.options import ResolveOptions
from rabbet.core.model.release import Candidate, Metadata, Rejected, SourceTree
from rabbet.core.model.target import LATEST_PATCH, Target
from rabbet.core.needs.wording import need_text
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.solver import Refutation, solve
from rabbet.python.choosing.targets import target_of
from rabbet.python.sources.asking.catalogue import Catalogue
from rabbet.python.sources.asking.locking import also_known, locked_artifacts
from rabbet.resolving.build_requirements import BuildQuestions, Subject, own_subject
from rabbet.resolving.request import (
    ResolveRequest,
    ResolveResult,
    declared_moment,
    locked_versions,
    policy_for,
)

if TYPE_CHECKING:
    from rabbet.errors import NoSolution

__all__ = ["settled"]


def settled(
    request: ResolveRequest, options: ResolveOptions, catalogue: Catalogue, builds: BuildQuestions
) -> ResolveResult:
    """Solve every target from what the catalogue says, and put the solutions into one lock.

    Raises `NoSolution` with the reasons and with changes that help, `SourceFailed`, `IntegrityFailed`.
    """
    parts, moves, left_out = _resolve_all(request, catalogue, options)
    chosen = {
        (name, candidate.version): candidate
        for part in parts
        for name, candidate in part.solution.chosen.items()
    }
    elsewhere = also_known(chosen.values(), catalogue.routing, catalogue.asking)
    before = request.earlier[0] if request.earlier and options.keeps else None
    lock = build_lock(
        request.declaration,
        _runtimes(request, before, options),
        sorted(parts, key=lambda part: (part.solution.target.platform, part.solution.target.python)),
        catalogue.routing.indexes,
    )
    to_build = _to_build(request, builds, parts)
    locked_builds = (builds.locked(*subject, targets) for subject, targets in to_build.items())
    lock = replace(lock, builds=merged_builds(chain.from_iterable(locked_builds)))
    rules = request.sources.rules
    noted = rules.noted if rules is not None else ()
    return ResolveResult(
        lock=replace(lock, also_known=tuple(sorted(elsewhere)), left_out=left_out, rules=noted),
        moves=(*runtime_moves(before, lock, request.declaration), *moves, *build_moves(before, lock)),
        passed_over=tuple(_passed_over(catalogue, lock.versions, chosen.values())),
        also_known=elsewhere,
        unused_checkouts=tuple(sorted(set(request.declaration.local) - set(lock.versions))),
        unhashed=tuple(sorted(_unhashed(catalogue, chosen.values()))),
        taken_from={name: candidate.source for (name, _), candidate in chosen.items()},
        unknown_extras=tuple(sorted(_unknown_extras(catalogue, parts))),
        unused_corrections=_unused_corrections(request.declaration, catalogue, chosen.values()),
        by_patch=tuple(sorted(_by_patch(request.declaration, catalogue, parts))),
        told_here=_told_here(request, to_build),
    )


def _to_build(
    request: ResolveRequest, builds: BuildQuestions, parts: Sequence[Solved]
) -> Mapping[tuple[Subject, Version | None], tuple[Target, ...]]:
    """The libraries to build, with version, and the targets that need them."""
    where: dict[tuple[Subject, Version | None], list[Target]] = {}
    for part in parts:
        for name, candidate in part.solution.chosen.items():
            source = next(
                (artifact for artifact in part.artifacts[name] if not isinstance(artifact, LockedWheel)), None
            )
            wheels = any(file.is_wheel for file in candidate.files)
            if source is not None and not is_own_folder(source) and not wheels:
                subject = Subject(name=name, what=str(candidate), source=source)
                if subject.allowed(request.declaration):
                    where.setdefault((subject, candidate.version), []).append(part.solution.target)
    own = _own_build(request, builds)
    if own is not None:
        where[own, None] = [part.solution.target for part in parts]
    return {subject: tuple(targets) for subject, targets in where.items()}


def _told_here(
    request: ResolveRequest, to_build: Mapping[tuple[Subject, Version | None], Sequence[Target]]
) -> tuple[str, ...]:
    """Builds that were asked on this machine and are needed for other targets."""
    here = target_of(request.runtime)
    there = {
        subject.what
        for (subject, _), targets in to_build.items()
        if any((target.platform, target.minor) != (here.platform, here.minor) for target in targets)
    }
    return tuple(sorted(there))


def _own_build(request: ResolveRequest, builds: BuildQuestions) -> Subject | None:
    """The project itself, if it can be built; its name may have to be told by that."""
    declaration = request.declaration
    if declaration.build_system is None:
        return None
    subject = own_subject(declaration)
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
        for rejected in catalogue.candidates(name).rejected:
            if rejected.unbuilt and rejected.newer_than(version):
                yield f"{name} {rejected.version}: {rejected.reason}"
    for candidate in chosen:
        for double in candidate.doubles:
            yield f"{double}: the same release, build and tags as {candidate.files[0].filename}"


def _unknown_extras(catalogue: Catalogue, parts: Iterable[Solved]) -> set[str]:
    """Extras that somebody asks for and the chosen release does not have."""
    found = set()
    for part in parts:
        for name, extra in part.solution.needs:
            stated = catalogue.stated(part.solution.chosen[name]) if extra else None
            if isinstance(stated, Metadata) and extra not in stated.extras:
                found.add(f"{part.solution.chosen[name]} has no extra '{extra}'")
    return found


def _by_patch(declaration: Declaration, catalogue: Catalogue, parts: Iterable[Solved]) -> set[str]:
    """Requirements that count on some patch releases of a target's Python only."""
    found = set()
    for part in parts:
        target, chosen = part.solution.target, part.solution.chosen
        asked = [(declaration.name, requirement.need, "") for requirement in declaration.declared()]
        for name, extra in part.solution.needs:
            stated = catalogue.stated(chosen[name])
            needs = corrected(stated, declaration).needs if isinstance(stated, Metadata) else ()
            asked += [(str(chosen[name]), need, extra) for need in needs]
        latest = target.python.micro == LATEST_PATCH
        python = f"the latest {target.minor}" if latest else str(target.python)
        found |= {
            f"{who} needs {need_text(need)} (locked for {python})"
            for who, need, extra in asked
            if target.depends_on_patch(need.marker, extra)
        }
    return found


def _unused_corrections(
    declaration: Declaration, catalogue: Catalogue, chosen: Iterable[Candidate]
) -> tuple[str, ...]:
    """Corrections of chosen releases that change nothing in what these say."""
    stated = [] if not declaration.corrections else [catalogue.stated(candidate) for candidate in chosen]
    idle = unused_corrections(
        declaration, [metadata for metadata in stated if not isinstance(metadata, Rejected)]
    )
    return tuple(sorted({str(correction) for correction in idle}))


def _unhashed(catalogue: Catalogue, chosen: Iterable[Candidate]) -> set[str]:
    """The indexes that list chosen files without a digest that can be trusted."""
    files = [file for candidate in chosen for file in candidate.files]
    return {file.source for file in files if file.sha256 is None and file.source in catalogue.routing.indexes}


def _resolve_all(
    request: ResolveRequest, catalogue: Catalogue, options: ResolveOptions
) -> tuple[list[Solved], tuple[Move, ...], tuple[str, ...]]:
    """Solve each target, preferring what is locked for it; then, if asked for, what others have got.

    Targets that nobody named may be left out, each with the reason.
    """
    left_out: list[str] = []
    chosen: dict[NormalizedName, Version] = {}
    parts: list[Solved] = []
    moves: dict[tuple[object, ...], tuple[Move, Target]] = {}
    for target in request.targets:
        answering = catalogue if target is request.targets[0] else catalogue.for_target(target)
        policy = policy_for(request, target, options, chosen)
        answer = solve(answering, target, request.declaration.asked(), policy=policy)
        if isinstance(answer, Refutation):
            if request.needed(target):
                raise _no_solution(request, answer, answering, target, options)
            reason = _first_reason(answer, request.declaration).replace(f" for {target}", "")
            left_out.append(f"{target}: {reason}")
            continue
        rules = request.sources.rules
        parts.append(_with_files(answer, answering, timed=rules is not None and rules.aged))
        versions = [locked_versions(lock, target) for lock in request.earlier]
        moved = explained_moves(
            versions[0] if versions else {},
            answer,
            request.declaration,
            answering,
            intended=partial(_intention, request, options, answer, versions[1:]),
        )
        for move in moved:
            moves.setdefault((move.name, move.before, move.after), (move, target))
        chosen = {**{name: candidate.version for name, candidate in answer.chosen.items()}, **chosen}
    told = [_only_there(move, target, chosen) for move, target in moves.values()]
    return parts, tuple(sorted(told, key=lambda move: move.name)), tuple(sorted(left_out))


def _first_reason(refutation: Refutation, declaration: Declaration) -> str:
    """The first sentence on why there is no solution."""
    from rabbet.core.solve.explain.prose import explained  # here: most targets have a solution

    return explained(refutation, declaration.name).sentences[0].rstrip(".")


def _only_there(move: Move, target: Target, chosen: Mapping[NormalizedName, Version]) -> Move:
    """Name the target in the reason of a library that only this target no longer needs."""
    if move.after is None and move.name in chosen:
        return replace(move, reason=f"{move.reason} for {target}")
    return move


def _no_solution(
    request: ResolveRequest,
    refutation: Refutation,
    catalogue: Catalogue,
    target: Target,
    options: ResolveOptions,
) -> "NoSolution":
    from rabbet.resolving.conflict_report import (  # here: most declarations have a solution
        Unsolved,
        no_solution,
        unsolved_elsewhere,
    )

    policy = policy_for(request, target, options)
    unsolved = Unsolved(
        declaration=request.declaration,
        variant=request.variant,
        refutation=refutation,
        catalogue=catalogue,
        target=target,
        targets=[other for other in request.targets if request.needed(other)],
        session=request.session,
        reopened=lambda changed: request.sources.catalogue(changed, target, policy),
        on_date=f"{policy.as_of:%Y-%m-%d}" if policy.as_of else "",
        date_declared=options.as_of is None,
        rules=request.sources.rules,
        ruled=lambda rules: replace(request.sources, rules=rules).catalogue(
            request.declaration,
            target,
            policy_for(replace(request, sources=replace(request.sources, rules=rules)), target, options),
        ),
    )
    if not request.written:
        return unsolved_elsewhere(unsolved)
    if policy.as_of is None:
        return no_solution(unsolved)
    later = replace(policy, as_of=declared_moment(request.declaration) if options.as_of else None)
    with request.sources.catalogue(request.declaration, target, later) as undated:
        return no_solution(replace(unsolved, undated=undated))


def _with_files(solution: Solution, catalogue: Catalogue, *, timed: bool) -> Solved:
    """A solution with the artifacts to lock for its libraries; `timed` ones note when they were uploaded."""
    stated = {name: catalogue.stated(candidate) for name, candidate in solution.chosen.items()}
    return Solved(
        solution=solution,
        artifacts=locked_artifacts(
            solution.chosen.values(), catalogue.routing, catalogue.asking, timed=timed
        ),
        pythons={
            name: metadata.requires_python
            for name, metadata in stated.items()
            if isinstance(metadata, Metadata)
        },
    )


def _intention(
    request: ResolveRequest,
    options: ResolveOptions,
    solution: Solution,
    others: Sequence[Mapping[NormalizedName, Version]],
    name: NormalizedName,
) -> str:
    """Why a library moved, if nobody's requirement made it; `others` are the other sides of a merge."""
    if name in options.raised:
        return "raised on purpose"
    if options.mend and name in request.broken:
        return request.broken[name]
    chosen = solution.chosen.get(name)
    if chosen is not None and request.preferred.get(name) == chosen.version:
        return "this version is preferred"
    checkout = chosen.offered.locked if chosen and isinstance(chosen.offered, SourceTree) else None
    if is_own_folder(checkout):
        return "it is the project itself"
    if isinstance(checkout, LockedCheckout):
        return f"the checkout in {checkout.path} replaces its releases"
    if any(
        library.name == name and isinstance(library.tree, LockedCheckout)
        for library in request.earlier[0].libraries
    ):
        return "its checkout is not declared any more"
    if chosen is not None and any(side.get(name) == chosen.version for side in others):
        return "the merged side has it"
    return options.reason


def _runtimes(
    request: ResolveRequest, before: Lock | None, options: ResolveOptions
) -> tuple[LockedRuntime, ...]:
    """The runtimes that the lock names, Python's first. Raises `NoRuntime`, `NoSolution`, `SourceFailed`."""
    if not (request.declaration.runtimes or request.declaration.catalogues):
        return (_locked_python(request, before),)
    from rabbet.workspace.runtimes.choice import runtimes_to_lock
    from rabbet.workspace.runtimes.obtaining import RuntimeCatalogues

    shelf = RuntimeCatalogues(request.session.project, request.session.machine)
    known = before.runtimes if before else ()
    others = runtimes_to_lock(request.declaration, shelf, request.runtime, known, options.raised)
    platforms = {part.platform for target in request.targets for part in target.each}
    found = (_locked_python(request, before), *others)
    return tuple(shelf.with_archives(runtime, platforms) for runtime in found)


def _locked_python(request: ResolveRequest, before: Lock | None) -> LockedRuntime:
    """The Python that the lock names: the earlier one while the lock is for that version, else this one."""
    runtime, known = request.runtime, before.python if before else None
    served = {target.python.release[:2] for target in request.targets}
    if known is not None and known.distributor == runtime.distributor and known.version.release[:2] in served:
        return known
    return LockedRuntime(language=runtime.language, version=runtime.version, distributor=runtime.distributor)
