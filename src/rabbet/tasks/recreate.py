"""Making the environment match the lock."""

from collections.abc import Iterable, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from packaging.utils import NormalizedName

from rabbet.core.drift.plan import plan_steps
from rabbet.core.lock.select import needed
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import Selection
from rabbet.core.model.plan import Action, Plan
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.targets import target_of
from rabbet.environment.beside import clear_up, taking_place_of
from rabbet.environment.conflicts import folds_case, refuse_conflicts
from rabbet.environment.create import create_environment
from rabbet.environment.inspect import read_configuration, take_inventory
from rabbet.environment.install import Placed, Prepared, install_wheel
from rabbet.environment.journal import close_journal, open_journal
from rabbet.environment.layout import Layout
from rabbet.environment.linking import Linking
from rabbet.environment.remove import recorded_places, remove_library
from rabbet.environment.stamp import Origin, Stamp, read_stamp, write_stamp
from rabbet.errors import EnvironmentFailed
from rabbet.tasks.coming import coming
from rabbet.tasks.interpreter import interpreter_trouble
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import DECLARATION, Project
from rabbet.tasks.remake import remember_pattern
from rabbet.tasks.runtime import chosen_runtime
from rabbet.tasks.selection import Wish, selected
from rabbet.tasks.unchanged import Fit, remember_fit

