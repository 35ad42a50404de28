"""What became of the declaration: for `declare` and `retract`."""

from dataclasses import asdict

from rabbet.cli.context import Context
from rabbet.cli.style import table
from rabbet.errors import ExitCode
from rabbet.formats.pyproject_edit import Change
from rabbet.tasks.declare import Edited

__all__ = ["show_changes"]


def show_changes(context: Context, edited: Edited, *, schema: str, as_json: bool) -> int:
    """Print one row a change, and what to do next."""
    if as_json:
        changes = [{"change": _verb(change), **asdict(change)} for change in edited.changes]
        context.show_json(schema, {"changed": edited.changed, "changes": changes})
        return ExitCode.DONE
    rows = [(_verb(change), _what(change), change.place) for change in edited.changes]
    for line in table(("change", "entry", "in"), rows, context.style):
        context.show(line)
    context.show()
    if edited.changed:
        context.show("pyproject.toml is changed. Next: rabbet resolve")
    else:
        context.show("pyproject.toml says so already; nothing was changed.")
    return ExitCode.DONE


def _verb(change: Change) -> str:
    if not change.happened:
        return "same"
    if not change.before:
        return "added"
    return "changed" if change.after else "removed"


def _what(change: Change) -> str:
    changed = change.happened and change.before and change.after
    return f"{change.before} → {change.after}" if changed else change.after or change.before
