"""Making the environment match the lock."""

import shutil
import tempfile
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from packaging.utils import NormalizedName, canonicalize_name

from rabbet.core.drift.plan import plan_steps
from rabbet.core.lock.select import needed
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import LockedFile
from rabbet.core.model.plan import Action, Needed, Plan, Step
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.targets import target_of
from rabbet.environment.create import create_environment
from rabbet.environment.inspect import read_configuration, take_inventory
from rabbet.environment.install import install_wheel
from rabbet.environment.layout import Layout
from rabbet.environment.remove import remove_library
from rabbet.environment.stamp import Origin, Stamp, read_stamp, write_stamp
from rabbet.errors import EnvironmentFailed, IntegrityFailed
from rabbet.formats.metadata import MetadataBroken, parse_metadata
from rabbet.store.atomic import cannot_write
from rabbet.store.store import Store, Unpacked
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer, Silent
from rabbet.tasks.project import Project
from rabbet.tasks.runtime import chosen_runtime

__all__ = ["Outlook", "prepare", "recreate"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Outlook:
    """What it takes to recreate the environment; `outdated`: the declaration changed since the lock.

    `own_lock` tells whether Rabbet made the lock: those of other tools need not note what depends on what.
    """

    plan: Plan
    runtime: PythonRuntime
    outdated: bool
    own_lock: bool


def prepare(project: Project, machine: Machine, observer: Observer) -> Outlook:
    """Compare the environment with the lock; nothing is changed.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed`.
    """
    declaration, lock = project.declaration(), project.lock()
    observer.stage("comparing the environment with the lock")
    runtime = chosen_runtime(declaration, machine, lock)
    wanted = needed(lock, target_of(runtime), lock.everything)
    inventory, rebuild = _state(project.environment, runtime)
    return Outlook(
        plan=plan_steps(wanted, inventory, rebuild=rebuild),
        runtime=runtime,
        own_lock=lock.fingerprint is not None,
        outdated=lock.fingerprint != declaration.fingerprint(),
    )


def recreate(project: Project, machine: Machine, observer: Observer) -> Outlook:
    """Make the environment match the lock; what fits already is left alone.

    First everything is fetched and verified; until then the environment is as it was. A new environment is
    made beside the old one and takes its place when it is complete. Changing one in place and being killed
    leaves a state that the next run recognises and repairs.

    Raises what `prepare` raises, and `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    outlook = prepare(project, machine, observer)
    if outlook.plan.idle:
        return outlook
    with machine.store().claimed(str(project.environment)):
        outlook = prepare(project, machine, Silent())  # another process may have been faster
        _apply(project, machine, observer, outlook)
    return outlook


def _apply(project: Project, machine: Machine, observer: Observer, outlook: Outlook) -> None:
    from rabbet.tasks.fetch import fetch_wheels
    from rabbet.tasks.network import open_client

    declaration = project.declaration()
    steps = outlook.plan.of(Action.ADD, Action.REPLACE)
    wheels = [step.needed.wheel for step in steps if step.needed is not None]
    client = open_client(declaration, machine)
    unpacked = fetch_wheels(
        wheels, folder=project.folder, client=client, store=machine.store(), observer=observer
    )
    for step in steps:
        if step.needed is not None and outlook.own_lock:
            _check_needs(step.needed, unpacked[step.needed.wheel], machine.store())
    declared = {canonicalize_name(one.requirement.name) for one in declaration.declared()}
    observer.stage("installing", len(steps))
    with _folder(project.environment, outlook) as layout:
        origins = _origins(layout.root)
        for step in outlook.plan.of(Action.ADD, Action.REPLACE, Action.REMOVE):
            _carry_out(step, layout, unpacked, declared, origins)
            observer.step(step.name)
        stamp = Stamp(executable=outlook.runtime.executable, home=str(layout.home), libraries=origins)
        write_stamp(layout.root, stamp)


def _check_needs(needed: Needed, unpacked: Unpacked, store: Store) -> None:
    """Hold what a wheel itself says of its needs against the lock, which was made from what a source said.

    Needs under a marker are left out: they may count on this machine's patch of the runtime alone.
    Raises `IntegrityFailed` for a need that the lock does not know. The store remembers then what the wheel
    says, so that the next resolving knows better.
    """
    library, content = needed.locked, unpacked.metadata()
    try:
        metadata = parse_metadata(content)
    except MetadataBroken as error:
        raise IntegrityFailed(f"{needed.wheel.filename} can't be used", because=[str(error)]) from error
    names = {canonicalize_name(one.name) for one in metadata.requirements if one.marker is None}
    unknown = sorted(names - {library.name, *library.dependencies})
    if (metadata.name, metadata.version) == (library.name, library.version) and not unknown:
        return
    store.metadata.remember(needed.wheel.sha256, content)
    raise IntegrityFailed(
        f"{needed.wheel.filename} is not what its source said of it when the lock was made",
        because=[
            f"it is {metadata.name} {metadata.version}, and needs {', '.join(unknown) or 'nothing else'}"
        ],
        remedy="rabbet resolve --raise-all  (which knows better now), and tell whoever runs the source",
    )


def _carry_out(
    step: Step,
    layout: Layout,
    unpacked: Mapping[LockedFile, Unpacked],
    declared: Collection[NormalizedName],
    origins: dict[str, Origin],
) -> None:
    """Remove what is there, install what comes, and note where it came from."""
    for installed in step.installed:
        remove_library(layout, installed.folder)
    origins.pop(step.name, None)
    if step.needed is not None:
        wheel = step.needed.wheel
        origins[step.name] = install_wheel(
            unpacked[wheel],
            layout,
            wheel_sha256=wheel.sha256,
            requested=step.name in declared,
            direct_url=wheel.url if step.needed.locked.direct else None,
        )


def _state(root: Path, runtime: PythonRuntime) -> tuple[Inventory | None, str]:
    """What is installed, and why the environment has to be made anew (empty: it need not be).

    Raises `EnvironmentFailed` for something in its place that Rabbet did not make.
    """
    if not root.exists() and not root.is_symlink():
        return None, "there is none yet"
    stamp = read_stamp(root)
    if stamp is None:
        raise EnvironmentFailed(
            f"{root} was not made by Rabbet, so it is left alone",
            because=["it may hold something that you want to keep"],
            remedy=f"mv {root.name} {root.name}-before && rabbet recreate",
        )
    try:
        python = read_configuration(root).python
    except EnvironmentFailed as error:
        return None, str(error)
    if (stamp.executable, python) != (runtime.executable, runtime.version):
        return None, f"it was made with Python {python} of {stamp.executable}"
    if stamp.home != str(root):
        return None, f"it was moved here from {stamp.home}"
    if not (root / "bin" / "python").exists():
        return None, "its interpreter is gone"
    return take_inventory(root, thorough=False), ""


def _origins(root: Path) -> dict[str, Origin]:
    stamp = read_stamp(root)
    return dict(stamp.libraries) if stamp else {}


@contextmanager
def _folder(home: Path, outlook: Outlook) -> Iterator[Layout]:
    """The environment's folder to work in: the present one, or a new one that takes its place at the end."""
    site = outlook.runtime.site_packages
    if not outlook.plan.rebuild:
        yield Layout(root=home, home=home, site_packages=site)
        return
    for left in home.parent.glob(f"{home.name}.partial-*"):
        shutil.rmtree(left, ignore_errors=True)  # by a run that was killed: nobody else works here now
    with cannot_write(home.parent):
        beside = Path(tempfile.mkdtemp(dir=home.parent, prefix=f"{home.name}.partial-"))
    try:
        beside.chmod(0o755)
        layout = Layout(root=beside / "new", home=home, site_packages=site)
        with cannot_write(home):
            layout.root.mkdir()
        create_environment(layout, outlook.runtime)
        yield layout
        with cannot_write(home):
            if home.exists() or home.is_symlink():
                home.rename(beside / "old")
            layout.root.rename(home)
    finally:
        shutil.rmtree(beside, ignore_errors=True)