__all__ = ["Outlook", "prepare", "recreate"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Outlook:
    """What it takes to recreate the environment; `outdated`: the declaration changed since the lock.

    `environment` is its folder's name; `selection` the groups and extras that were chosen, `None` for all.
    `own_lock` tells whether Rabbet made the lock: those of other tools need not note what depends on what.
    """

    environment: str
    plan: Plan
    runtime: PythonRuntime
    selection: Selection | None
    outdated: bool
    own_lock: bool

    @property
    def fit(self) -> Fit:
        """In short what was found of an environment that matches the lock."""
        return Fit(self.environment + _chosen(self.selection), len(self.plan.steps), str(self.runtime))


def _chosen(selection: Selection | None) -> str:
    """Which groups and extras an environment holds, if not all."""
    if selection is None:
        return ""
    sections = [f"extra {name}" for name in sorted(selection.extras)]
    sections += [f"group {name}" for name in sorted(selection.groups)]
    return f" ({', '.join(sections) or 'no groups, no extras'})"


def prepare(project: Project, machine: Machine, observer: Observer, wish: Wish) -> Outlook:
    """Compare the environment with the lock; nothing is changed.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed`, `WrongUsage`.
    """
    declaration, lock = project.declaration(), project.lock()
    observer.stage("comparing the environment with the lock")
    runtime = chosen_runtime(declaration, machine, lock)
    selection = selected(lock, read_stamp(project.environment), wish)
    wanted = needed(lock, target_of(runtime), selection)
    inventory, rebuild = _state(project.environment, machine, runtime)
    if wish.fresh and not rebuild:
        rebuild = "asked for"
    return Outlook(
        environment=project.environment.name,
        plan=plan_steps(wanted, inventory, rebuild=rebuild),
        runtime=runtime,
        selection=None if selection == lock.everything else selection,
        own_lock=lock.fingerprint is not None,
        outdated=lock.fingerprint != declaration.fingerprint(),
    )


def recreate(project: Project, machine: Machine, observer: Observer, wish: Wish) -> Outlook:
    """Make the environment match the lock; what fits already is left alone.

    First everything is fetched and verified; until then the environment is as it was. A new environment is
    made beside the old one and takes its place when it is complete. One that is changed in place holds a
    journal meanwhile. A run that is killed leaves what the next one finishes or undoes.

    Raises what `prepare` raises, and `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    with machine.store().claimed(str(project.environment)):
        clear_up(project.environment)
        outlook = prepare(project, machine, observer, wish)
        if not outlook.plan.idle or not _remembered(project, outlook):
            _apply(project, machine, observer, outlook)
        else:
            close_journal(project.environment)  # whoever left it had come to the end but for that
            if not outlook.outdated:
                remember_fit(project, machine, outlook.fit)
    machine.store().environments.note(project.environment)  # it may have been moved here
    return outlook


def _apply(project: Project, machine: Machine, observer: Observer, outlook: Outlook) -> None:
    plan = outlook.plan
    needed = [step.needed for step in plan.of(Action.ADD, Action.REPLACE) if step.needed]
    arriving = coming(project, machine, observer, needed, outlook.runtime, own_lock=outlook.own_lock)
    with closing(arriving):
        if plan.rebuild:
            placed = _make_anew(project.environment, outlook, arriving)
            if outlook.selection is None and not outlook.outdated:
                versions = [
                    (step.name, str(step.needed.locked.version)) for step in plan.steps if step.needed
                ]
                remember_pattern(project, machine, placed, versions, str(outlook.runtime))
        else:
            _change_in_place(project.environment, outlook, dict(arriving), observer)


def _make_anew(
    home: Path, outlook: Outlook, arriving: Iterable[tuple[NormalizedName, Prepared]]
) -> list[Placed]:
    """Make the environment beside the old one from what arrives; it takes its place when it is complete."""
    linking, origins, arrived = Linking(), {}, {}
    with taking_place_of(home) as root:
        layout = Layout(root=root, site_packages=outlook.runtime.site_packages)
        create_environment(layout, outlook.runtime)
        for name, prepared in arriving:
            origins[name] = install_wheel(prepared, layout, linking)
            arrived[name] = prepared
        _refuse_conflicts(home, {name: prepared.stated for name, prepared in arrived.items()})
        write_stamp(root, _stamp(outlook, origins))
    return [placed for prepared in arrived.values() for placed in prepared.placed]


def _change_in_place(
    home: Path, outlook: Outlook, arrived: Mapping[NormalizedName, Prepared], observer: Observer
) -> None:
    """Change the environment when everything that comes into it is there."""
    layout, linking = Layout(root=home, site_packages=outlook.runtime.site_packages), Linking()
    kept = {step.name: step.installed[0].folder for step in outlook.plan.of(Action.KEEP)}
    places = {name: recorded_places(layout, folder) for name, folder in kept.items()}
    places.update((name, prepared.stated) for name, prepared in arrived.items())
    _refuse_conflicts(home, places)
    shared = {place for placed in places.values() for place, _ in placed}
    steps = outlook.plan.of(Action.ADD, Action.REPLACE, Action.REMOVE)
    observer.stage("installing", len(steps))
    open_journal(home, [step.name for step in steps])
    stamp = read_stamp(home)
    origins = {NormalizedName(name): one for name, one in stamp.libraries.items()} if stamp else {}
    for step in steps:
        for installed in step.installed:
            remove_library(layout, installed.folder, spared=shared)
        origins.pop(step.name, None)
        if step.name in arrived:
            origins[step.name] = install_wheel(arrived[step.name], layout, linking)
        observer.step(step.name)
    write_stamp(home, _stamp(outlook, origins))
    close_journal(home)


def _refuse_conflicts(home: Path, places: Mapping[NormalizedName, Sequence[tuple[str, str | None]]]) -> None:
    refuse_conflicts(places, fold_case=folds_case(home.parent, DECLARATION))


def _stamp(outlook: Outlook, origins: Mapping[NormalizedName, Origin]) -> Stamp:
    chosen = outlook.selection
    return Stamp(
        executable=outlook.runtime.executable,
        libraries={str(name): one for name, one in origins.items()},
        groups=sorted(chosen.groups) if chosen else None,
        extras=sorted(chosen.extras) if chosen else None,
    )


def _remembered(project: Project, outlook: Outlook) -> bool:
    """Whether the environment's stamp notes the present choice already."""
    stamp, chosen = read_stamp(project.environment), outlook.selection
    if stamp is None or chosen is None:
        return stamp is not None and stamp.groups is None and stamp.extras is None
    return stamp.groups == sorted(chosen.groups) and stamp.extras == sorted(chosen.extras)


def _state(root: Path, machine: Machine, runtime: PythonRuntime) -> tuple[Inventory | None, str]:
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
        python, trouble = read_configuration(root).python, interpreter_trouble(root, machine)
    except EnvironmentFailed as error:
        return None, str(error)
    if trouble is not None:
        return None, trouble.reason
    if (stamp.executable, python) != (runtime.executable, runtime.version):
        return None, f"it was made with Python {python} of {stamp.executable}"
    return take_inventory(root, thorough=False), ""
