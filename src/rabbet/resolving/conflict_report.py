"""The report for a declaration without a solution: why, and which changes help."""

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from datetime import timedelta
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.edit import Edit
from rabbet.core.declaration.model import Correction, Declaration
from rabbet.core.model.target import Target
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text
from rabbet.core.shell import joined_words
from rabbet.disk.text_file import read_text
from rabbet.errors import NoSolution, Way
from rabbet.python.choosing.targets import MINORS, baseline_needed, named_target, target_of
from rabbet.python.sources.asking.catalogue import Catalogue
from rabbet.runtimes.choose import newest_first
from rabbet.workspace.rules.judging import CountedRules
from rabbet.workspace.runtimes.pythons import pythons_of
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.core.solve.explain.prose import Explanation
    from rabbet.core.solve.explain.suggest import Asked, Suggestion, Suggestions
    from rabbet.core.solve.solver import Refutation

__all__ = ["Unsolved", "no_solution", "unsolved_elsewhere"]

_MOST_OTHER_TARGETS = 4
_MOST_ACCEPTED = 4  # advisories that are offered to be accepted
_DAYS_ACCEPTED = 90
_ACCEPTED_BECAUSE = "no other release meets the requirements"
_SECONDS = 5.0  # of computing, for repairs: the reasons are told before


class Unsolved(Struct, frozen=True, kw_only=True):
    """A declaration, or a variant of it, without a solution for a target; the catalogue for that one.

    Another one, for a changed declaration, is `reopened`.

    `on_date` tells that nothing uploaded later was to count, because it is declared or was asked for, and
    `undated` answers as if it were not so. By `rules` there may be fewer releases; `ruled` gives a catalogue
    by other rules.
    """

    session: Session
    declaration: Declaration
    variant: str | None
    refutation: "Refutation"
    catalogue: Catalogue
    target: Target
    targets: Sequence[Target]
    reopened: Callable[[Declaration], AbstractContextManager[Catalogue]]
    on_date: str = ""
    date_declared: bool = False
    undated: Catalogue | None = None
    rules: CountedRules | None = None
    ruled: Callable[[CountedRules], AbstractContextManager[Catalogue]] | None = None


def no_solution(unsolved: Unsolved) -> NoSolution:
    """The error with the reasons, and with changes that were tried and help."""
    from rabbet.core.solve.explain.prose import explained

    unknown = _unknown(unsolved)
    if unknown is not None:
        return unknown
    declaration, target = unsolved.declaration, unsolved.target
    explanation = explained(unsolved.refutation, declaration.name)
    named = declaration.targets or declaration.pythons or target != unsolved.targets[0]
    where = f" for {target}" if named else ""
    where += f" in the variant {unsolved.variant}" if unsolved.variant else ""
    message = f"no set of releases meets all requirements{where}: they clash on {explanation.clash}"
    because = (
        *explanation.sentences,
        *(f"corrected in pyproject.toml: {correction}" for correction in _involved(unsolved)),
    )
    observer = unsolved.session.observer
    told = observer.told(message, because)
    observer.stage("trying what would help")
    tried, ways, left = _ways(unsolved)
    notes = [_further(explained(refutation, declaration.name)) for refutation in tried.further]
    if tried.cut_short:
        notes.append(f"no more than {_SECONDS:g} seconds were spent on looking for what helps")
    elif not ways:
        notes.append("no change of one or two requirements helps")
    if left:
        notes.append(
            f"the first of these leaves a clash in the variant{'s' * (len(left) > 1)} {', '.join(left)}"
        )
    error = NoSolution(
        message,
        because=because,
        note="\n".join(notes),
        remedy=ways[0] if ways else "",
        or_else=ways[1:],
    )
    error.told = told
    return error


def unsolved_elsewhere(unsolved: Unsolved) -> NoSolution:
    """The error for requirements that stand in no declaration: those of a build, or of a trial."""
    from rabbet.core.solve.explain.prose import explained

    who = unsolved.declaration.name
    explanation = explained(unsolved.refutation, who)
    return NoSolution(
        f"no set of releases meets what {who} needs: that clashes on {explanation.clash}",
        because=explanation.sentences,
    )


