"""The view of `rules`, and the lines on broken rules that other commands print."""

from collections.abc import Iterable, Iterator, Sequence

from rabbet.cli.context import Context
from rabbet.core.rules.breach import MOVING, Breach, refusing
from rabbet.core.rules.judge import duration_text
from rabbet.core.rules.model import RuleSet
from rabbet.core.shell import variant_option
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count
from rabbet.documents.drifting.rules import RulesDocument
from rabbet.tasks.drifting.rules import BrokenRule, RulesReport

__all__ = ["RulesView", "breach_text", "broken_lines", "mend_text"]

_SHOWN = 4
_EXAMPLE = 'rules = { age = "14d" }'


class RulesView(RulesDocument, frozen=True):
    """The rules that count here, and what breaks them."""

    def show(self, context: Context) -> None:
        """Print the rules, the records, what breaks a rule and what would mend it."""
        report = self.report
        if report.counted is None:
            context.show("No rules are stated: neither in pyproject.toml nor in your settings.")
            context.show(f"To state some, write under [tool.rabbet], for example: {_EXAMPLE}")
            return
        rows = [row for rules in report.counted.sets for row in _rows(rules)]
        context.show_table(("rule", "wants", "stated in"), rows)
        for place in report.counted.records.places:
            facts = place.facts
            newest = f", the newest of {facts.newest[:10]}" if facts.newest else ""
            context.show(f"{place.shown}: {count(facts.records, 'record')}{newest}, {place.age_told} old.")
            if facts.broken:
                context.show(f"  {count(facts.broken, 'record')} can't be read: {facts.named[0]}")
        for told in report.counted.records.too_old:
            context.show(f"Too old to rely on: {told}.")
        context.show()
        _show_broken(report, context)
        for line in _outcome(report):
            context.show(line)


def _rows(rules: RuleSet) -> Iterator[tuple[str, str, str]]:
    """The rules of one place, a row each."""
    if rules.judges_advisories:
        wants = f"no known vulnerability of severity {rules.threshold:g} or more"
        yield "advisories", wants if rules.threshold else "no known vulnerability", rules.where
    for one in rules.accepted:
        yield "accept", f"{one.id} until {one.until}: {one.reason}", rules.where
    if rules.stale_after is not None:
        yield "stale-after", f"records no older than {duration_text(rules.stale_after)}", rules.where
    if rules.licences is not None:
        unknown = "" if rules.licences.unknown_refuses else ", unknown ones are noted"
        yield "licences", f"{some_of(rules.licences.allowed, _SHOWN)}{unknown}", rules.where
        for name, reason in sorted(rules.licences.exempt.items()):
            yield "licences", f"any of {name}: {reason}", rules.where
    if rules.age is not None:
        spared = [*rules.age.libraries, *(f"all from {source}" for source in rules.age.sources)]
        but = f", but for {some_of(spared, _SHOWN)}" if spared else ""
        yield "age", f"uploaded {duration_text(rules.age.seconds)} ago or earlier{but}", rules.where
    if rules.origin is not None:
        for pattern, sources in sorted(rules.origin.only.items()):
            yield "from", f"{pattern} only from {' and '.join(sources) or 'nowhere'}", rules.where
        refused = [
            word
            for word, allowed in (
                ("source builds", rules.origin.builds),
                ("addresses", rules.origin.addresses),
                ("commits", rules.origin.commits),
                ("yanked releases", rules.origin.yanked),
            )
            if not allowed
        ]
        if refused:
            yield "from", f"no {', no '.join(refused)}", rules.where
    if rules.stops:
        yield "stops", f"{', '.join(sorted(rules.stops))} where a rule is broken", rules.where


def _show_broken(report: RulesReport, context: Context) -> None:
    if not report.broken:
        return
    tones = {"refused": context.style.bad, "noted": context.style.faint}
    context.show_table(
        ("library", "version", "rule", "verdict", "where", "mended in"),
        [_row(found) for found in report.broken],
        tones=tones,
    )
    for found in report.broken:
        way = f"; it came with {' → '.join(found.brought)}" if len(found.brought) > 1 else ""
        context.show(f"  {found.breach.name}: {found.breach.told}{way}")
    context.show()


def _row(found: BrokenRule) -> tuple[str, ...]:
    breach = found.breach
    where = [word for word, holds in (("locked", found.locked), ("installed", found.installed)) if holds]
    known = breach.vulnerability
    mended = str(known.mended) if known and known.mended else "-"
    refused = "refused" if breach.refuses else "noted"
    return breach.name, str(breach.version), str(breach.rule), refused, ", ".join(where), mended


def _outcome(report: RulesReport) -> Iterator[str]:
    """The last lines: what is broken, and what mends it."""
    refused = refusing(found.breach for found in report.broken)
    of_variant = variant_option(report.variant)
    judged = count(report.judged, "release")
    if not refused:
        if report.counted is not None and report.counted.records.too_old:
            yield "Whether a rule is broken can't be told: the records of vulnerabilities are too old."
            return
        if report.lacks_ages:
            yield "The lock doesn't tell yet when its releases were uploaded. Next: rabbet resolve"
            return
        noted = f", {count(len(report.broken), 'note')}" if report.broken else ""
        yield f"No rule is broken: {judged} judged{noted}."
        if not report.has_lock:
            yield "There is no lock yet. Next: rabbet resolve"
        return
    breaking = len({(breach.name, breach.version) for breach in refused})
    yield f"{judged} judged: {breaking} break{'s' * (breaking == 1)} a rule."
    if report.moves:
        moves = [f"{move.name} {move.before or '-'} → {move.after or '-'}" for move in report.moves]
        yield f"The fewest moves that mend the lock: {some_of(moves, _SHOWN)}."
        yield f"To mend: rabbet resolve --mend{of_variant}"
    elif report.stuck:
        yield f"What would mend it is not known: {report.stuck}."
    elif report.no_solution:
        yield "No releases meet both the requirements and the rules."
        yield f"To see why, and what would help: rabbet resolve --mend{of_variant}"
    elif report.has_lock and not any(found.locked and found.breach.refuses for found in report.broken):
        yield f"The lock breaks none. To mend: rabbet recreate{of_variant}"
    else:
        yield "No move of versions mends that: declare another library, or an exception with its reason."


def breach_text(breach: Breach) -> str:
    """One breach in a line."""
    return f"{breach.name} {breach.version}: {breach.told}"


def broken_lines(breaches: Sequence[Breach]) -> Iterator[str]:
    """The lines of other commands on rules that a lock breaks; notes stay with `rabbet rules`."""
    refused = refusing(breaches)
    for breach in refused[:_SHOWN]:
        yield f"Breaks a rule: {breach_text(breach)}."
    if len(refused) > _SHOWN:
        yield f"Breaks a rule: {len(refused) - _SHOWN} more (see: rabbet rules)"


def mend_text(breaches: Iterable[Breach], variant: str | None) -> str:
    """What to do about broken rules; empty where none is."""
    refused = refusing(breaches)
    if not refused:
        return ""
    if any(breach.rule in MOVING for breach in refused):
        return f"To meet the rules again: rabbet resolve --mend{variant_option(variant)}"
    return f"To see what the rules want: rabbet rules{variant_option(variant)}"
