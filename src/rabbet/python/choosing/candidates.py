"""A source's listing → the releases that could be chosen for one target, and why the others could not."""

from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from functools import cache, lru_cache

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.version import Version

from rabbet.core.limits import LONGEST_TEXT
from rabbet.core.model.release import Candidate, ListedFile, Listing, Rejected, SourceTree
from rabbet.core.model.target import Target
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.core.solve.problem.provider import Until
from rabbet.python.choosing.targets import baseline_needed

__all__ = ["candidates_for", "likeness", "narrowed"]


def narrowed(candidates: Candidates, refusal: Callable[[Candidate], str]) -> Candidates:
    """The candidates without those that are refused, which are set aside with the reason."""
    reasons = [(candidate, refusal(candidate)) for candidate in candidates.releases]
    if not any(reason for _, reason in reasons):
        return candidates
    refused = (
        Rejected(version=str(one.version), reason=reason, ruled=True) for one, reason in reasons if reason
    )
    return replace(
        candidates,
        releases=tuple(candidate for candidate, reason in reasons if not reason),
        rejected=(*candidates.rejected, *refused),
    )


class _Unfit(Struct, frozen=True):
    """Why a wheel is of no use, perhaps by a rule; without a reason its tags are not the target's."""

    reason: str | None = None
    ruled: bool = False


_NO_TAG = _Unfit()
_Ranks = list[tuple[int | _Unfit, ListedFile]]
_Ranking = Callable[[Sequence[ListedFile]], _Ranks]


def likeness(listing: Listing, target: Target) -> tuple[object, ...]:
    """A key of a listing's files for a target; equal for targets with the same candidates.

    That is how the files rank, and which of them ask for another Python; where some fit the target in no way,
    the reasons that are given name it.
    """
    if target.alike or listing.trees:
        return (target,)
    rank, found = _rank_on(target), []
    for tags, requires_python in listing.kinds:
        found.append(_needs_python(requires_python, target) if tags is None else rank(tags, requires_python))
    if _NO_TAG in found:
        return (target,)
    order = sorted({value for value in found if isinstance(value, int)})
    return tuple(order.index(value) if isinstance(value, int) else value for value in found)


def candidates_for(
    listing: Listing, target: Target, *, untils: Sequence[Until] = (), may_build: bool = False
) -> Candidates:
    """Group the wheels by version, keeping those that fit the target, the best-ranked first.

    Releases without a fitting wheel are set aside with the reason; so are files that were uploaded too late
    (`untils`), or at an unknown time. Where several targets are alike, a release needs a wheel for each. A
    library that one `may_build` needs no wheel where it has a source archive.
    """
    ranks = [(single, _ranking(single, untils)) for single in target.each]
    releases = [_from_tree(tree, listing.source) for tree in listing.trees]
    rejected = []
    for built, archives in listing.by_version:
        sdist = _archive(archives, untils)
        first = built[0] if built else sdist
        if first is None:
            continue
        version = first.version  # as the wheels' names write it, where an archive's writes 1.0 for 1.0.0
        wheels = _fitting(version, built, ranks)
        if isinstance(wheels, Rejected):
            unfit = _unfit(wheels, sdist, target, may_build=may_build)
            if unfit is not None:
                rejected.append(unfit)
                continue
            wheels = ((), ())
        releases.append(
            Candidate(
                name=listing.name,
                version=version,
                source=listing.source,
                offered=(*wheels[0], sdist) if sdist and may_build else wheels[0],
                doubles=wheels[1],
            )
        )
    return Candidates(
        name=listing.name, releases=tuple(releases), rejected=listing.rejected + tuple(rejected)
    )


def _archive(archives: list[ListedFile], untils: Sequence[Until]) -> ListedFile | None:
    """The source archive of a release; of several the last one that is old enough."""
    for archive in reversed(archives):
        if not _too_new(archive, untils):
            return archive
    return None


def _from_tree(tree: SourceTree, source: str) -> Candidate:
    return Candidate(name=tree.name, version=tree.version, source=source, offered=tree)


def _unfit(wheels: Rejected, sdist: ListedFile | None, target: Target, *, may_build: bool) -> Rejected | None:
    """Why a release without fitting wheels can't be used; `None` when its source archive can."""
    if sdist is None:
        return wheels
    needs = _needs_python(sdist.requires_python, target)
    if needs:
        return Rejected(version=wheels.version, reason=needs)
    if may_build:
        return None
    reason = f"{wheels.reason}, only a source archive, which may not be built"
    return Rejected(version=wheels.version, reason=reason.removeprefix(", "), unbuilt=True)