def _unknown(unsolved: Unsolved) -> NoSolution | None:
    """The error for names that no source knows, all of them at once."""
    from rabbet.resolving.suggested_commands import command_for, place_of

    catalogue = unsolved.catalogue
    text = read_text(unsolved.session.project.declaration_file, by_hand=True)
    because: list[str] = []
    known: list[str] = []
    names: list[str] = []
    edits: list[Edit] = []
    for requirement in unsolved.declaration.declared():
        name = requirement.need.name
        if name in names or not unsolved.target.admits(requirement.need.marker):
            continue
        if catalogue.candidates(name).known:
            continue
        names.append(name)
        known = known or list(catalogue.routing.names())
        near = near_names(name, known)
        because += [f"near {name}: {', '.join(near)}"] if near else []
        because += catalogue.routing.why_not_elsewhere(name)
        section = place_of(requirement, text, unsolved.variant)
        edits.append(Edit(verb="retract", what="library", value=name, section=section))
        if near:
            meant = need_text(
                replace(requirement.need, name=library_name(near[0]), spelling=near[0]), whole=True
            )
            edits.append(Edit(verb="declare", what="library", value=meant, section=section))
    if not names:
        return None
    told = " or ".join(f"'{name}'" for name in names)
    return NoSolution(
        f"no source knows a library named {told}",
        because=because,
        note="" if because else "check its spelling, and whether the source that has it is declared",
        remedy=command_for(edits),
    )


def _further(explanation: "Explanation") -> str:
    return "\n".join([f"there is another clash, on {explanation.clash}:", *explanation.sentences])


def _ways(unsolved: Unsolved) -> "tuple[Suggestions, list[Way], list[str]]":
    """The changes that were tried, and the commands that help, smallest first.

    Those come before others that help all variants, too; else the variants that the first one leaves without
    a solution are named.
    """
    from rabbet.core.solve.explain.suggest import Question, suggestions
    from rabbet.resolving.suggested_commands import command_for, edits_for, helps

    until = time.process_time() + _SECONDS
    text = read_text(unsolved.session.project.declaration_file, by_hand=True)
    declared, told = unsolved.declaration.asked(), unsolved.declaration.told
    tried = suggestions(
        unsolved.refutation,
        Question(
            declared=declared,
            targets=_asked(unsolved, unsolved.targets),
            others=_others(unsolved),
            in_time=lambda: time.process_time() < until,
        ),
    )
    ways = [*_building(unsolved), *_dated_ways(unsolved), *_ways_without_correction(unsolved)]
    each = [(change, edits_for(change, text, declared, unsolved.variant)) for change in tried.found]
    own = [pair for pair in each if all(_in_variant(edit, unsolved.variant) for edit in pair[1])]
    helping: list[tuple[list[str], Way]] = []
    for change, edits in own or each:  # what the variants share is changed only if nothing else helps
        targets = _asked(unsolved, unsolved.targets) if change.changes else []
        if helps(edits, text, targets, unsolved.variant, told):
            variants = unsolved.declaration.variants if unsolved.variant is None and change.changes else ()
            left = [
                name
                for name in sorted(variants)
                if time.process_time() < until and not helps(edits, text, targets, name, told)
            ]
            helping.append((left, Way(command_for(edits), _gives(change))))
    helping.sort(key=lambda pair: len(pair[0]))
    ways += [way for _, way in helping]
    ways += _accepting(unsolved)
    return tried, ways, helping[0][0] if helping and ways[0] is helping[0][1] else []


def _in_variant(edit: Edit, variant: str | None) -> bool:
    return variant is None or (edit.section is not None and edit.section.kind == "variant")


def _gives(suggestion: "Suggestion") -> str:
    chosen = ", ".join(
        f"{name} {' and '.join(map(str, versions))}" for name, versions in sorted(suggestion.chosen.items())
    )
    return f"gives {chosen}:" if chosen else ""


def _involved(unsolved: Unsolved) -> list[Correction]:
    """The corrections of releases that the clash is about."""
    from rabbet.core.solve.explain.proof import facts_of

    requirers = {fact.requirer.name for fact in facts_of(unsolved.refutation)}
    return [
        correction
        for correction in unsolved.declaration.corrections
        if correction.applies_to.name in requirers
    ]


