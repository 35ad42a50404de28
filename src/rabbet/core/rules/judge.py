"""One release × all sets of rules → what it breaks."""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, date, datetime, timedelta
from typing import TypeAlias

from msgspec import Struct
from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.rules.advisory import Advisory, affects, joined, mended_since
from rabbet.core.rules.breach import Breach, Rule, Vulnerability, is_over
from rabbet.core.rules.licences import canonical, is_allowed
from rabbet.core.rules.model import Accepted, AgeRule, LicenceRule, OriginRule, RuleSet, allowed_sources
from rabbet.core.rules.severity import score_of

__all__ = [
    "Advisories",
    "Licence",
    "Origin",
    "ReleaseFacts",
    "age_text",
    "breaches_of",
    "duration_text",
    "origin_faults",
    "too_young",
    "vulnerabilities_of",
]

Advisories: TypeAlias = Mapping[NormalizedName, Sequence[Advisory]]
"""The advisories about each library."""

_DAY = 86400


class Licence(Struct, frozen=True):
    """A release's licence as an SPDX expression; `None` where it is not told so that it can be judged."""

    expression: str | None
    written: str = ""


class Origin(Struct, frozen=True, kw_only=True):
    """Where a release comes from: the `source` by its name, and how.

    It may have `only_source` archives, come from an `address` or a `commit` that the declaration names, and
    be `yanked`.
    """

    source: str = ""
    only_source: bool = False
    address: bool = False
    commit: bool = False
    yanked: bool = False


class ReleaseFacts(Struct, frozen=True, kw_only=True):
    """What is known of one release; what is `None` is not judged.

    `uploaded` are the times of its files, of which one may not be told.
    """

    name: NormalizedName
    version: Version
    licence: Licence | None = None
    origin: Origin | None = None
    uploaded: tuple[datetime | None, ...] | None = None


def breaches_of(
    facts: ReleaseFacts, advisories: Sequence[Advisory], rules: Iterable[RuleSet], now: datetime
) -> tuple[Breach, ...]:
    """All rules that a release breaks, each told once, with all places that state it."""
    found: dict[tuple[Rule, str], Breach] = {}
    for stated in rules:
        for breach in _breaches(facts, advisories, stated, now):
            key = (breach.rule, breach.vulnerability.id if breach.vulnerability else breach.told)
            known = found.get(key)
            found[key] = breach if known is None else _together(known, breach)
    return tuple(sorted(found.values(), key=lambda breach: (not breach.refuses, breach.rule, breach.what)))


def _together(one: Breach, other: Breach) -> Breach:
    """The same breach of two places' rules: the stricter one's, and of two alike both places."""
    if one.refuses != other.refuses:
        return one if one.refuses else other
    return replace(one, places=tuple(dict.fromkeys(one.places + other.places)))


def _breaches(
    facts: ReleaseFacts, advisories: Sequence[Advisory], rules: RuleSet, now: datetime
) -> Iterator[Breach]:
    def breach(rule: Rule, told: str, *, refuses: bool = True) -> Breach:
        return Breach(
            rule=rule,
            name=facts.name,
            version=facts.version,
            refuses=refuses,
            told=told,
            places=(rules.where,),
        )

    if rules.judges_advisories:
        for known in vulnerabilities_of(facts.version, advisories, rules.accepted, now.date()):
            refuses = _counts(known, rules.threshold)
            told = _vulnerability_text(known, rules.threshold)
            yield replace(breach(Rule.ADVISORIES, told, refuses=refuses), vulnerability=known)
    if rules.licences is not None and facts.licence is not None:
        for told, refuses in _licence_faults(facts.name, facts.licence, rules.licences):
            yield breach(Rule.LICENCES, told, refuses=refuses)
    if rules.origin is not None and facts.origin is not None:
        for told in origin_faults(facts.name, facts.origin, rules.origin):
            yield breach(Rule.FROM, told)
    if rules.age is not None and facts.uploaded is not None:
        source = facts.origin.source if facts.origin else ""
        told = "" if rules.age.exempts(facts.name, source) else _age_fault(facts.uploaded, rules.age, now)
        if told:
            yield breach(Rule.AGE, told)


