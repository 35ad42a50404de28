"""What mends findings, as commands to paste."""

from collections.abc import Collection

from rabbet.core.drift.mends import Mend, mend_of
from rabbet.core.model.finding import Finding
from rabbet.core.shell import quoted, variant_option

__all__ = ["command_for", "mend_command"]


def command_for(finding: Finding, variant: str | None) -> str:
    """The command that mends one finding; empty where none does."""
    mend = mend_of(finding)
    return mend_command({mend}, variant, finding.name) if mend else ""


def mend_command(mends: Collection[Mend], variant: str | None, name: str = "") -> str:
    """One command line that does all of these; `name` is what a single finding is about."""
    of_variant = variant_option(variant)
    if Mend.PUT_ASIDE in mends:
        folder = f".venv-{variant}" if variant else ".venv"
        return f"mv {quoted(folder)} {quoted(folder + '-before')} && rabbet recreate{of_variant}"
    if mends == {Mend.CHECK_LOCK}:
        return f"rabbet resolve --verify{of_variant}"
    if mends == {Mend.LOOK_FOR_RUNTIME}:
        return f"rabbet runtimes --only {quoted(name)}" if name else "rabbet runtimes"
    parts = []
    if Mend.RAISE in mends and name:
        parts.append(f"rabbet resolve --raise {quoted(name)}")
    elif Mend.RESOLVE in mends:
        parts.append("rabbet resolve")
    told = {Mend.OBTAIN: " --obtain", Mend.EVERYTHING: " --everything", Mend.COMPILE: " --fresh"}
    options = "".join(option for mend, option in told.items() if mend in mends)
    parts.append(f"rabbet recreate{of_variant}{options}")
    return " && ".join(parts)
