"""Suggestions as edits of the declaration's text, and edits as commands that can be pasted into a shell."""

from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from rabbet.core.declaration.edit import Edit
from rabbet.core.declaration.model import Declared, Section
from rabbet.core.model.build import Told
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text
from rabbet.core.shell import quoted
from rabbet.core.solve.explain.suggest import Asked, RequirementChange, Suggestion
from rabbet.core.solve.solver import Refutation, solve
from rabbet.errors import RabbetError
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.project.pyproject_edit import apply, places_of

__all__ = ["command_for", "edits_for", "helps", "place_of", "section_option"]


def edits_for(
    suggestion: Suggestion, text: str, declared: Sequence[Declared], variant: str | None = None
) -> tuple[Edit, ...]:
    """The edits of a declaration's text that carry out a suggestion for it, or for a variant of it."""
    each = (edit for change in suggestion.changes for edit in _edits(change, text, declared, variant))
    found = list(dict.fromkeys(each))
    if suggestion.runtime:
        section = Section("variant", variant) if variant else None
        found.append(
            Edit(verb="declare", what="runtime", value=f"python{suggestion.runtime}", section=section)
        )
    if suggestion.baseline:
        found.append(Edit.given("declare", "baseline", suggestion.baseline))
    if suggestion.left_out:
        found.append(Edit(verb="retract", what="target", value=suggestion.left_out))
    return tuple(found)


def helps(
    edits: Iterable[Edit],
    text: str,
    targets: Iterable[Asked],
    variant: str | None = None,
    told: Told | None = None,
) -> bool:
    """Whether a declaration's text (or a variant of it) that is edited so has a solution for these targets.

    What a section includes may stand in another one, so an edit may come to more, or less, than what was
    tried.
    """
    try:
        edited = apply(text, edits)[0]
        after = read_declaration(edited, folder_name="", has_setup=told is not None, told=told)
        asked = (after.varied(variant) if variant else after).asked()
    except RabbetError:
        return False
    return not any(isinstance(solve(provider, target, asked), Refutation) for target, provider in targets)


def command_for(edits: Iterable[Edit]) -> str:
    """The commands that make these edits, the same in bash, zsh and fish."""
    return " && ".join(_command(edit) for edit in edits)


def section_option(section: Section | None) -> str:
    """Such as ` --group checks`, to be put behind a command; empty for the project itself."""
    return f" --{section.kind} {quoted(section.name)}" if section else ""


def _command(edit: Edit) -> str:
    option = "" if edit.what in ("library", "section") else f" --{edit.what}"
    exactly = " --exactly" if edit.exactly else ""
    value = f" {quoted(edit.text)}" if edit.text else ""
    return f"rabbet {edit.verb}{section_option(edit.section)}{exactly}{option}{value}"


def _edits(
    change: RequirementChange, text: str, declared: Sequence[Declared], variant: str | None
) -> Iterable[Edit]:
    """Where the entry stands that makes a requirement, it is changed; a group may only include it."""
    declared_need, after = change.declared, change.after
    if declared_need.limit:
        if after is None or not after.specifier:
            return [Edit(verb="retract", what="limit", value=declared_need.need.written_name)]
        return [Edit(verb="declare", what="limit", value=need_text(after))]
    section = place_of(declared_need, text, variant)
    if after is None:
        return [Edit(verb="retract", what="library", value=declared_need.need.written_name, section=section)]
    lost = declared_need.need.extras - after.extras
    if lost:
        bare = f"{after.written_name}[{','.join(sorted(lost))}]"
        return [Edit(verb="retract", what="library", value=bare, section=section)]
    beside = (other for other in _alike(declared_need, declared) if place_of(other, text, variant) == section)
    together = _joined(after, [other.need for other in beside])
    exactly = together != after or not after.specifier
    return [
        Edit(
            verb="declare",
            what="library",
            value=need_text(together, whole=True),
            section=section,
            exactly=exactly,
        )
    ]


def place_of(declared_need: Declared, text: str, variant: str | None) -> Section | None:
    """The section whose list holds the entry: the one that requires it, else one that this includes."""
    places = [
        place
        for place in places_of(text, declared_need.need)
        if place is None or place.kind != "variant" or place.name == variant
    ]
    return declared_need.section if declared_need.section in places or not places else places[0]


def _alike(declared_need: Declared, declared: Sequence[Declared]) -> list[Declared]:
    """Whatever else is required of the same library under the same marker."""
    name, marker = declared_need.need.name, declared_need.need.marker
    return [
        other
        for other in declared
        if other.need.name == name
        and (other.need.marker, other.section, other.limit) == (marker, declared_need.section, False)
        and other.need != declared_need.need
    ]


def _joined(after: Need, others: Sequence[Need]) -> Need:
    """Several requirements on one library as one."""
    for other in others:
        after = replace(
            after, specifier=after.specifier & other.specifier, extras=after.extras | other.extras
        )
    return after
