"""Words that practitioners would type first, and the commands of ours that do what they mean."""

from collections.abc import Sequence

from rabbet.core.shell import joined_words

__all__ = ["meant"]

# word → (the command, the one for named libraries; empty where names mean nothing to it)
_SYNONYMS = {
    "activate": ("enter", ""),
    "add": ("declare", "declare"),
    "cache": ("store", ""),
    "check": ("drift", ""),
    "diff": ("compare HEAD", ""),
    "exec": ("run", ""),
    "freeze": ("export list", ""),
    "info": ("status", "explain"),
    "init": ("begin", ""),
    "install": ("recreate", "declare --now"),
    "list": ("explain", "explain"),
    "lock": ("resolve", ""),
    "new": ("begin", ""),
    "outdated": ("status", "lookup"),
    "pin": ("resolve", "declare"),
    "python": ("runtimes --only python", ""),
    "remove": ("retract", "retract"),
    "search": ("lookup", "lookup"),
    "shell": ("enter", ""),
    "show": ("explain", "explain"),
    "sync": ("recreate", ""),
    "tree": ("explain", "explain"),
    "uninstall": ("retract", "retract"),
    "update": ("resolve --raise-all", "resolve --raise"),
    "upgrade": ("resolve --raise-all", "resolve --raise"),
    "venv": ("recreate", ""),
    "why": ("explain", "explain"),
}
_NEEDS_NAMES = ("declare", "retract", "lookup")  # these are nothing without a library


def meant(word: str, rest: Sequence[str]) -> str:
    """The command line for what somebody meant, with the libraries that were named; empty if unknown."""
    alone, named = _SYNONYMS.get(word, ("", ""))
    names = [word for word in rest if not word.startswith("-")]
    if names and named:
        return f"rabbet {named} {joined_words(names)}"
    if not alone:
        return ""
    return f"rabbet {alone} --help" if alone in _NEEDS_NAMES else f"rabbet {alone}"