def _fitting(
    version: Version, wheels: list[ListedFile], ranks: Sequence[tuple[Target, _Ranking]]
) -> tuple[tuple[ListedFile, ...], tuple[str, ...]] | Rejected:
    """The wheels for each of the targets, if it has some for each, and the names of doubles."""
    ranked: dict[str, tuple[tuple[int, int], ListedFile]] = {}
    for place, (target, ranks_of) in enumerate(ranks):
        known = ranks_of(wheels)
        able = [(rank, wheel) for rank, wheel in known if isinstance(rank, int)]
        fitting = [pair for pair in able if pair[1].yanked is None] or able
        if not fitting:
            refused = {unfit for unfit, _ in known if isinstance(unfit, _Unfit)}
            too_old = _too_old(target, wheels)
            reasons = sorted(unfit.reason or f"no wheel for {target}{too_old}" for unfit in refused)
            needed = "=".join(_needed_baseline(target, wheels) or ()) if too_old and target.named else ""
            ruled = any(unfit.ruled for unfit in refused)
            return Rejected(version=str(version), reason=", ".join(reasons), baseline=needed, ruled=ruled)
        for rank, wheel in fitting:
            ranked.setdefault(wheel.filename, ((place, rank), wheel))
    if len(ranked) == 1:  # as with most releases: there is nothing to put in order
        return tuple(wheel for _, wheel in ranked.values()), ()
    ordered = _best_first(list(ranked.values()))
    kept = {(wheel.build, wheel.tags): wheel for wheel in reversed(ordered)}
    chosen = tuple(wheel for wheel in ordered if kept[wheel.build, wheel.tags] is wheel)
    doubles = tuple(wheel.filename for wheel in ordered if wheel not in chosen)
    return chosen, doubles


def _needed_baseline(target: Target, wheels: Sequence[ListedFile]) -> tuple[str, str] | None:
    return baseline_needed(target, {tag for wheel in wheels for tag in wheel.tags or ()})


def _too_old(target: Target, wheels: Sequence[ListedFile]) -> str:
    """The suffix that says only a newer system is needed; empty if that would not help."""
    needed = _needed_baseline(target, wheels)
    if needed is None:
        return ""
    library, version = needed
    if not target.named:
        return f": needs {library} {version}, this machine has {target.libc[1]}"
    return f": needs {library} {version}, the baseline is {target.libc[1]}"


def _best_first(ranked: list[tuple[tuple[int, int], ListedFile]]) -> tuple[ListedFile, ...]:
    """By rank, then the highest build, then by file name; what was yanked comes behind what was not."""
    ranked.sort(key=lambda pair: pair[1].filename)
    ranked.sort(key=lambda pair: pair[1].build, reverse=True)
    ranked.sort(key=lambda pair: (pair[1].yanked is not None, pair[0]))
    return tuple(wheel for _, wheel in ranked)


def _too_new(file: ListedFile, untils: Sequence[Until]) -> _Unfit | None:
    """Why a file does not count yet, if it does not."""
    counting = [until for until in untils if file.version not in until.spared]
    if not counting:
        return None
    try:
        uploaded = datetime.fromisoformat(file.uploaded or "")
    except ValueError:
        return _Unfit("its source tells no time of upload", ruled=any(until.ruled for until in counting))
    if uploaded.tzinfo is None:
        uploaded = uploaded.replace(tzinfo=UTC)
    late = next((until for until in counting if uploaded > until.moment), None)
    return late and _Unfit(f"uploaded on {uploaded:%Y-%m-%d}, {late.told}", ruled=late.ruled)


@lru_cache(maxsize=64)
def _rank_on(target: Target) -> Callable[[frozenset[str] | None, str | None], int | _Unfit]:
    """How tags and what is said of Python rank on a target, worked out once for each pair."""

    @cache
    def rank(tags: frozenset[str] | None, requires_python: str | None) -> int | _Unfit:
        ranks = [target.tags[tag] for tag in tags or () if tag in target.tags]
        if not ranks:
            return _NO_TAG
        needs = _needs_python(requires_python, target)
        return min(ranks) if needs is None else _Unfit(needs)

    return rank


def _ranking(target: Target, untils: Sequence[Until]) -> _Ranking:
    """How well wheels fit (the smaller the better), or why they do not."""
    rank = _rank_on(target)

    def ranks(wheels: Sequence[ListedFile]) -> _Ranks:
        return [(rank(wheel.tags, wheel.requires_python), wheel) for wheel in wheels]

    def dated_ranks(wheels: Sequence[ListedFile]) -> _Ranks:
        dated = [(_too_new(wheel, untils), known) for wheel, known in zip(wheels, ranks(wheels), strict=True)]
        return [known if too_new is None else (too_new, known[1]) for too_new, known in dated]

    return dated_ranks if untils else ranks


def _needs_python(constraint: str | None, target: Target) -> str | None:
    """Why the target's Python does not serve a file with such a constraint, if it does not."""
    needed = _specifiers(constraint) if constraint is not None else None
    if needed is not None and not needed.contains(target.python, prereleases=True):
        return f"needs Python {constraint}"
    return None


@lru_cache(maxsize=4096)
def _specifiers(text: str) -> SpecifierSet | None:
    """Parsed once each; `None` for what no one can read, which then refuses nothing (PEP 503)."""
    try:
        return SpecifierSet(text) if len(text) <= LONGEST_TEXT else None
    except InvalidSpecifier:
        return None
