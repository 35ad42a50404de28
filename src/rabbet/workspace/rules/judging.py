"""Judging what is locked, installed or offered by the rules that count here."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import Lock
from rabbet.core.needs.names import library_name
from rabbet.core.rules.advisory import Advisory
from rabbet.core.rules.breach import Breach, refusing
from rabbet.core.rules.judge import ReleaseFacts, breaches_of
from rabbet.core.rules.model import Accepted, RuleSet, Stop
from rabbet.workspace.rules.facts import installed_facts, locked_facts
from rabbet.workspace.rules.records import Records, records_of
from rabbet.workspace.rules.rule_sets import Look, PlacedRules, are_rules_stated, rules_of
from rabbet.workspace.session import Session

__all__ = ["CountedRules", "counted_rules", "judged_installed", "judged_lock"]

AGED = "age"  # in a lock: the times when its files were uploaded are noted


class CountedRules(Struct, frozen=True, kw_only=True):
    """The rules that count for a command, the records they rest on, and the moment they are judged at."""

    placed: tuple[PlacedRules, ...]
    records: Records
    now: datetime

    @property
    def sets(self) -> tuple[RuleSet, ...]:
        """The sets of rules."""
        return tuple(placed.rules for placed in self.placed)

    @property
    def noted(self) -> tuple[str, ...]:
        """What the lock notes of the project's own rules: whether ages count, and shared files' digests."""
        digests = (placed.digest for placed in self.placed if placed.own and placed.digest is not None)
        return (*([AGED] if self.aged else []), *digests)

    @property
    def aged(self) -> bool:
        """Whether the project itself has a rule on the age of releases: the lock notes their times then."""
        return any(placed.own and placed.rules.age is not None for placed in self.placed)

    def lacks_ages(self, lock: Lock) -> bool:
        """Whether a lock was made before the age of releases counted, so that their times are not in it."""
        return self.aged and AGED not in lock.rules

    def stops(self, command: Stop) -> bool:
        """Whether a command refuses to go on where a rule is broken."""
        return any(command in rules.stops for rules in self.sets)

    def accepting(self, ids: Iterable[str], reason: str, until: date) -> "CountedRules":
        """The same, had the project accepted these advisories."""
        accepted = tuple(Accepted(id=name, reason=reason, until=until) for name in ids)
        placed = tuple(
            replace(one, rules=replace(one.rules, accepted=one.rules.accepted + accepted)) if one.own else one
            for one in self.placed
        )
        return replace(self, placed=placed)

    def refusing_ids(self, name: NormalizedName, versions: Iterable[Version]) -> set[str]:
        """The advisories that refuse one of these versions of a library."""
        advisories = self.records.about([name])
        breaches = (
            breach
            for version in versions
            for breach in self.judged(ReleaseFacts(name=name, version=version), advisories)
        )
        return {breach.vulnerability.id for breach in refusing(breaches) if breach.vulnerability}

    def broken(self, facts: Iterable[ReleaseFacts]) -> tuple[Breach, ...]:
        """What these releases break, those that are refused first."""
        releases = list(facts)
        advisories = self.records.about(release.name for release in releases)
        found = [breach for release in releases for breach in self.judged(release, advisories)]
        return tuple(sorted(found, key=lambda breach: (not breach.refuses, breach.name, breach.version)))

    def judged(
        self, release: ReleaseFacts, advisories: Mapping[NormalizedName, Sequence[Advisory]]
    ) -> tuple[Breach, ...]:
        """What one release breaks."""
        return breaches_of(release, advisories.get(release.name, ()), self.sets, self.now)


def counted_rules(session: Session, look: Look) -> CountedRules | None:
    """The rules that count here; `None` where none are stated.

    Raises `NotUnderstood`, and `SourceFailed` where shared rules or records can't be had.
    """
    if not are_rules_stated(session):
        return None
    placed = rules_of(session, look)
    records = records_of(session, placed, look)
    return CountedRules(placed=placed, records=records, now=datetime.now(UTC))


def judged_lock(session: Session, rules: CountedRules, lock: Lock) -> tuple[Breach, ...]:
    """What a lock breaks, for any of its targets, with what its builds need."""
    built = [library for build in lock.builds for library in build.libraries]
    return rules.broken(_once(locked_facts(session, (*lock.libraries, *built), aged=AGED in lock.rules)))


def judged_installed(
    session: Session, rules: CountedRules, lock: Lock | None, inventory: Inventory, root: Path
) -> tuple[Breach, ...]:
    """What an environment in a folder breaks: by the lock's facts where a library is as locked.

    The project itself is not judged; of a checkout only advisories count.
    """
    known = {(library.name, library.version): library for library in lock.libraries} if lock else {}
    declaration = session.declaration()
    own, local = library_name(declaration.name), declaration.local
    libraries = {
        (library.name, library.version): library
        for library in inventory.libraries.values()
        if library.name != own
    }
    locked = [known[release] for release in libraries if release in known]
    others = [library for release, library in libraries.items() if release not in known]
    facts = [ReleaseFacts(name=one.name, version=one.version) for one in others if one.name in local]
    others = [library for library in others if library.name not in local]
    facts += locked_facts(session, locked, aged=False)
    facts += installed_facts(root, [*others, *inventory.twins])
    return rules.broken(_once(facts))


def _once(facts: Iterable[ReleaseFacts]) -> list[ReleaseFacts]:
    """Each release once."""
    return list({(release.name, release.version): release for release in facts}.values())
