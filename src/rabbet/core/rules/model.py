"""The rules that one place states: a declaration, a file that a team shares, the user's settings.

Each set of rules is judged by itself, and a release has to pass all of them: so the stricter one counts.
"""

from collections.abc import Collection, Iterable, Mapping
from datetime import date
from fnmatch import fnmatchcase
from typing import Literal

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.needs.names import library_name

__all__ = ["Accepted", "AgeRule", "LicenceRule", "OriginRule", "RuleSet", "Stop", "fits_one", "shared_rules"]

Stop = Literal["recreate", "run"]
"""A command that refuses to go on where a rule is broken."""


class Accepted(Struct, frozen=True, kw_only=True):
    """An advisory that the team has looked at, by its id or an alias; after `until` it counts again."""

    id: str
    reason: str
    until: date


class LicenceRule(Struct, frozen=True, kw_only=True):
    """The allowed SPDX expressions, and libraries that are `exempt`, with the reasons.

    A licence that is not known refuses, unless that is only to be noted.
    """

    allowed: tuple[str, ...]
    exempt: Mapping[NormalizedName, str] = field(default_factory=dict)
    unknown_refuses: bool = True


class AgeRule(Struct, frozen=True, kw_only=True):
    """How many seconds ago a release must have been uploaded to be chosen.

    `libraries` are names or patterns of libraries that may be younger, `sources` are names of sources whose
    releases may be.
    """

    seconds: int
    libraries: tuple[str, ...] = ()
    sources: tuple[str, ...] = ()

    def exempts(self, name: NormalizedName, source: str) -> bool:
        """Whether a library, or everything from that source, may be younger."""
        return source in self.sources or fits_one(name, self.libraries)


class OriginRule(Struct, frozen=True, kw_only=True):
    """Where what is locked may come from.

    `only` maps names or patterns of libraries to the sources that may give these: what fits several must
    come from a source that all of them name. Libraries with only a source archive, those from an address or
    a commit that the declaration names, and yanked releases may be locked unless that is switched off.
    """

    only: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    builds: bool = True
    addresses: bool = True
    commits: bool = True
    yanked: bool = True


class RuleSet(Struct, frozen=True, kw_only=True):
    """All rules of one place, which `where` names.

    `advisories` are folders, archives or addresses of records of vulnerabilities. Records that were not
    looked for within `stale_after` seconds are too old (`None`: never). An advisory refuses from the score
    `severity` on; `None` where the place says nothing of it. In `stops` are the commands that refuse to go
    on. `shared` is the place of a file with more rules.
    """

    where: str
    advisories: tuple[str, ...] = ()
    stale_after: int | None = None
    severity: float | None = None
    accepted: tuple[Accepted, ...] = ()
    licences: LicenceRule | None = None
    age: AgeRule | None = None
    origin: OriginRule | None = None
    stops: frozenset[Stop] = frozenset()
    shared: str = ""

    @property
    def judges_advisories(self) -> bool:
        """Whether the place says anything of vulnerabilities."""
        return bool(self.advisories) or self.severity is not None

    @property
    def threshold(self) -> float:
        """The score from which on an advisory refuses; 0 where none is named."""
        return self.severity or 0.0


def shared_rules(shared: RuleSet, own: RuleSet) -> RuleSet:
    """A shared file's rules with the exceptions of the declaration that names it and could leave it out."""
    licences, age = shared.licences, shared.age
    if licences is not None and own.licences is not None:
        licences = replace(licences, exempt={**licences.exempt, **own.licences.exempt})
    if age is not None and own.age is not None:
        age = replace(age, libraries=age.libraries + own.age.libraries, sources=age.sources + own.age.sources)
    return replace(shared, accepted=shared.accepted + own.accepted, licences=licences, age=age)


def fits_one(name: NormalizedName, patterns: Iterable[str]) -> bool:
    """Whether a library's name is among these names and patterns."""
    return any(fnmatchcase(name, library_name(pattern)) for pattern in patterns)


def allowed_sources(rule: OriginRule, name: NormalizedName) -> Collection[str] | None:
    """The sources that may give a library; `None` where all may."""
    named = [set(sources) for pattern, sources in rule.only.items() if fits_one(name, [pattern])]
    return frozenset(set.intersection(*named)) if named else None
