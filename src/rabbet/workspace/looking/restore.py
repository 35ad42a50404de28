"""Restore an environment from its cached manifest.

It serves who deletes an environment and wants it back, and who has one project in many folders. This module
imports little; whatever is not as it was leads to the long way (`rabbet.tasks.recreating.recreate`).
"""

from collections.abc import Iterable, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.disk.atomic import cannot_write
from rabbet.disk.process_lock import claimed
from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.layout import Layout
from rabbet.python.environment.place.linking import Linking
from rabbet.python.environment.place.staging import leftovers, taking_place_of
from rabbet.python.environment.put.manifest import (
    EnvironmentManifest,
    StoreChanged,
    build_from_manifest,
    manifest_of,
    read_manifest,
    write_manifest,
)
from rabbet.store.blob_cache import BlobCache
from rabbet.workspace.looking.result_cache import (
    CachedMatch,
    Inputs,
    environment_state,
    inputs_of,
    remember_fit,
)
from rabbet.workspace.machine import Machine
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.python.environment.put.install import PlannedFile

__all__ = ["opened_for_manifest", "remember_manifest", "restored"]


def restored(session: Session) -> EnvironmentManifest | None:
    """Restore the environment from the manifest in the store, and note that it fits.

    `None` when an environment exists, or the store holds no usable manifest. Raises `CannotWrite`.
    """
    home, environments = session.project.environment, session.machine.environments()
    with suppress(OSError):
        inputs = inputs_of(session)
        content = _memory(session.machine).recall(_key(session, inputs))
        manifest = read_manifest(content) if content else None
        if manifest is None:
            return None
        with claimed(session.machine.store_folder, str(home)):
            if home.exists() or home.is_symlink() or leftovers(home, environments):
                return None
            session.observer.stage("installing", len(manifest.libraries))
            try:
                with taking_place_of(home, environments) as root, cannot_write(home):
                    opened = partial(opened_for_manifest, root, session.machine)
                    build_from_manifest(manifest, opened, session.machine.memory("states"))
            except StoreChanged:
                return None
            fit = CachedMatch(home.name, len(manifest.libraries), manifest.runtime)
            remember_fit(session, inputs, environment_state(home, session.machine), fit)
        return manifest
    return None


def opened_for_manifest(root: Path, machine: Machine) -> GuardedEnvironment:
    """An empty folder, opened to be filled by a manifest. Raises `OSError`."""
    layout = Layout(root=root, site_packages="lib")  # a manifest names all folders, and makes them
    return GuardedEnvironment(layout, Linking(share=machine.shares_files()))


def remember_manifest(
    session: Session,
    inputs: Inputs,
    placed: "Iterable[PlannedFile]",
    trees: Sequence[tuple[str, Path]],
    libraries: Iterable[tuple[str, str]],
    runtime: str,
) -> None:
    """Keep the manifest of the environment that was just made."""
    with suppress(OSError):
        manifest = manifest_of(session.project.environment, placed, trees, libraries, runtime)
        _memory(session.machine).remember(_key(session, inputs), write_manifest(manifest))


def _memory(machine: Machine) -> BlobCache:
    return machine.memory("manifests")


def _key(session: Session, inputs: Inputs) -> str:
    """The cache key: one for all copies of a project, for nothing in an environment depends on its place."""
    return f"{inputs.digest}{session.project.environment.name}"
