"""One-line results of `resolve` and `recreate` when nothing had to be worked out."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.core.shell import variant_option
from rabbet.documents.amounts import count
from rabbet.workspace.looking.result_cache import CachedMatch, UpToDate

if TYPE_CHECKING:
    from rabbet.python.environment.put.manifest import EnvironmentManifest

__all__ = ["fit_text", "made_text", "no_drift_text", "show_at_once", "show_up_to_date", "steps_table"]


def show_up_to_date(found: UpToDate, context: Context) -> None:
    """Print one sentence."""
    following = "" if found.variant else " Next: rabbet recreate"
    locked = count(found.libraries, "library")
    context.show(f"{found.file} is up to date: {locked} for {found.targets}.{following}")


def fit_text(found: CachedMatch) -> str:
    """One sentence."""
    libraries = count(found.libraries, "library")
    return f"{found.environment} matches the lock: {libraries}, {found.runtime}. Nothing to do."


def no_drift_text(compared: int, noted: str = "") -> str:
    """One sentence; `noted` says where notes are."""
    return f"No drift: {count(compared, 'library')} as locked{noted}."


def steps_table(rows: Sequence[tuple[str, str, str, str]], context: Context) -> None:
    """Print what happens to each library: action, name, version, reason."""
    tones = {"add": context.style.good, "replace": context.style.warning, "remove": context.style.bad}
    headings = ("change", "library", "version", "because" if any(row[3] for row in rows) else "")
    context.show_table(headings, rows, tones=tones)
    context.show()


def made_text(environment: str, runtime: str, summary: str, variant: str | None) -> str:
    """One sentence on an environment that was made again."""
    following = f"rabbet run{variant_option(variant)} COMMAND"
    return f"Made {environment} with {runtime}: {summary}. Next: {following}"


def show_at_once(
    environment: str, known: "CachedMatch | EnvironmentManifest", variant: str | None, context: Context
) -> None:
    """Print that an environment fits, or what was added to one that was restored, as if it was worked out."""
    if isinstance(known, CachedMatch):
        context.show(fit_text(known))
        return
    steps_table([("add", name, version, "") for name, version in known.libraries], context)
    context.show(made_text(environment, known.runtime, f"{len(known.libraries)} added", variant))