def _ways_without_correction(unsolved: Unsolved) -> list[Way]:
    """Retracting a correction that brings the clash about."""
    from rabbet.core.solve.solver import Refutation, solve
    from rabbet.resolving.suggested_commands import command_for

    ways = []
    for correction in _involved(unsolved):
        others = tuple(other for other in unsolved.declaration.corrections if other is not correction)
        declaration = replace(unsolved.declaration, corrections=others)
        with unsolved.reopened(declaration) as catalogue:
            answers = (
                solve(catalogue.for_target(target), target, declaration.asked())
                for target in unsolved.targets
            )
            if not any(isinstance(answer, Refutation) for answer in answers):
                text = need_text(correction.applies_to)
                ways.append(Way(command_for([Edit(verb="retract", what="correction", value=text)])))
    return ways


def _accepting(unsolved: Unsolved) -> list[Way]:
    """Accepting advisories that keep releases of the clash out: the last way, because it mends nothing."""
    from rabbet.core.solve.explain.proof import facts_of
    from rabbet.core.solve.solver import Refutation, solve

    rules, ruled = unsolved.rules, unsolved.ruled
    if rules is None or ruled is None:
        return []
    candidates = unsolved.refutation.problem.candidates
    facts = facts_of(unsolved.refutation)
    names = sorted({name for fact in facts for name in (fact.about, fact.requirer.name) if name})
    ids: list[str] = []
    for name in names:
        versions = (_version(rejected.version) for rejected in candidates(name).rejected)
        ids += sorted(rules.refusing_ids(name, (version for version in versions if version is not None)))
    until = rules.now.date() + timedelta(days=_DAYS_ACCEPTED)
    choices = [[one] for one in ids[:_MOST_ACCEPTED]] + ([ids] if 1 < len(ids) <= _MOST_ACCEPTED else [])
    for choice in choices:
        with ruled(rules.accepting(choice, _ACCEPTED_BECAUSE, until)) as catalogue:
            answers = (
                solve(catalogue.for_target(target), target, unsolved.declaration.asked())
                for target in unsolved.targets
            )
            if any(isinstance(answer, Refutation) for answer in answers):
                continue
        commands = (
            joined_words(
                ["rabbet", "rules", "--accept", one, "--reason", _ACCEPTED_BECAUSE, "--until", str(until)]
            )
            for one in choice
        )
        return [Way(" && ".join(commands), "only if it does no harm here:")]
    return []


def _version(text: str) -> Version | None:
    try:
        return Version(text)
    except ValueError:  # a release that is known by its file's name only
        return None


def _building(unsolved: Unsolved) -> list[Way]:
    """Allowing the build of what the clash is about, if it has releases that only a build could bring in.

    That was not tried: it would run code that nobody has agreed to yet.
    """
    from rabbet.core.solve.explain.proof import facts_of
    from rabbet.python.choosing.serving import what_building_does
    from rabbet.resolving.suggested_commands import command_for

    allowed = {*unsolved.declaration.build_from_source, *unsolved.declaration.local}

    def buildable(needs: Iterable[Need]) -> list[NormalizedName]:
        by_name: dict[NormalizedName, set[Need]] = {}
        for need in needs:
            by_name.setdefault(need.name, set()).add(need)
        wanted = (name for name in sorted(by_name) if _only_built(unsolved, name, by_name[name]))
        return [name for name in wanted if name not in allowed]

    facts = facts_of(unsolved.refutation)
    among = buildable(need for fact in facts for _, need in fact.demands.values())
    declared = (
        requirement.need
        for requirement in unsolved.declaration.asked()
        if unsolved.target.admits(requirement.need.marker)
    )
    always = buildable(declared) if among else []  # without these no other change helps
    ways = dict.fromkeys(tuple(sorted({name, *always})) for name in among)
    return [
        Way(
            command_for([Edit(verb="declare", what="build-from-source", value=name) for name in names]),
            f"if you trust {' and '.join(names)}: building {what_building_does(len(names))}:",
        )
        for names in ways
    ]


def _only_built(unsolved: Unsolved, name: NormalizedName, needs: Iterable[Need]) -> bool:
    """Whether only releases that would have to be built are what all of these need."""

    def fits(version: str | Version) -> bool:
        try:
            return all(need.specifier.contains(version, prereleases=True) for need in needs)
        except ValueError:  # a release that is known by its file's name only
            return False

    found = unsolved.refutation.problem.candidates(name)
    unbuilt = any(rejected.unbuilt and fits(rejected.version) for rejected in found.rejected)
    return unbuilt and not any(fits(release.version) for release in found.releases)


