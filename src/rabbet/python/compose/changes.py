"""Build an environment in a staging folder, or change one in place under a journal."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.model.lock import Needed, Selection, runtime_name
from rabbet.core.model.plan import Action, Plan
from rabbet.core.model.runtime import LinkedRuntime, PythonRuntime
from rabbet.core.progress import Observer
from rabbet.disk.atomic import cannot_write
from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.install_state import (
    STATE_FILE,
    InstallState,
    Origin,
    install_state_content,
    own_install_state,
)
from rabbet.python.environment.place.journal import close_journal, open_journal
from rabbet.python.environment.place.layout import CONFIGURATION, Layout
from rabbet.python.environment.place.linking import Linking
from rabbet.python.environment.place.staging import taking_place_of
from rabbet.python.environment.put.conflicts import folds_case, refuse_conflicts
from rabbet.python.environment.put.create import create_environment, own_parts, place_path_file, runtime_links
from rabbet.python.environment.put.install import InstallPlan, PlannedFile, install_wheel
from rabbet.python.environment.put.remove import recorded_places, remove_library, remove_strays
from rabbet.store.environments import Environments

__all__ = ["EnvironmentSpec", "change_in_place", "fill", "finish", "make_whole"]


class EnvironmentSpec(Struct, frozen=True, kw_only=True):
    """Where an environment is, or is to be, and its interpreter; it may `share_files` with the store.

    The `others` are runtimes of other languages. `environments` are those that were made on this machine. Of
    the lock's groups and extras it holds a `selection`, or all (`None`). The `project` itself may be left
    out; where it is not installed, its modules are found `beside` the environment. Unless it is `editable`,
    what the lock has in that form is installed as a wheel. `lock_stamp` is that of the lock, where there is
    one.
    """

    root: Path
    runtime: PythonRuntime
    environments: Environments
    share_files: bool
    selection: Selection | None = None
    others: tuple[LinkedRuntime, ...] = ()
    project: bool = True
    editable: bool = True
    beside: bool = False
    lock_stamp: str = ""


def make_whole(spec: EnvironmentSpec, arriving: Iterable[tuple[Needed, InstallPlan]]) -> list[PlannedFile]:
    """Build in a staging folder from libraries as they arrive, and swap it in when complete.

    Raises `IntegrityFailed`, `CannotWrite`.
    """
    with taking_place_of(spec.root, spec.environments) as root:
        return fill(root, spec, arriving)


def fill(
    root: Path, spec: EnvironmentSpec, arriving: Iterable[tuple[Needed, InstallPlan]]
) -> list[PlannedFile]:
    """Make an environment in an empty folder, as it will be in its own place.

    Raises `IntegrityFailed`, `CannotWrite`.
    """
    origins: dict[NormalizedName, Origin] = {}
    arrived: dict[NormalizedName, InstallPlan] = {}
    with _opened(root, spec) as guarded:
        create_environment(guarded, spec.runtime, spec.others, beside=spec.beside)
        for item, prepared in arriving:
            origins[item.locked.name] = install_wheel(prepared, guarded)
            arrived[item.locked.name] = prepared
        _refuse_conflicts(root, spec, {name: prepared.stated for name, prepared in arrived.items()})
        with cannot_write(root):
            guarded.write(STATE_FILE, install_state_content(_state(spec, origins)))
    return [placed for prepared in arrived.values() for placed in prepared.placed]


def change_in_place(
    spec: EnvironmentSpec, plan: Plan, arriving: Iterable[tuple[Needed, InstallPlan]], observer: Observer
) -> None:
    """Carry out a plan once everything has arrived; a journal names what is being changed.

    Raises `IntegrityFailed`, `CannotWrite`.
    """
    arrived = {item.locked.name: prepared for item, prepared in arriving}
    install_state = own_install_state(spec.root, spec.environments)
    origins = (
        {NormalizedName(name): origin for name, origin in install_state.libraries.items()}
        if install_state
        else {}
    )
    with _opened(spec.root, spec) as guarded:
        kept = {step.name: step.installed[0].folder for step in plan.of(Action.KEEP)}
        places = {name: recorded_places(guarded.layout, folder) for name, folder in kept.items()}
        places.update((name, prepared.stated) for name, prepared in arrived.items())
        _refuse_conflicts(spec.root, spec, places)
        shared = {place for placed in places.values() for place, _ in placed}
        steps = plan.of(Action.ADD, Action.REPLACE, Action.REMOVE)
        observer.stage("installing", len(steps))
        open_journal(guarded, [step.name for step in steps])
        remove_strays(guarded, plan.strays)
        for step in steps:
            for installed in step.installed:
                remove_library(guarded, installed.folder, spared=shared)
            origins.pop(step.name, None)
            if step.name in arrived:
                origins[step.name] = install_wheel(arrived[step.name], guarded)
            observer.step(step.name)
        with cannot_write(spec.root):
            place_path_file(guarded, spec.runtime, beside=spec.beside)
            guarded.write(STATE_FILE, install_state_content(_state(spec, origins)))
        close_journal(guarded)


def finish(spec: EnvironmentSpec) -> None:
    """Close the journal that a killed run left after its last step."""
    with _opened(spec.root, spec) as guarded:
        close_journal(guarded)


@contextmanager
def _opened(root: Path, spec: EnvironmentSpec) -> Iterator[GuardedEnvironment]:
    """An environment, opened for changes. Raises `CannotWrite`."""
    layout = Layout(root=root, site_packages=spec.runtime.site_packages)
    with cannot_write(root):
        guarded = GuardedEnvironment(layout, Linking(share=spec.share_files))
    with guarded as opened:
        yield opened


def _refuse_conflicts(
    root: Path, spec: EnvironmentSpec, places: Mapping[NormalizedName, Sequence[tuple[str, str | None]]]
) -> None:
    """Refuse two libraries, or a library and a runtime, that both bring a file of the same place."""
    linked: dict[NormalizedName, list[tuple[str, str | None]]] = {}
    for place, (language, target) in runtime_links(spec.others).items():
        linked.setdefault(runtime_name(language), []).append((place, target))
    refuse_conflicts({**places, **linked}, fold_case=folds_case(root, CONFIGURATION))


def _state(spec: EnvironmentSpec, origins: Mapping[NormalizedName, Origin]) -> InstallState:
    """The install state that is written into the environment."""
    chosen = spec.selection
    return InstallState(
        executable=spec.runtime.executable,
        libraries={str(name): origin for name, origin in origins.items()},
        own=dict(own_parts(spec.runtime, spec.others, beside=spec.beside)),
        runtimes={other.runtime.language: other.runtime.executable for other in spec.others},
        groups=sorted(chosen.groups) if chosen else None,
        extras=sorted(chosen.extras) if chosen else None,
        project=spec.project,
        editable=spec.editable,
        lock=spec.lock_stamp,
    )
