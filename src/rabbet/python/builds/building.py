"""Unbuilt libraries → wheels in the store, each built once for the same inputs."""

import hashlib
import json
import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from rabbet.core.model.lock import LockedWheel, Needed, ToInstall, Unbuilt
from rabbet.core.model.runtime import PythonRuntime
from rabbet.errors import BuildFailed, IntegrityFailed
from rabbet.net.local_file import read_pieces
from rabbet.python.builds.identity import digest_of
from rabbet.python.builds.workshop import Workshop, opened
from rabbet.python.choosing.file_name import BadFileName, FileName, parse_wheel_name
from rabbet.python.choosing.targets import target_of
from rabbet.python.compose.fetch import LockedContents
from rabbet.python.store.store import Store
from rabbet.work.pools import as_finished

__all__ = ["built", "keep_wheel", "known_wheel"]


def built(unbuilt: Sequence[Unbuilt], workshop: Workshop) -> Iterator[Needed]:
    """Build what the store lacks, several at once; each as soon as it is done.

    The first failure ends it. Raises `BuildFailed`, `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    if not unbuilt:
        return
    observer = workshop.fetcher.observer
    observer.stage("building", len(unbuilt))
    pool = ThreadPoolExecutor(os.cpu_count() or 1, thread_name_prefix="build")
    try:
        for job in as_finished([pool.submit(_built, library, workshop) for library in unbuilt]):
            done = job.result()
            observer.step(done.locked.name)
            yield done
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def known_wheel(item: ToInstall, store: Store) -> Needed | None:
    """A library with its wheel, where nothing has to be built for that now."""
    return item if isinstance(item, Needed) else _kept(item, store)


def _built(unbuilt: Unbuilt, workshop: Workshop) -> Needed:
    """Dependencies are built first; only one process builds the same library at a time."""
    store = workshop.fetcher.store
    known = _kept(unbuilt, store)
    if known is not None:
        return known
    with store.claimed(f"build {unbuilt.digest}"):
        known = _kept(unbuilt, store)  # another process may have been faster
        if known is not None:
            return known
        taken = _taken(unbuilt, workshop)
        if taken is not None:
            return taken
        environment = [
            library if isinstance(library, Needed) else _built(library, workshop)
            for library in unbuilt.environment
        ]
        with (
            opened(unbuilt.what, unbuilt.source, workshop, unbuilt.options) as sources,
            sources.backend(environment) as backend,
        ):
            wheel = backend.build(unbuilt.kind)
            _check(wheel.name, unbuilt, workshop.runtime)
            if unbuilt.kind == "editable" and not backend.is_lasting(wheel):
                raise _not_lasting(unbuilt)
            if unbuilt.local:  # the build may have left something in the sources
                unbuilt = replace(
                    unbuilt, digest=digest_of(unbuilt, workshop.runtime, workshop.fetcher.folder)
                )
            return _put_into(store, wheel, unbuilt)


def _taken(unbuilt: Unbuilt, workshop: Workshop) -> Needed | None:
    """The library with a wheel that a teammate built, where all that the build follows from is the same."""
    wheel = None if unbuilt.local else workshop.prebuilt(unbuilt.digest)
    if wheel is None:
        return None
    _check(wheel.filename, unbuilt, workshop.runtime)
    store, contents = workshop.fetcher.store, LockedContents(workshop.fetcher)
    contents.taken(wheel, partial(store.obtain, wheel))
    return _remembered(store, wheel, unbuilt)


def keep_wheel(wheel: Path, unbuilt: Unbuilt, workshop: Workshop) -> None:
    """Keep a wheel that was built to learn something, so that it need not be built again.

    Raises `BuildFailed` for one that is something else, `CannotWrite`.
    """
    _check(wheel.name, unbuilt, workshop.runtime)
    _put_into(workshop.fetcher.store, wheel, unbuilt)


def _check(wheel: str, unbuilt: Unbuilt, runtime: PythonRuntime) -> None:
    """The wheel has to be the library that it was built as, and to fit the runtime. Raises `BuildFailed`."""
    what = unbuilt.what
    try:
        parsed = parse_wheel_name(wheel)
    except BadFileName as error:
        raise BuildFailed(f"the build of {what} made no wheel", because=[str(error)]) from error
    locked = unbuilt.locked
    same_version = parsed.version == locked.version or unbuilt.local
    if parsed.name != locked.name or not same_version:
        raise BuildFailed(
            f"the build of {what} made something else",
            because=[f"it made {parsed.name} {parsed.version}: {wheel}", "it is not installed"],
        )
    target = target_of(runtime)
    if not any(tag in target.tags for tag in parsed.tags or ()):
        raise BuildFailed(f"the build of {what} made a wheel that does not fit {runtime}", because=[wheel])


def _not_lasting(unbuilt: Unbuilt) -> BuildFailed:
    return BuildFailed(
        f"the editable form of {unbuilt.what} can't last",
        because=["it needs the environment of its build at each import, and that is gone afterwards"],
        note="with editable = false under [tool.rabbet], a wheel is built instead, and rebuilt after each"
        " change; then: rabbet resolve",
    )


def _put_into(store: Store, path: Path, unbuilt: Unbuilt) -> Needed:
    """Put a wheel that was built into the store, and note what it was built from.

    Raises `BuildFailed` for one that is malformed, `CannotWrite`.
    """
    digest, size = hashlib.sha256(), 0
    for piece in read_pieces(path):
        digest.update(piece)
        size += len(piece)
    wheel = LockedWheel(filename=path.name, sha256=digest.hexdigest(), size=size)
    try:
        store.obtain(wheel, lambda: read_pieces(path))
    except IntegrityFailed as error:
        raise BuildFailed(
            f"the build of {unbuilt.what} made a wheel that can't be installed",
            because=[str(error), *error.because],
        ) from error
    return _remembered(store, wheel, unbuilt)


def _remembered(store: Store, wheel: LockedWheel, unbuilt: Unbuilt) -> Needed:
    """Note that the store has this wheel of a build."""
    note = {"filename": wheel.filename, "sha256": wheel.sha256, "size": wheel.size}
    if not unbuilt.local:  # what a checkout holds may change at any time
        store.built.remember(unbuilt.digest, json.dumps(note).encode())
    return _as_needed(unbuilt, wheel)


def _kept(unbuilt: Unbuilt, store: Store) -> Needed | None:
    """The wheel of an earlier build with the same inputs, if the store still has it."""
    content = store.built.recall(unbuilt.digest)
    if content is None:
        return None
    with suppress(ValueError, TypeError, KeyError):
        note = json.loads(content)
        wheel = LockedWheel(filename=note["filename"], sha256=note["sha256"], size=note["size"])
        if store.has(wheel):
            return _as_needed(unbuilt, wheel)
    return None


def _as_needed(unbuilt: Unbuilt, wheel: LockedWheel) -> Needed:
    """A library that was built; a checkout may have another version than it had when it was locked."""
    parsed: FileName = parse_wheel_name(wheel.filename)
    return Needed(locked=replace(unbuilt.locked, version=parsed.version), artifact=wheel, build=unbuilt)
