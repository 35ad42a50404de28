"""Suggestions as commands that can be pasted into a shell."""

import shlex

from rabbet.core.solve.suggest import Change, Suggestion
from rabbet.core.wording import requirement_text

__all__ = ["command_for"]


def command_for(suggestion: Suggestion) -> str:
    """The commands that carry out a suggestion, with a remark on what is chosen then."""
    if suggestion.runtime:
        return f"rabbet declare --runtime {shlex.quote(suggestion.runtime)}"
    commands = " && ".join(_command(change) for change in suggestion.changes)
    chosen = ", ".join(f"{name} {version}" for name, version in sorted(suggestion.chosen.items()))
    return f"{commands}  # gives {chosen}" if chosen else commands


def _command(change: Change) -> str:
    section = change.declared.section
    where = f" --{section.kind} {shlex.quote(section.name)}" if section else ""
    if change.after is None:
        return f"rabbet retract{where} {shlex.quote(change.declared.requirement.name)}"
    return f"rabbet declare{where} {shlex.quote(requirement_text(change.after))}"
