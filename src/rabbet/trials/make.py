"""Make a trial, or make it again as it was a short while ago.

Declaration, lock and environment of the project stay as they are. What is locked is kept where it can be. If
it all can, the trial holds the further libraries alone and lies upon the project's environment; else it holds
everything. What came of it is remembered for a while, so that the same trial starts at once.
"""

import hashlib
import json
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path

from rabbet.disk.atomic import cannot_write
from rabbet.python.environment.put.manifest import StoreChanged, build_from_manifest, read_manifest
from rabbet.trials.trial import TrialSummary, Wish
from rabbet.workspace.looking.restore import opened_for_manifest
from rabbet.workspace.looking.result_cache import fitting_key
from rabbet.workspace.machine import Machine
from rabbet.workspace.session import Session

__all__ = ["trial"]

_FRESH = 3600  # seconds for which what was settled for a trial counts: then the sources are asked again


@contextmanager
def trial(session: Session, wish: Wish, root: Path, fits: Callable[[], bool]) -> Iterator[TrialSummary]:
    """An environment of a trial in an empty folder, until the command in it has ended.

    `fits` tells whether the project's environment is there, and as the lock has it.
    Raises `NoLock`, `NoSolution`, `SourceFailed`, `IntegrityFailed`, `BuildFailed`, `CannotWrite`,
    `WrongUsage`, and what `question` raises.
    """
    key = _key(session, wish)
    made = _made_again(key, session.machine, root) if key else None
    if made is None:
        made, content = _made(session, wish, root, fits)
        if key and content:
            session.machine.memory("trials-made").remember(key, content)
    try:
        yield made
    finally:
        _remove(root)


def _remove(root: Path) -> None:
    import shutil

    shutil.rmtree(root, ignore_errors=True)


def _made(session: Session, wish: Wish, root: Path, fits: Callable[[], bool]) -> tuple[TrialSummary, bytes]:
    """Settle and compose a trial; with what makes it again, empty where it is good for this once only."""
    from rabbet.trials.compose import compose_trial
    from rabbet.trials.settle import settle_trial

    settled = settle_trial(session, wish, fits)
    manifest = compose_trial(settled, session, root)
    if manifest is None:
        return settled.tried, b""
    text = manifest.decode(errors="surrogatepass")
    again = json.dumps([time.time() + _FRESH, *settled.tried, text])
    return settled.tried, again.encode(errors="surrogatepass")


def _made_again(key: str, machine: Machine, root: Path) -> TrialSummary | None:
    """The trial as it was made before, if that was a short while ago and the store still has it all."""
    with suppress(ValueError, TypeError):
        until, brought, changed, keeping, text = json.loads(machine.memory("trials-made").recall(key) or b"")
        manifest = read_manifest(text.encode(errors="surrogatepass"))
        if manifest is None or not time.time() < until:
            return None
        try:
            with cannot_write(root):
                build_from_manifest(
                    manifest, partial(opened_for_manifest, root, machine), machine.memory("states")
                )
        except StoreChanged:
            _clear(root)
            return None
        return TrialSummary([tuple(pair) for pair in brought], [tuple(pair) for pair in changed], keeping)
    return None


def _clear(root: Path) -> None:
    """Begin again with an empty folder."""
    _remove(root)
    with cannot_write(root):
        root.mkdir()


def _key(session: Session, wish: Wish) -> str:
    """The cache key of a trial; empty when it can't be known without a closer look."""
    fitting = "" if wish.places else fitting_key(session)
    return hashlib.sha256(repr([fitting, *wish]).encode()).hexdigest() if fitting else ""
