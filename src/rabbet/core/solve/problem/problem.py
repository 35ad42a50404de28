"""Turn requirements into incompatibilities, one release at a time, on demand.

Which releases a requirement admits is decided here and only here (`Problem.mask`):

* those that its specifier contains (PEP 440), by the standard's rule for pre-releases: they count where the
  specifier names one, or where nothing else matches;
* a yanked release counts only where the specifier pins it exactly (PEP 592);
* what the project's own requirements admit in this way is admitted to all other requirements too, as far as
  their specifiers contain it. The rule depends on no order, so neither does the answer.
"""

from collections.abc import Collection, Iterable, Mapping, Sequence

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Declared
from rabbet.core.model.release import Candidate, Metadata, Rejected
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, Part
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.core.solve.problem.incompatibility import (
    Demand,
    Incompatibility,
    Kept,
    OneRelease,
    Slot,
    Term,
    Unusable,
)
from rabbet.core.solve.problem.provider import Provider

__all__ = ["ROOT", "Problem", "Wishes"]

ROOT = Slot(NormalizedName(""))


class Wishes(Struct, frozen=True, kw_only=True):
    """The preferences of one attempt beyond all requirements.

    Libraries that are `kept` come at one of these versions, as far as they are offered, or not at all.
    Those in `first` come, and get their releases before all others do.
    """

    kept: Mapping[NormalizedName, Collection[Version]] = field(default_factory=dict)
    first: tuple[NormalizedName, ...] = ()


