"""What rules follow from beside texts, in short: so that a command knows at once that nothing has changed.

This module imports little: most runs of `resolve` and `drift` end with what an earlier run found.
"""

import hashlib
import os
import time
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from rabbet.core.limits import MOST_BY_HAND, UNREADABLE
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import read_regular
from rabbet.errors import WrongUsage
from rabbet.workspace.machine import Machine

__all__ = ["ASKED_AGAIN", "RulePlaces", "index_file", "places_in", "rules_state", "users_places"]

ASKED_AGAIN = 3600  # seconds after which an address is asked whether its content changed
_SPAN = 600  # seconds: acceptances end, and records grow old
_MANY = 2000  # files of a folder that are looked at one by one


class RulePlaces(NamedTuple):
    """The places of records that rules name, and that of a shared file (empty: none)."""

    advisories: tuple[str, ...] = ()
    shared: str = ""


def places_in(settings: Mapping[str, Any]) -> RulePlaces | None:
    """The places in a table that may state rules; `None` where it states none."""
    rules = settings.get("rules")
    if rules is None:
        return None
    if isinstance(rules, str):
        return RulePlaces(shared=rules)
    return RulePlaces(tuple(map(str, rules.get("advisories", ()))), str(rules.get("shared", "")))


def users_places(machine: Machine) -> RulePlaces | None:
    """The places that the user's own rules name; `None` where there are no such rules. Raises `OSError`."""
    path = machine.settings_file()
    if not path.is_file():
        return None
    content = read_regular(path, most=MOST_BY_HAND)
    if b"rules" not in content:
        return None
    from tomllib import loads  # here: few settings hold rules

    try:
        return places_in(loads(content.decode()))
    except (*UNREADABLE, AttributeError, TypeError) as error:
        raise FileNotFoundError(path) from error


def index_file(store: Path, place: str) -> Path:
    """The index of the records in a place, which is absolute."""
    key = hashlib.sha256(place.encode(errors="surrogateescape")).hexdigest()[:32]
    return store / "advisories" / f"{key}.sqlite"


def rules_state(machine: Machine, folder: Path, own: RulePlaces | None) -> str:
    """A text that differs where rules may say something else than before; empty where none are stated.

    `own` are those of the project in a folder. Raises `OSError` where that has to be worked out: records were
    not read yet, or an address is to be asked again.
    """
    users = users_places(machine)
    if own is None and users is None:
        return ""
    parts = [str(int(time.time() // _SPAN))]
    for places, seen_from in ((own, folder), (users, machine.settings_file().parent)):
        if places is not None:
            parts += _states(machine, places, seen_from)
    if users is not None:
        parts.append(hashlib.sha256(machine.settings_file().read_bytes()).hexdigest())
    return " ".join(parts)


def _states(machine: Machine, places: RulePlaces, seen_from: Path) -> Iterator[str]:
    if places.shared:
        raise FileNotFoundError(places.shared)  # it is read, and may name more places
    for place in places.advisories:
        if "://" in place or place.startswith("file:"):
            state = index_file(machine.store_folder, place).stat()
            if not 0 <= time.time() - state.st_mtime < ASKED_AGAIN:
                raise FileNotFoundError(place)
            yield f"{state.st_ino} {state.st_mtime_ns}"
        else:
            try:
                path = path_named(place, seen_from)
            except WrongUsage as error:
                raise FileNotFoundError(place) from error
            index = index_file(machine.store_folder, str(path)).stat()
            yield f"{index.st_ino} {_state_of(path)}"


def _state_of(path: Path) -> str:
    """The states of all files of a place; they take no longer than a moment to look at."""
    digest = hashlib.blake2b(digest_size=16)
    waiting, count = [str(path)], 0
    if not path.is_dir():
        state = path.stat()
        return f"{state.st_size} {state.st_mtime_ns} {state.st_ino}"
    while waiting:
        with os.scandir(waiting.pop()) as entries:
            for entry in entries:
                count += 1
                if count > _MANY:
                    raise FileExistsError(path)
                try:
                    state = entry.stat()
                except OSError:  # a link that leads nowhere
                    state = entry.stat(follow_symlinks=False)
                digest.update(f"{entry.path}\0{state.st_size} {state.st_mtime_ns}\n".encode(errors="replace"))
                if entry.is_dir(follow_symlinks=False) and entry.name[0] != ".":
                    waiting.append(entry.path)
    return digest.hexdigest()
