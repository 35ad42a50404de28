"""Made-up indexes of realistic shape, for benchmarks: in memory, or as a folder of small wheels.

Numbers of releases and of dependencies are long-tailed; popular libraries are needed by many. A dependency is
written as its author would have at the time of the release: a lower bound near the newest release of then,
sometimes an upper bound, seldom an exact version. So most declarations can be solved, and old releases fit
old ones.
"""

import math
import random
from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.release import Candidate, ListedFile, Metadata, Rejected
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp

_PARTS = (
    "comb",
    "nectar",
    "pollen",
    "hive",
    "wax",
    "swarm",
    "queen",
    "brood",
    "honey",
    "clover",
    "drone",
    "smoke",
)


@dataclass(frozen=True)
class Release:
    """A release, made at a time between 0 and 1, and what it needs."""

    version: str
    time: float
    needs: tuple[str, ...]
    extras: tuple[str, ...] = ()


class MadeUpIndex:
    """A provider for the solver that counts what it is asked; `releases` are oldest first."""

    def __init__(self, releases: dict[str, list[Release]]) -> None:
        self.releases = releases
        self.listings_read = 0
        self.metadata_read = 0
        self._by_key = {
            (name, Version(release.version)): release for name, all_ in releases.items() for release in all_
        }
        self._candidates: dict[str, Candidates] = {}
        self._metadata: dict[tuple[str, Version], Metadata] = {}

    def candidates(self, name: NormalizedName) -> Candidates:
        """All releases of a library."""
        if name not in self._candidates:
            self.listings_read += 1
            found = tuple(_candidate(name, one.version) for one in self.releases.get(name, []))
            self._candidates[name] = Candidates(name=name, releases=found, known=bool(found))
        return self._candidates[name]

    def metadata(self, candidate: Candidate) -> Metadata | Rejected:
        """What one release needs; each is parsed once."""
        key = (candidate.name, candidate.version)
        if key not in self._metadata:
            self.metadata_read += 1
            release = self._by_key[key]
            self._metadata[key] = Metadata(
                name=candidate.name,
                version=candidate.version,
                requires_python=SpecifierSet(),
                needs=tuple(Need.parse(need) for need in release.needs),
                extras=frozenset(library_name(extra) for extra in release.extras),
            )
        return self._metadata[key]

    def expect(self, requirements: Iterable[Need]) -> None:
        """Nothing has to be fetched ahead."""

    def made_up(self) -> list[MadeUp]:
        """All releases as wheels."""
        return [
            MadeUp(
                name=name, version=release.version, needs=release.needs, extras=release.extras, code="x = 1\n"
            )
            for name, all_ in self.releases.items()
            for release in all_
        ]

    def write(self, folder: Path) -> None:
        """Write all releases as wheels."""
        write_files(folder, self.made_up())


def generate(libraries: int, releases: int, seed: int = 1) -> MadeUpIndex:
    """An index with so many libraries and about so many releases in all."""
    dice = random.Random(seed)
    names = [_name(number) for number in range(libraries)]
    weights = [dice.lognormvariate(0, 1.3) for _ in names]
    scale = releases / sum(weights)
    times: dict[str, list[tuple[float, str]]] = {}
    for name, weight in zip(names, weights, strict=True):
        count = max(1, round(weight * scale))
        first = dice.random() * 0.8
        moments = sorted(first + (1 - first) * dice.random() for _ in range(count))
        times[name] = list(zip(moments, _versions(dice, count), strict=True))
    return MadeUpIndex({name: _history(dice, number, names, times) for number, name in enumerate(names)})


def _history(
    dice: random.Random, number: int, names: list[str], times: dict[str, list[tuple[float, str]]]
) -> list[Release]:
    """A library's releases: it keeps mostly to the same dependencies, with newer bounds over time."""
    count = min(number, int(dice.paretovariate(1.4)) - 1 + dice.randint(0, 2))
    needed = sorted({names[int(number * dice.random() ** 2.5)] for _ in range(count)})
    optional = names[dice.randrange(number)] if number and dice.random() < 0.1 else None
    history = []
    for time, version in times[names[number]]:
        needs = [need for one in needed if (need := _requirement(dice, one, times[one], time))]
        if optional and (need := _requirement(dice, optional, times[optional], time)):
            needs.append(f'{need}; extra == "more"')
        history.append(Release(version, time, tuple(needs), ("more",) if optional else ()))
    return history


def _requirement(
    dice: random.Random, name: str, versions: list[tuple[float, str]], time: float
) -> str | None:
    """What an author would have written at that time about a library; nothing before its first release."""
    known = [version for _, version in versions[: bisect_right(versions, time, key=lambda one: one[0])]]
    if not known:
        return None
    style = dice.random()
    newest = known[-1]
    major = int(newest.split(".")[0])
    if style < 0.35:
        return name
    if style < 0.9:
        return f"{name}>={known[max(0, len(known) - 1 - int(dice.expovariate(0.4)))]}"
    if style < 0.995:
        return f"{name}>={newest},<{major + 1}"
    return f"{name}=={newest}"


def _versions(dice: random.Random, count: int) -> list[str]:
    major, minor, micro = dice.randint(0, 2), 0, 0
    found = []
    for _ in range(count):
        found.append(f"{major}.{minor}.{micro}")
        step = dice.random()
        if step < 0.06:
            major, minor, micro = major + 1, 0, 0
        elif step < 0.4:
            minor, micro = minor + 1, 0
        else:
            micro += 1
    return found


def _name(number: int) -> str:
    """Distinct made-up names: two words and, from some number on, digits."""
    first, second = divmod(number % len(_PARTS) ** 2, len(_PARTS))
    round_ = number // len(_PARTS) ** 2
    return f"{_PARTS[first]}-{_PARTS[second]}" + (f"-{round_}" if round_ else "")


def _candidate(name: NormalizedName, version: str) -> Candidate:
    wheel = ListedFile(
        filename=f"{name}-{version}-py3-none-any.whl",
        name=name,
        version=Version(version),
        build=(0, ""),
        tags=frozenset({"py3-none-any"}),
        location="",
        source="made-up",
    )
    return Candidate(name=name, version=wheel.version, source=wheel.source, offered=(wheel,))


def declaration_for(index: MadeUpIndex, size: int, seed: int = 1) -> list[str]:
    """Names to declare for a lock of about so many libraries, by what the newest releases need."""
    dice = random.Random(seed)
    names = list(index.releases)
    reached: set[str] = set()
    declared = []
    for _ in range(50 * size):
        name = names[int(len(names) * math.sqrt(dice.random()))]
        more = _reached(index, name) | reached
        if len(reached) < len(more) <= size:
            declared.append(name)
            reached = more
    return sorted(declared)


def _reached(index: MadeUpIndex, name: str) -> set[str]:
    """A library and all that its newest release needs, directly or not."""
    reached: set[str] = set()
    waiting = [name]
    while waiting:
        one = waiting.pop()
        if one not in reached:
            reached.add(one)
            waiting += [Need.parse(n).name for n in index.releases[one][-1].needs if "extra" not in n]
    return reached
