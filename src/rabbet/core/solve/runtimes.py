"""Choose the runtimes of all languages together, like releases of libraries: one may need another."""

from collections.abc import Iterable, Mapping, Sequence

from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.declaration.model import Declared, DeclaredRuntime
from rabbet.core.model.release import Candidate, Metadata, Rejected
from rabbet.core.model.runtime import RuntimeOffer
from rabbet.core.model.target import Target
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.core.solve.problem.provider import Policy
from rabbet.core.solve.solver import Refutation, solve

__all__ = ["choose_runtimes"]


def choose_runtimes(
    declared: Sequence[DeclaredRuntime],
    offers: Iterable[RuntimeOffer],
    target: Target,
    *,
    kept: Mapping[str, Version],
    raised: Sequence[str] = (),
) -> Mapping[str, RuntimeOffer] | Refutation:
    """The offer that is chosen of each language that is declared or needed.

    Versions that are `kept` stay where they can, those of `raised` languages become the newest possible. Of
    several offers of one version the first one counts.
    """
    provider = _Offers(declared, offers)
    policy = Policy(
        kept={library_name(name): (version,) for name, version in kept.items() if name not in raised},
        raised=tuple(library_name(name) for name in raised),
    )
    needs = [Declared(need=_need(runtime.language, runtime.versions)) for runtime in declared]
    answer = solve(provider, target, needs, policy=policy)
    if isinstance(answer, Refutation):
        return answer
    return {str(name): provider.offer(candidate) for name, candidate in answer.chosen.items()}


class _Offers:
    """Offers as a provider gives candidates; what the project declares of a language counts for each of them.

    That is who distributes it, and what it needs in place of what the offer says.
    """

    def __init__(self, declared: Sequence[DeclaredRuntime], offers: Iterable[RuntimeOffer]) -> None:
        self._declared = {runtime.language: runtime for runtime in declared}
        self._offers: dict[str, dict[Version, RuntimeOffer]] = {}
        for offer in offers:
            wanted = self._declared.get(offer.language)
            if wanted is None or wanted.distributor in ("", offer.distributor):
                self._offers.setdefault(offer.language, {}).setdefault(offer.version, offer)

    def offer(self, candidate: Candidate) -> RuntimeOffer:
        """The offer that a candidate stands for."""
        return self._offers[candidate.name][candidate.version]

    def candidates(self, name: str) -> Candidates:
        """All that is offered of a language."""
        offers = self._offers.get(name, {})
        releases = (
            Candidate(name=library_name(name), version=version, source=offers[version].where, offered=())
            for version in sorted(offers)
        )
        return Candidates(name=library_name(name), releases=tuple(releases), known=bool(offers))

    def metadata(self, candidate: Candidate) -> Metadata | Rejected:
        """The versions of other languages that a runtime needs."""
        wanted = self._declared.get(candidate.name)
        needs = (wanted.needs if wanted else {}) or self.offer(candidate).needs
        return Metadata(
            name=candidate.name,
            version=candidate.version,
            requires_python=SpecifierSet(),
            needs=tuple(_need(language, versions) for language, versions in sorted(needs.items())),
            extras=frozenset(),
        )

    def expect(self, needs: Iterable[Need]) -> None:
        """Nothing is read ahead: all offers are known."""


def _need(language: str, versions: SpecifierSet) -> Need:
    return Need(name=library_name(language), specifier=versions)
