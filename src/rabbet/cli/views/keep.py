"""What keeping a library as it is installed means for the declaration and the next lock."""

from collections.abc import Sequence

from rabbet.cli.context import Context
from rabbet.cli.style import table
from rabbet.cli.views.changes import entry_text, verb_of
from rabbet.core.shell import quoted, variant_option
from rabbet.tasks.keep import Keeping

__all__ = ["outcome", "show_keeping"]


def show_keeping(kept: Keeping, context: Context) -> None:
    """Print what would be declared, and what preferred."""
    rows = [(verb_of(change), entry_text(change), change.place) for change in kept.changes]
    rows += [
        ("preferred", f"{name}=={version}", kept.project.preferred_file.name)
        for name, version in sorted(kept.preferred.items())
    ]
    for line in table(("change", "entry", "in"), rows, context.style):
        context.show(line)
    context.show()


def outcome(
    kept: Keeping, names: Sequence[str], group: str | None, *, written: bool, context: Context
) -> str:
    """What was written, and what to do next."""
    of_variant = variant_option(kept.project.variant)
    if written:
        files = [kept.project.preferred_file.name]
        if kept.changes:
            files.insert(0, kept.project.declaration_file.name)
        return f"Wrote {' and '.join(files)}. Next: rabbet resolve && rabbet recreate{of_variant}"
    if context.interactive:
        return "Nothing was written."
    in_group = f" --group {quoted(group)}" if group else ""
    again = f"rabbet drift{of_variant} --keep {' '.join(quoted(name) for name in names)}{in_group} --yes"
    return f"Nothing was written, for nobody could be asked. To write it: {again}"
