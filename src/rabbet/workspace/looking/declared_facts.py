"""The facts of a declaration that tell which files an environment follows from, read without all the rest."""

import hashlib
import json
from contextlib import suppress
from typing import NamedTuple

from rabbet.core.limits import UNREADABLE
from rabbet.store.blob_cache import BlobCache
from rabbet.workspace.rules.state import RulePlaces, places_in

__all__ = ["DeclaredFacts", "declared_facts"]


class DeclaredFacts(NamedTuple):
    """Whether the project is `built`, and in `editable` form; `local` are folders of checkouts.

    It may need runtimes of `others` than Python; `programs` are the main programs of languages of its own.
    `rules` are the places that its rules name; `None` where it states none.
    """

    built: bool
    editable: bool
    others: bool
    local: tuple[str, ...]
    programs: tuple[str, ...]
    rules: RulePlaces | None = None


def declared_facts(text: bytes, memory: BlobCache) -> DeclaredFacts:
    """The facts in a declaration's text, remembered by its digest.

    Raises `FileNotFoundError` where it can't be read: then nothing is known of what follows from it.
    """
    key = hashlib.sha256(text).hexdigest() + "-facts"
    with suppress(ValueError, TypeError):  # nothing is known, or in another form
        built, editable, others, local, programs, rules = json.loads(memory.recall(key) or b"")
        places = rules and RulePlaces(tuple(rules[0]), rules[1])
        return DeclaredFacts(built, editable, others, tuple(local), tuple(programs), places)
    facts = _read(text)
    memory.remember(key, json.dumps(facts).encode())
    return facts


def _read(text: bytes) -> DeclaredFacts:
    from tomllib import loads  # here: mostly the facts are remembered

    try:
        document = loads(text.decode())
        settings = document.get("tool", {}).get("rabbet", {})
        variants = settings.get("variants", {}).values()
        languages = settings.get("languages", {}).values()
        return DeclaredFacts(
            built="build-system" in document,
            editable=settings.get("editable", True) is not False,
            others=bool(languages) or any("runtimes" in table for table in (settings, *variants)),
            local=tuple(str(path) for path in settings.get("local", {}).values()),
            programs=tuple(str(language["programs"][0]) for language in languages),
            rules=places_in(settings),
        )
    except (*UNREADABLE, AttributeError, TypeError, LookupError) as error:
        raise FileNotFoundError("pyproject.toml") from error