class Problem:
    """Slots with their domains, and what each release rules out; grows as the search asks.

    `slots`, `text` (their names), `full` (each slot's whole domain), `depth` (steps from the project) and
    `releases` run in parallel; slot 0 is the project itself.
    """

    def __init__(
        self, provider: Provider, target: Target, declared: Sequence[Declared], wishes: Wishes | None = None
    ) -> None:
        self.slots: list[Slot] = []
        self.text: list[str] = []
        self.full: list[int] = []
        self.depth: list[int] = []
        self.releases: list[tuple[Candidate, ...]] = []
        self._provider = provider
        self.target = target
        self._wishes = wishes or Wishes()
        self._numbers: dict[Slot, int] = {}
        self._granted: dict[NormalizedName, int] = {}
        self._expansions: dict[Term, list[Incompatibility]] = {}
        self._active_needs: dict[tuple[NormalizedName, Version, str], tuple[Need, ...]] = {}
        self._fresh: list[Incompatibility] = []
        self._declared = [requirement for requirement in declared if target.admits(requirement.need.marker)]
        self._add_slot(ROOT, (), depth=0)

    def absent(self, slot: int) -> int:
        """The bit that says the slot gets no release."""
        return self.full[slot] & ~(self.full[slot] >> 1)

    def rank(self, slot: int) -> int:
        """Which slots get their release before others, by the wishes of this attempt."""
        first, name = self._wishes.first, self.slots[slot].name
        return first.index(name) if name in first else len(first)

    def open(self) -> list[Need]:
        """The project's own requirements; what they admit is admitted to all others from now on."""
        self._declared.sort(key=lambda declared: (str(declared.need), str(declared.section or "")))
        self._provider.expect(requirement.need for requirement in self._declared)
        roots = [requirement.need for requirement in self._declared if not requirement.limit]
        for need in roots:
            self._grant(need)
        return roots

    def expect(self, needs: Iterable[Need]) -> None:
        """A hint that what these ask for is about to be looked at."""
        self._provider.expect(needs)

    def start(self) -> list[Incompatibility]:
        """The incompatibilities of the project's own requirements."""
        self.open()
        for requirement in self._declared:
            self._demand(
                (0, self.full[0]),
                Demand(ROOT, requirement.need, requirement.section, limit=requirement.limit),
            )
        for name in self._wishes.first:
            number = self._number(Slot(name), depth=1)
            self._rule_out([(number, self.absent(number))], Kept(name))
        return self._take_fresh()

    def expand(self, slot: int, bit: int) -> list[Incompatibility]:
        """The incompatibilities of one candidate; empty when asked before."""
        if (slot, bit) in self._expansions:
            return []
        metadata = self.metadata(self.candidate(slot, bit))
        if isinstance(metadata, Rejected):
            self._rule_out([(slot, bit)], Unusable(metadata.reason))
        else:
            needs = self._active(metadata, self.slots[slot].extra)
            foreign = next((need for need in needs if not self.may_come(need)), None)
            if foreign is not None:  # of an extra: the release without it may be of use
                self._rule_out([(slot, bit)], Unusable(_from_address(foreign)))
                needs = ()
            self.expect(needs)
            for need in needs:
                self._demand((slot, bit), Demand(self.slots[slot], need))
        self._expansions[slot, bit] = self._take_fresh()
        return self._expansions[slot, bit]

    def expanded(self, slot: int, bit: int) -> bool:
        """Whether `expand` was asked for this candidate."""
        return (slot, bit) in self._expansions

    def expansion(self, slot: int, bit: int) -> Sequence[Incompatibility]:
        """The result of `expand` for this candidate."""
        return self._expansions[slot, bit]

    def metadata(self, candidate: Candidate) -> Metadata | Rejected:
        """The requirements of a release, or why it can't be used on this target after all."""
        metadata = self._provider.metadata(candidate)
        if isinstance(metadata, Rejected):
            return metadata
        reason = ""
        if not metadata.requires_python.contains(self.target.python, prereleases=True):
            reason = f"needs Python {metadata.requires_python}"
        for need in metadata.needs:
            if self.counts(need) and not self.may_come(need):
                reason = _from_address(need)
        return Rejected(version=str(candidate.version), reason=reason) if reason else metadata

    def may_come(self, need: Need) -> bool:
        """Whether a need names no address, or one that the project requires the same library from."""
        return need.url is None or any(
            requirement.need.url == need.url and requirement.need.name == need.name
            for requirement in self._declared
        )

    def limit(self, name: NormalizedName) -> int:
        """The candidates that the project's limits admit, as bits."""
        admitted = -1
        for requirement in self._declared:
            if requirement.limit and requirement.need.name == name:
                admitted &= self.bound(requirement.need)
        return admitted

    def counts(self, need: Need) -> bool:
        """Whether a need's marker holds on this target."""
        return self.target.admits(need.marker)

    def candidate(self, slot: int, bit: int) -> Candidate:
        """The candidate that a bit stands for."""
        return self.releases[slot][bit.bit_length() - 1]

    def needs(self, part: Part, candidate: Candidate) -> tuple[Need, ...]:
        """The requirements of one part of a release that count on this target."""
        metadata = self._provider.metadata(candidate)
        return () if isinstance(metadata, Rejected) else self._active(metadata, part[1])

    def candidates(self, name: NormalizedName) -> Candidates:
        """All candidates of a library."""
        return self._provider.candidates(name)

    def mask(self, need: Need) -> int:
        """The candidates that a need admits, as bits."""
        masks = self.candidates(need.name).masks
        granted = masks.contained(need.specifier) & self._granted.get(need.name, 0)
        return masks.admitted(need.specifier) | granted

    def bound(self, limit: Need) -> int:
        """The candidates that a limit leaves, as bits. It lets none in: pre-releases are no affair of it."""
        return self.candidates(limit.name).masks.contained(limit.specifier)

    def _active(self, metadata: Metadata, extra: str) -> tuple[Need, ...]:
        """A part's requirements under their markers; those that hold without the extra are the library's."""
        key = (metadata.name, metadata.version, extra)
        if key not in self._active_needs:
            self._active_needs[key] = tuple(
                need
                for need in metadata.needs
                if self.target.admits(need.marker, extra) and not (extra and self.counts(need))
            )
        return self._active_needs[key]

    def _grant(self, need: Need) -> None:
        admitted = self.candidates(need.name).masks.admitted(need.specifier)
        self._granted[need.name] = self._granted.get(need.name, 0) | admitted

    def _demand(self, requirer: Term, demand: Demand) -> None:
        """Rule out the requirer together with every value of the required slots that is not admitted."""
        need = demand.need
        depth = self.depth[requirer[0]] + 1
        admitted = self.bound(need) if demand.limit else self.mask(need)
        for name, extra in need.parts:
            number = self._number(Slot(name, extra), depth)
            allowed = admitted | self.absent(number) if demand.limit else admitted
            self._rule_out([requirer, (number, self.full[number] & ~allowed)], demand)

    def _number(self, slot: Slot, depth: int) -> int:
        if slot not in self._numbers:
            self._add_slot(slot, self.candidates(slot.name).releases, depth)
            if slot.extra:
                self._tie_to_library(slot, depth)
            else:
                self._keep(slot)
        return self._numbers[slot]

    def _add_slot(self, slot: Slot, releases: tuple[Candidate, ...], depth: int) -> None:
        self._numbers[slot] = len(self.slots)
        self.slots.append(slot)
        self.text.append(str(slot))
        self.releases.append(releases)
        self.full.append((2 << len(releases)) - 1)
        self.depth.append(depth)

    def _keep(self, slot: Slot) -> None:
        """Leave a kept library only the releases that it is kept at, if they are offered."""
        number, versions = self._numbers[slot], self._wishes.kept.get(slot.name, ())
        kept = sum(
            1 << i for i, candidate in enumerate(self.releases[number]) if candidate.version in versions
        )
        if kept:
            self._rule_out([(number, self.full[number] & ~kept & ~self.absent(number))], Kept(slot.name))

    def _tie_to_library(self, slot: Slot, depth: int) -> None:
        """An extra's release is the library's release."""
        extra, library = self._numbers[slot], self._number(Slot(slot.name), depth)
        for position in range(len(self.releases[extra])):
            bit = 1 << position
            self._rule_out([(extra, bit), (library, self.full[library] & ~bit)], OneRelease(slot))

    def _rule_out(self, terms: Iterable[Term], cause: Demand | OneRelease | Unusable | Kept) -> None:
        incompatibility = Incompatibility.of(terms, self.full, cause)
        if incompatibility is not None:
            self._fresh.append(incompatibility)

    def _take_fresh(self) -> list[Incompatibility]:
        fresh, self._fresh = self._fresh, []
        return fresh


def _from_address(need: Need) -> str:
    return f"needs {need.name} from an address that the project does not declare"
