"""Verify an environment against the wheel hashes in the lock.

Who changes a module, its `RECORD` and Rabbet's notes together leaves an environment that agrees with itself.
Here every file is held against the wheel that the lock names, by its hash: from the store, where that is held
against the wheel first, or fetched anew.
"""

import hashlib
import os
from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace

from rabbet.builds.building import known_wheel
from rabbet.compose.wheels import prepared_wheels
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import ToInstall
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.progress import Observer, reading_files
from rabbet.environment.inspect import take_inventory
from rabbet.environment.install import Prepared, record_content
from rabbet.environment.install_state import InstallState
from rabbet.environment.layout import Layout
from rabbet.store.trees import is_sound
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.supply import intent_of, supply_for

__all__ = ["deep_inventory"]


def deep_inventory(
    project: Project,
    machine: Machine,
    observer: Observer,
    install_state: InstallState | None,
    wanted: Sequence[ToInstall],
    runtime: PythonRuntime,
) -> Inventory:
    """The inventory of an environment, read whole, with what differs from the wheels of the lock as altered.

    What was built here is held against what the store has of that; no wheel vouches for an editable one.
    Raises `EnvironmentFailed` when there is no environment, and what fetching raises.
    """
    store, layout = machine.store, Layout(root=project.environment, site_packages=runtime.site_packages)
    wheels = [one for one in (known_wheel(one, store) for one in wanted) if one is not None]
    observer.stage("holding the store against the wheels of the lock", len(wheels))
    for one in wheels:
        store.hold_against_wheel(one.artifact)
        observer.step(one.locked.name)
    whole = take_inventory(project.environment, install_state, begin=reading_files(observer))
    libraries = dict(whole.libraries)
    supply, intent = supply_for(project, machine, observer), intent_of(project, own_lock=False)
    with closing(prepared_wheels(wheels, project.environment, runtime, supply, intent)) as arriving:
        for one, prepared in arriving:
            name = one.locked.name
            if name in libraries:
                libraries[name] = _held_against(libraries[name], prepared, layout)
    return replace(whole, libraries=libraries)


def _held_against(installed: Installed, prepared: Prepared, layout: Layout) -> Installed:
    """An installed library, with every file that differs from its wheel marked as altered."""
    record = hashlib.sha256(record_content(prepared, layout)).hexdigest()
    expected = [(f"{layout.site_packages}/{prepared.info}/RECORD", record)]
    expected += ((file.place, file.sha256) for file in prepared.placed)
    altered = [
        layout.in_record(place) for place, sha256 in expected if not is_sound(layout.root / place, sha256)
    ]
    gone = [layout.in_record(place) for place, _ in expected if not os.path.lexists(layout.root / place)]
    return replace(
        installed,
        altered=tuple(dict.fromkeys((*installed.altered, *altered))),
        gone=tuple(dict.fromkeys((*installed.gone, *gone))),
    )