def vulnerabilities_of(
    version: Version, advisories: Sequence[Advisory], accepted: Collection[Accepted], today: date
) -> Iterator[Vulnerability]:
    """The vulnerabilities of a version, those that several records tell of once."""
    hitting = [advisory for advisory in advisories if affects(advisory, version)]
    for found in joined(hitting):
        group = sorted(found, key=lambda advisory: (advisory.published or "~", advisory.id))
        ids = list(dict.fromkeys(name for advisory in group for name in advisory.ids))
        said = [one for one in accepted if one.id in ids]
        answer = max(said, key=lambda one: one.until, default=None)
        vectors = tuple(dict.fromkeys(vector for advisory in group for vector in advisory.vectors))
        first = group[0]  # the one that was published first
        yield Vulnerability(
            id=first.id,
            aliases=tuple(name for name in ids if name != first.id),
            summary=next((advisory.summary for advisory in group if advisory.summary), ""),
            published=min((advisory.published for advisory in group if advisory.published), default=""),
            score=score_of(vectors),
            vectors=vectors,
            references=tuple(dict.fromkeys(place for advisory in group for place in advisory.references)),
            mended=mended_since(group, version),
            accepted=answer,
            expired=answer is not None and is_over(answer, today),
        )


def _counts(known: Vulnerability, threshold: float) -> bool:
    """Whether a vulnerability refuses: one whose score nobody tells may be of any."""
    if known.accepted is not None and not known.expired:
        return False
    return known.score is None or known.score >= threshold


def _vulnerability_text(known: Vulnerability, threshold: float) -> str:
    """Such as `HIVE-1 (severity 9.8): it runs commands; published 2026-04-01, mended in 1.2`."""
    severity = "severity not known" if known.score is None else f"severity {known.score:.1f}"
    if known.score is not None and known.score < threshold:
        severity += f", below {threshold:.1f}"
    parts = [f"published {known.published[:10]}"] if known.published else []
    parts.append(f"mended in {known.mended}" if known.mended else "no fix is known")
    if known.accepted is not None:
        over = "its acceptance ended on" if known.expired else "accepted until"
        parts.append(f"{over} {known.accepted.until}: {known.accepted.reason}")
    summary = f": {known.summary}" if known.summary else ""
    return f"{known.id} ({severity}){summary}; {', '.join(parts)}"


def _licence_faults(name: NormalizedName, licence: Licence, rule: LicenceRule) -> Iterator[tuple[str, bool]]:
    """What is wrong with a licence, and whether that refuses."""
    if name in rule.exempt:
        return
    if licence.expression is None:
        written = f" from '{licence.written}'" if licence.written else ""
        yield f"its licence can't be told{written}", rule.unknown_refuses
        return
    allowed = [known for known in map(canonical, rule.allowed) if known is not None]
    if not is_allowed(licence.expression, allowed):
        yield f"its licence {licence.expression} is not allowed", True


def origin_faults(name: NormalizedName, origin: Origin, rule: OriginRule) -> Iterator[str]:
    """What is wrong with where a release comes from."""
    sources = allowed_sources(rule, name)
    if sources is not None and origin.source not in sources:
        there = f"the source '{origin.source}'" if origin.source else "no source that is declared"
        wanted = " or ".join(f"'{source}'" for source in sorted(sources)) or "no source at all"
        yield f"it comes from {there}, and may come from {wanted}"
    faults: tuple[tuple[bool, bool, str], ...] = (
        (origin.only_source, rule.builds, "it has to be built from its source"),
        (origin.address, rule.addresses, "it comes from an address and not from a source"),
        (origin.commit, rule.commits, "it comes from a commit of a repository"),
        (origin.yanked, rule.yanked, "it was yanked"),
    )
    yield from (told for holds, permitted, told in faults if holds and not permitted)


def _age_fault(uploaded: Iterable[datetime | None], rule: AgeRule, now: datetime) -> str:
    faults = (too_young(moment, rule, now) for moment in uploaded)
    return next((fault for fault in faults if fault), "")


def too_young(uploaded: datetime | None, rule: AgeRule, now: datetime) -> str:
    """Why a file is too young, or why that can't be told; empty if it is old enough."""
    if uploaded is None:
        return f"its time of upload is not known, and it must be {duration_text(rule.seconds)} old"
    if now - uploaded >= timedelta(seconds=rule.seconds):
        return ""
    return f"uploaded on {uploaded.astimezone(UTC):%Y-%m-%d}, and must be {duration_text(rule.seconds)} old"


def duration_text(seconds: int) -> str:
    """Such as `14 days` or `12 hours`."""
    for size, unit in ((_DAY, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size and seconds % size == 0:
            return f"{seconds // size} {unit}{'s' * (seconds != size)}"
    return f"{seconds} second{'s' * (seconds != 1)}"


def age_text(seconds: float) -> str:
    """How long ago something was, roughly: `3 days`."""
    for size in (_DAY, 3600, 60):
        if seconds >= size:
            return duration_text(int(seconds // size) * size)
    return "less than a minute"


Judge: TypeAlias = Callable[[ReleaseFacts], tuple[Breach, ...]]
"""Judges one release by the rules that count, at this moment."""
