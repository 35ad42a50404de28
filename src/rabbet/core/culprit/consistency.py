"""Which mixtures of two states are consistent, asked of the solver.

The solver gets what the two states have of each library, and nothing else. What is wanted is fixed; the rest
stays as it is preferred, and as few libraries as possible leave that. So a mixture that is not consistent is
completed by further changes between the same two states: no third release confuses the answer. Requirements
that one of the states itself does not meet are not looked at, for it can be installed as it is.
"""

from collections.abc import Iterable, Iterator, Mapping
from functools import cache

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.culprit.mixture import Mixture
from rabbet.core.declaration.model import Declared
from rabbet.core.model.lock import runtime_name
from rabbet.core.model.release import Candidate, Metadata
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, Part
from rabbet.core.needs.walk import walk
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.core.solve.problem.incompatibility import Demand
from rabbet.core.solve.problem.problem import ROOT
from rabbet.core.solve.problem.provider import Policy
from rabbet.core.solve.solver import Refutation, solve

__all__ = ["PYTHON", "Consistency", "Side", "in_order"]

PYTHON = runtime_name("python")


class Side(Struct, frozen=True, kw_only=True):
    """One of the two states: its target, and what each library needs.

    `extras` are those that the project asks for. What is `lacking` can't be had for this side's Python.
    """

    target: Target
    libraries: Mapping[NormalizedName, Metadata]
    extras: Mapping[NormalizedName, frozenset[NormalizedName]] = field(default_factory=dict)
    lacking: frozenset[tuple[NormalizedName, Version]] = frozenset()

    def needs(self, part: Part) -> Iterator[Need]:
        """The requirements of a library of this state, or of one of its extras, on this target."""
        metadata = self.libraries.get(part[0])
        for need in metadata.needs if metadata else ():
            if self.target.admits(need.marker, part[1]):
                yield need

    def unmet(self) -> Iterator[tuple[Part, Need]]:
        """Each requirement that the state itself does not meet, with who makes it."""
        roots = [Need(name, extras=self.extras.get(name, frozenset())) for name in sorted(self.libraries)]
        for requirer, need in walk(((None, root) for root in roots), self.needs):
            found = self.libraries.get(need.name)
            met = found and need.specifier.contains(found.version, prereleases=True)
            if requirer is not None and not met:
                yield requirer, need


class Consistency:
    """Completes mixtures of a good and a bad state (it is a `Mixing`); `changes` are all that differs."""

    def __init__(self, good: Side, bad: Side, changes: Mixture) -> None:
        self._sides = (good, bad)
        self._changes = changes
        names = {*good.libraries, *bad.libraries}
        self._versions = {name: (_version(good, name), _version(bad, name)) for name in names}
        self._free = frozenset(
            change
            for change in changes
            if change != PYTHON and len({*self._versions.get(change, (None,))}) == 1
        )
        self._provider = _TwoReleases(good, bad)
        self.least = cache(self._least)
        self.most = cache(self._most)

    def _least(self, wanted: Mixture, within: Mixture) -> Mixture | None:
        """See `Mixing`."""
        return self._completed(wanted, self._changes - within, other=0)

    def _most(self, unwanted: Mixture, within: Mixture) -> Mixture | None:
        """See `Mixing`."""
        left = unwanted | (self._changes - within)
        return self._completed(Mixture(), left, other=1)

    def _completed(self, taken: Mixture, left: Mixture, *, other: int) -> Mixture | None:
        """A consistent mixture with `taken` and without `left`; the rest defaults to one side (`other`)."""
        side = {name: 1 if name in taken else 0 for name in taken | left}
        pythons = [side.get(PYTHON, other)] if PYTHON in self._changes else [0]
        if PYTHON in self._changes and PYTHON not in side:
            pythons.append(1 - other)
        for python in pythons:
            found = self._with_python(python, side, other)
            if found is not None:
                return found
        return None

    def _with_python(self, python: int, side: Mapping[NormalizedName, int], other: int) -> Mixture | None:
        """The same with one of the two versions of Python."""
        preferred = {
            name: versions[side.get(name, other) if name in self._changes else 0]
            for name, versions in self._versions.items()
        }
        offered = {
            name: (preferred[name],) if name in side or name not in self._changes else versions
            for name, versions in self._versions.items()
        }
        there = {name for name, version in preferred.items() if version is not None}
        droppable = {name for name in there if None in offered[name]}
        policy = Policy(preferred={name: (version,) for name, version in preferred.items() if version})
        offer = self._provider.offering(offered, self._sides[python].lacking)
        while True:
            roots = [self._root(name) for name in sorted(there)]
            solution = solve(offer, self._sides[python].target, roots, policy=policy)
            if isinstance(solution, Solution):
                return frozenset(self._taken(solution, python, side, other))
            blamed = droppable & _asked_for(solution)
            if not blamed:
                return None
            there.discard(min(blamed))  # the other state does without it

    def _taken(
        self, solution: Solution, python: int, side: Mapping[NormalizedName, int], other: int
    ) -> Iterator[NormalizedName]:
        for name in self._changes:
            if name == PYTHON:
                bad = python == 1
            elif name in self._free:
                bad = side.get(name, other) == 1
            else:
                chosen = solution.chosen.get(name)
                bad = (chosen.version if chosen else None) == self._versions[name][1]
            if bad:
                yield name

    def _root(self, name: NormalizedName) -> Declared:
        """A library is there; its bounds admit pre-releases if it is one (PEP 440)."""
        versions = sorted(version for version in self._versions[name] if version is not None)
        bounds = SpecifierSet(f">={versions[0].public},<={versions[-1].public}")
        extras = frozenset().union(*(side.extras.get(name, frozenset()) for side in self._sides))
        return Declared(need=Need(name, specifier=bounds, extras=extras))


