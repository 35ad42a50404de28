"""The view of `adopt`: the proposed declaration, with reasons."""

from collections.abc import Sequence

from rabbet.cli.context import Context
from rabbet.core.drift.mends import Mend
from rabbet.core.needs.wording import need_text
from rabbet.core.shell import quoted
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count
from rabbet.documents.declaring.adopt import shown_place
from rabbet.documents.drifting.finding import mend_command
from rabbet.python.code.words import adopt_text
from rabbet.tasks.declaring.adopt import Adopting
from rabbet.workspace.known_sources import FOR_PROJECT

__all__ = ["outcome", "show_adopting"]

_SHOWN_ALONG = 8


def show_adopting(drawn_up: Adopting, context: Context) -> None:
    """Print what was looked at, each entry with its reason, and what is left out."""
    adoption = drawn_up.adoption
    context.show(f"Looked at: {', '.join(drawn_up.looked_at)}.")
    python, why = drawn_up.python
    rows = [(python, "the runtime", why)] if python else []
    rows += [
        (need_text(entry.need), shown_place(entry), adopt_text(entry.cause)) for entry in adoption.entries
    ]
    rows += [(need_text(limit.need), "limits", f"{limit.place} sets it") for limit in adoption.limits]
    rows += [(source.url, f"source {source.name}", "the other project has it") for source in drawn_up.sources]
    if rows:
        context.show()
        context.show_table(("entry", "in", "because"), rows)
    context.show()
    if adoption.along:
        context.show(f"Left out, because others need them: {some_of(adoption.along, _SHOWN_ALONG)}.")
    if drawn_up.unordered:
        context.show("No environment tells what depends on what, so every pin is declared; with")
        context.show("--from an environment as well, what only comes along would be left out.")
    if drawn_up.hashed:
        context.show(f"{count(drawn_up.hashed, 'entry')} with hashes: the lock will have its own.")
    if adoption.at_odds:
        context.show(
            "Lists and what is installed differ; what is installed is preferred where entries allow it:"
        )
        for conflict in adoption.at_odds:
            context.show(f"  {conflict.what}: {adopt_text(conflict.cause)}")
    if adoption.left:
        context.show("Not taken over:")
        for left in adoption.left:
            context.show(f"  {left.what}: {adopt_text(left.cause)}")


def outcome(drawn_up: Adopting, places: Sequence[str], *, written: bool) -> str:
    """The lines on what was written, and what to do next."""
    preferred = drawn_up.adoption.preferred
    note = f" and {drawn_up.project.preferred_file.name}" if preferred else ""
    versions = f"; the next lock prefers {count(len(preferred), 'version')}" if preferred else ""
    if not (drawn_up.changed or preferred):
        return "pyproject.toml has all of that already."
    if not written:
        again = "rabbet adopt" + (f" --from {' '.join(quoted(place) for place in places)}" if places else "")
        verb = "would be new" if drawn_up.before is None else "would get what it lacks"
        return f"pyproject.toml {verb}{versions}. Nothing was written. To write it: {again} --yes"
    verb = "Wrote" if drawn_up.before is None else "Completed"
    what = "pyproject.toml" if drawn_up.changed else ""
    files = f"{what}{note}" if what else note.removeprefix(" and ")
    following = "rabbet resolve --now"
    if drawn_up.in_the_way:
        following = f"rabbet resolve && {mend_command({Mend.PUT_ASIDE}, None)}"
    if not drawn_up.sourced:
        return f"{verb} {files}{versions}. No source of libraries is known yet. Next: {FOR_PROJECT}"
    return f"{verb} {files}{versions}. Next: {following}"
