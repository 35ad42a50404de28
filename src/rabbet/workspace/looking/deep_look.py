"""Verify an environment against the wheel hashes in the lock.

Who changes a module, its `RECORD` and Rabbet's notes together leaves an environment that agrees with itself.
Here every file is compared, by its hash, with the wheel that the lock names: with the store's unpacked one,
which is compared with the wheel first, or with one that is fetched again. Each file is read once.
"""

import hashlib
import os
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import Needed, ToInstall
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.progress import Observer, reading_files
from rabbet.disk.regular_file import sha256_of_regular
from rabbet.python.builds.building import known_wheel
from rabbet.python.choosing.origin import wheel_taken
from rabbet.python.compose.fetch import fetched_wheels
from rabbet.python.compose.wheels import listed_wheel, prepared_wheels
from rabbet.python.environment.look.inspect import Vouched, take_inventory
from rabbet.python.environment.place.install_state import InstallState
from rabbet.python.environment.place.layout import Layout
from rabbet.python.environment.put.install import (
    InstallPlan,
    installed_unchanged,
    record_content,
    record_rows,
)
from rabbet.python.formats.record import RecordRow
from rabbet.python.store.checks import hold_against_wheel
from rabbet.python.store.store import Store
from rabbet.workspace.fetching.composing import fetcher_for, install_policy_of
from rabbet.workspace.session import Session

__all__ = ["deep_inventory", "vouched_elsewhere"]


def deep_inventory(
    session: Session,
    install_state: InstallState | None,
    wanted: Sequence[ToInstall],
    runtime: PythonRuntime,
) -> Inventory:
    """The inventory of an environment, read whole, with what differs from the wheels of the lock as altered.

    What was built here is compared with the wheel in the store; no wheel vouches for an editable one, nor
    for modules that Python compiled itself. Raises `EnvironmentFailed` when there is no environment, and what
    fetching raises.
    """
    store = session.machine.store
    layout = Layout(root=session.project.environment, site_packages=runtime.site_packages)
    wheels = [
        library for library in (known_wheel(library, store) for library in wanted) if library is not None
    ]
    _hold_against_wheels(wheels, store, session.observer)
    fetcher, policy = fetcher_for(session), install_policy_of(session.project, own_lock=False)

    def prepared(wheels: Sequence[Needed], *, bare: bool) -> Iterator[tuple[Needed, InstallPlan]]:
        absent = []
        for wheel in wheels:
            found = listed_wheel(wheel, layout.root, runtime, fetcher, policy, compile_later=bare)
            if found is None:
                absent.append(wheel)
            else:
                yield wheel, found
        if absent:
            fetching = prepared_wheels(absent, layout.root, runtime, fetcher, policy, compile_later=bare)
            with closing(fetching) as arriving:
                yield from arriving

    vouched: dict[NormalizedName, dict[str, RecordRow]] = {}
    doubtful, compiled, unvouched = [], [], []
    for wheel in wheels:
        known = listed_wheel(wheel, layout.root, runtime, fetcher, policy)
        rows = _rows(known, layout) if known else {}
        if known and _is_recorded_so(known, rows, layout):
            vouched[wheel.locked.name] = rows
        else:
            doubtful.append(wheel)
    for item, found in prepared(doubtful, bare=True):
        rows = _rows(found, layout)
        if _is_recorded_so(found, rows, layout):
            vouched[item.locked.name] = rows
            unvouched += [item.locked.name] if _was_compiled(rows, layout) else []
        else:
            compiled.append(item)
    vouched |= {item.locked.name: _rows(found, layout) for item, found in prepared(compiled, bare=False)}
    begin = reading_files(session.observer)
    inventory = take_inventory(layout.root, install_state, begin=begin, vouched=vouched)
    return replace(inventory, unvouched=tuple(sorted(unvouched)))


def _is_recorded_so(prepared: InstallPlan, rows: Mapping[str, RecordRow], layout: Layout) -> bool:
    """Whether the `RECORD` of a library is the one that is written when it is installed so."""
    place = f"{layout.site_packages}/{prepared.info}/RECORD"
    try:
        return sha256_of_regular(f"{layout.root}/{place}") == rows[place].sha256
    except OSError:
        return False


def _was_compiled(rows: Mapping[str, RecordRow], layout: Layout) -> bool:
    """Whether Python has compiled a module of a library since it was installed."""
    modules = (f"{layout.root}/{place}" for place in rows if place.endswith(".py"))
    folders = {path.rpartition("/")[0] for path in modules}
    recorded = {f"{layout.root}/{place}" for place in rows}
    caches = (path for folder in folders for path in Path(folder, "__pycache__").glob("*.pyc"))
    return any(
        f"{path.parent.parent}/{path.name.partition('.')[0]}.py" in recorded and str(path) not in recorded
        for path in caches
    )


def _rows(prepared: InstallPlan, layout: Layout) -> dict[str, RecordRow]:
    """The expected rows of all installed files of a wheel, by place, its `RECORD` included."""
    place, content = f"{layout.site_packages}/{prepared.info}/RECORD", record_content(prepared, layout)
    row = RecordRow(layout.in_record(place), hashlib.sha256(content).hexdigest(), len(content), "sha256")
    return {place: row, **record_rows(prepared, layout)}


def _hold_against_wheels(wheels: Sequence[Needed], store: Store, observer: Observer) -> None:
    """Give up what the store has unpacked of wheels, where it is not what these hold; on all cores."""
    observer.stage("holding the store against the wheels of the lock", len(wheels))

    def hold(item: Needed) -> None:
        hold_against_wheel(store.entries, item.artifact, whole=False)
        observer.step(item.locked.name)

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        list(pool.map(hold, wheels))


def vouched_elsewhere(
    layout: Layout,
    inventory: Inventory,
    wanted: Sequence[ToInstall],
    session: Session,
) -> Vouched:
    """The expected digests of files that another installer placed, from the locked wheels it used.

    The installed tags tell which wheel of a release that was. Files that installers write themselves, and
    commands, are left out. Raises what fetching raises.
    """
    wheels = list(_taken(inventory, wanted))
    _hold_against_wheels(wheels, session.machine.store, session.observer)
    vouched: dict[NormalizedName, dict[str, RecordRow]] = {}
    for item, unpacked in fetched_wheels(wheels, fetcher_for(session)):
        info = inventory.libraries[item.locked.name].folder
        vouched[item.locked.name] = dict(installed_unchanged(unpacked, layout, info))
    return vouched


def _taken(inventory: Inventory, wanted: Sequence[ToInstall]) -> Iterator[Needed]:
    """The locked wheels that the installed libraries were made from, as far as that can be told."""
    for library in wanted:
        installed = inventory.libraries.get(library.locked.name)
        if installed is not None and installed.version == library.locked.version:
            wheel = wheel_taken(library, installed)
            if wheel is not None:
                yield Needed(locked=library.locked, artifact=wheel)
