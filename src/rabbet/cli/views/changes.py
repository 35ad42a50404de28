"""What became of the declaration: for `declare` and `retract`."""

from dataclasses import asdict

from rabbet.cli.context import Context
from rabbet.cli.style import table
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.edit import Change
from rabbet.errors import ExitCode
from rabbet.tasks.declare import Done, entries_of

__all__ = ["show_changes", "show_entries"]


def show_changes(context: Context, done: Done, *, schema: str, as_json: bool) -> int:
    """Print one row a change, what came of it, and what to do next."""
    edited = done.edited
    if as_json:
        context.show_json(schema, _document(done))
        return ExitCode.DONE
    rows = [(_verb(change), _what(change), change.place) for change in edited.changes]
    if rows:
        for line in table(("change", "entry", "in"), rows, context.style):
            context.show(line)
        context.show()
    if edited.kept:
        context.show(f"Named as well, so that it stays served: {', '.join(edited.kept)}.")
    if done.recreated is not None:
        _show_rest(context, done)
    elif edited.changed:
        context.show("pyproject.toml is changed. Next: rabbet resolve")
    else:
        context.show("pyproject.toml says so already; nothing was changed.")
    return ExitCode.DONE


def _show_rest(context: Context, done: Done) -> None:
    from rabbet.cli.views import recreate, resolve

    for one in done.resolved:
        resolve.show(one, done.resolved[0].lock, context, going_on=True)
    if done.recreated is not None:
        recreate.show(done.recreated, context, only_plan=False)


def _document(done: Done) -> dict[str, object]:
    changes = [{"change": _verb(change), **asdict(change)} for change in done.edited.changes]
    document: dict[str, object] = {
        "changed": done.edited.changed,
        "changes": changes,
        "kept": list(done.edited.kept),
    }
    if done.recreated is not None:
        from rabbet.cli.views import recreate, resolve

        document["resolve"] = resolve.with_variants(done.resolved, resolve.document)
        document["recreate"] = recreate.document(done.recreated, done=True)
    return document


def show_entries(context: Context, declaration: Declaration, *, as_json: bool) -> None:
    """Print all that is declared."""
    entries = entries_of(declaration)
    if as_json:
        listed = [{"what": what, "entry": entry} for what, entry in entries]
        context.show_json("declare", {"project": declaration.name, "entries": listed})
        return
    for line in table(("what", "declared"), entries, context.style):
        context.show(line)
    context.show()
    following = "rabbet resolve" if any(True for _ in declaration.declared()) else "rabbet help declare"
    context.show(f"That is all that {declaration.name} declares. Next: {following}")


def _verb(change: Change) -> str:
    if not change.happened:
        return "declared already"
    if not change.before:
        return "added"
    return "changed" if change.after else "removed"


def _what(change: Change) -> str:
    changed = change.happened and change.before and change.after
    return f"{change.before} → {change.after}" if changed else change.after or change.before
