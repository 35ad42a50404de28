"""What `store` shows."""

from collections.abc import Sequence
from dataclasses import asdict

from rabbet.cli.context import Context
from rabbet.cli.style import count, size_text, table
from rabbet.errors import ExitCode
from rabbet.store.maintenance import Removed
from rabbet.tasks.store import Overview

__all__ = ["show_damaged", "show_overview", "show_removed"]


def show_overview(found: Overview, context: Context, *, as_json: bool) -> int:
    """Print the parts and where they are."""
    if as_json:
        parts = [asdict(one) for one in found.holdings]
        content = {"folder": str(found.folder), "parts": parts, "environments": found.environments}
        context.show_json("store", content)
        return ExitCode.DONE
    rows = [(one.name, str(one.entries), size_text(one.size), one.purpose) for one in found.holdings]
    for line in table(("part", "entries", "size", "what for"), rows, context.style):
        context.show(line)
    context.show()
    total = size_text(sum(one.size for one in found.holdings))
    context.show(f"{found.folder}: {total}, for {count(found.environments, 'environment')}.")
    return ExitCode.DONE


def show_removed(removed: Sequence[Removed], context: Context, *, as_json: bool) -> int:
    """Print how much was removed."""
    if as_json:
        context.show_json("store", {"removed": [asdict(one) for one in removed]})
        return ExitCode.DONE
    wheels = {one.sha256 for one in removed}
    freed = size_text(sum(one.size for one in removed))
    context.show(f"Removed {count(len(wheels), 'wheel')} that nobody uses: {freed} freed.")
    return ExitCode.DONE


def show_damaged(damaged: Sequence[str], context: Context, *, as_json: bool) -> None:
    """Print what was damaged."""
    if as_json:
        context.show_json("store", {"damaged": list(damaged)})
        return
    for name in damaged:
        context.show(f"  damaged: {name}")
    if damaged:
        context.show()
        context.show("What was damaged is removed. Next, in each project: rabbet recreate")
    else:
        context.show("Every file is what it was when it was fetched.")