def _asked_for(refutation: Refutation) -> set[NormalizedName]:
    """The libraries that can't all be there."""
    causes = (incompatibility.cause for incompatibility in refutation.stated())
    return {cause.need.name for cause in causes if isinstance(cause, Demand) and cause.requirer == ROOT}


class _TwoReleases:
    """The releases of each library in both states, with the requirements that both states meet."""

    def __init__(self, good: Side, bad: Side) -> None:
        unmet = {(part[0], need) for side in (good, bad) for part, need in side.unmet()}
        self._metadata = {
            (name, library.version): _relaxed(library, side, unmet)
            for side in (good, bad)
            for name, library in side.libraries.items()
        }
        self._known: dict[tuple[NormalizedName, tuple[Version | None, ...]], Candidates] = {}

    def offering(
        self,
        offered: Mapping[NormalizedName, tuple[Version | None, ...]],
        lacking: frozenset[tuple[NormalizedName, Version]],
    ) -> "_Offer":
        """These releases alone, but for those that are lacking."""
        return _Offer(
            self,
            {
                name: tuple(
                    version for version in versions if version is not None and (name, version) not in lacking
                )
                for name, versions in offered.items()
            },
        )

    def candidates(self, name: NormalizedName, versions: tuple[Version, ...]) -> Candidates:
        """These releases of a library, made once: they remember which specifiers admit them."""
        key = (name, versions)
        if key not in self._known:
            releases = (
                Candidate(name=name, version=version, source="", offered=())
                for version in sorted(set(versions))
            )
            self._known[key] = Candidates(name=name, releases=tuple(releases))
        return self._known[key]

    def metadata(self, candidate: Candidate) -> Metadata:
        """The release's requirements."""
        return self._metadata[candidate.name, candidate.version]


class _Offer:
    """The releases available in one mixture (a `Provider`)."""

    def __init__(self, known: _TwoReleases, offered: Mapping[NormalizedName, tuple[Version, ...]]) -> None:
        self._known = known
        self._offered = offered

    def candidates(self, name: NormalizedName) -> Candidates:
        """The releases that may be taken."""
        return self._known.candidates(name, self._offered.get(name, ()))

    def metadata(self, candidate: Candidate) -> Metadata:
        """The release's requirements."""
        return self._known.metadata(candidate)

    def expect(self, needs: Iterable[Need]) -> None:
        """Everything is known."""


def _relaxed(metadata: Metadata, side: Side, unmet: set[tuple[NormalizedName, Need]]) -> Metadata:
    """A release without the requirements that no state has to meet; where a need comes from is no matter."""
    fits = metadata.requires_python.contains(side.target.python, prereleases=True)
    return replace(
        metadata,
        requires_python=metadata.requires_python if fits else SpecifierSet(),
        needs=tuple(replace(need, url=None) for need in metadata.needs if (metadata.name, need) not in unmet),
    )


def _version(side: Side, name: NormalizedName) -> Version | None:
    found = side.libraries.get(name)
    return found.version if found else None


def in_order(changes: Mixture, good: Side, bad: Side) -> tuple[NormalizedName, ...]:
    """Runtimes first, then libraries, each behind those that it needs, and last what the bad state lacks.

    Whoever needs a newer release then comes behind it, so that few changes have to come along with others.
    """
    found: dict[NormalizedName, None] = {}
    waiting = [(name, False) for name in sorted({*good.libraries, *bad.libraries}, reverse=True)]
    seen: set[NormalizedName] = set()
    while waiting:
        name, done = waiting.pop()
        if done:
            found[name] = None
        elif name not in seen:
            seen.add(name)
            needs = {need.name for side in (good, bad) for need in side.needs((name, ""))}
            waiting += [(name, True), *((needed, False) for needed in sorted(needs - seen, reverse=True))]
    runtimes = sorted(change for change in changes if change not in found)
    gone = [name for name in found if name not in bad.libraries]
    libraries = [name for name in found if name in bad.libraries]
    return tuple(name for name in (*runtimes, *libraries, *gone) if name in changes)