def _dated_ways(unsolved: Unsolved) -> list[Way]:
    """Leaving out the date, if there is a solution without it."""
    from rabbet.core.solve.solver import Refutation, solve

    if unsolved.undated is None:
        return []
    answering = unsolved.undated.for_target(unsolved.target)
    if isinstance(solve(answering, unsolved.target, unsolved.declaration.asked()), Refutation):
        return []
    if unsolved.date_declared:
        told = f"without the declared as-of, {unsolved.on_date}, there is a solution:"
        return [Way("rabbet retract --as-of && rabbet resolve", told)]
    return [Way("rabbet resolve", f"without --as-of {unsolved.on_date} there is a solution:")]


def _asked(unsolved: Unsolved, targets: Sequence[Target]) -> "list[Asked]":
    """Targets with their catalogues, the one without a solution first."""
    ordered = sorted(targets, key=lambda target: target is not unsolved.target)
    catalogue = unsolved.catalogue
    return [
        (target, catalogue if target is unsolved.target else catalogue.for_target(target))
        for target in ordered
    ]


def _others(unsolved: Unsolved) -> "Iterator[tuple[Suggestion, list[Asked]]]":
    """Newer systems than are assumed, this machine's other runtimes, fewer targets: whichever apply."""
    from rabbet.core.solve.explain.suggest import Suggestion

    declaration, target = unsolved.declaration, unsolved.target
    baseline = baseline_needed(target, _refused_tags(unsolved))
    if baseline and target.named:
        library, version = baseline
        raised = {**declaration.baselines, library: version}
        targets = [_with_baselines(target, raised) for target in unsolved.targets]
        yield Suggestion(baseline=f"{library}={version}"), _asked(unsolved, targets)
    if not declaration.targets and not declaration.pythons:
        if target != unsolved.targets[0]:
            yield from _from_a_later_python(unsolved)
            return
        for other in _other_targets(unsolved, target):
            yield Suggestion(runtime=f"=={other.minor}.*"), _asked(unsolved, [other])
    rest = [other for other in unsolved.targets if other.platform != target.platform]
    if rest and target.platform in declaration.targets:
        yield Suggestion(left_out=target.platform), _asked(unsolved, rest)


def _from_a_later_python(unsolved: Unsolved) -> "Iterator[tuple[Suggestion, list[Asked]]]":
    """A range of Python that begins above the lowest version, for which there is no solution."""
    from rabbet.core.solve.explain.suggest import Suggestion
    from rabbet.core.solve.solver import Refutation, solve

    own, lowest = unsolved.targets[0], unsolved.target
    asked, rest = unsolved.declaration.asked(), unsolved.declaration.python
    kept = [str(clause) for clause in rest if clause.operator in ("<", "<=", "!=")]
    minors = (minor for minor in MINORS if lowest.python < Version(minor) <= own.python)
    for minor in minors:
        library, version = own.libc
        target = own if minor == own.minor else named_target(own.platform, minor, {library: version})
        if not isinstance(solve(unsolved.catalogue.for_target(target), target, asked), Refutation):
            yield Suggestion(runtime=",".join([f">={minor}", *kept])), _asked(unsolved, [target, own])
            return


def _with_baselines(target: Target, baselines: Mapping[str, str]) -> Target:
    each = [named_target(single.platform, single.minor, baselines) for single in target.each]
    return replace(each[0], alike=tuple(each[1:]))


def _refused_tags(unsolved: Unsolved) -> set[str]:
    """The tags of all wheels that the clash's libraries have on offer, of whatever use."""
    from rabbet.core.solve.explain.proof import facts_of

    names = {
        name for fact in facts_of(unsolved.refutation) for name in (fact.about, fact.requirer.name) if name
    }
    listings = [unsolved.catalogue.listing(name) for name in sorted(names)]
    return {tag for listing in listings if listing for file in listing.files for tag in file.tags or ()}


def _other_targets(unsolved: Unsolved, target: Target) -> list[Target]:
    """The same machine with its other runtimes, those that the declaration allows first."""
    runtimes = {
        runtime.version.release[:2]: runtime
        for runtime in reversed(newest_first(pythons_of(unsolved.session)))
    }
    others = [runtime for minor, runtime in runtimes.items() if minor != target.python.release[:2]]
    allowed = [
        other for other in others if unsolved.declaration.python.contains(other.version, prereleases=True)
    ]
    rest = [runtime for runtime in others if runtime not in allowed]
    return [target_of(runtime) for runtime in [*newest_first(allowed), *newest_first(rest)]][
        :_MOST_OTHER_TARGETS
    ]
