"""Environments for a while: whole ones, and those of trials, which may be laid upon the project's."""

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from rabbet.core.model.lock import Needed, ToInstall, Unbuilt
from rabbet.disk.atomic import cannot_write
from rabbet.python.compose.changes import EnvironmentSpec, fill
from rabbet.python.compose.wheels import InstallPolicy
from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.layout import Layout
from rabbet.python.environment.place.linking import Linking
from rabbet.python.environment.put.install import PlannedFile
from rabbet.python.environment.put.layer import lay_upon, lead_to
from rabbet.python.environment.put.manifest import manifest_of, write_manifest
from rabbet.trials.settle import Settled
from rabbet.workspace.fetching.composing import arriving, install_policy_of
from rabbet.workspace.session import Session

__all__ = ["Made", "compose", "compose_trial", "lead_to_modules"]


class Made(NamedTuple):
    """The wheels that an environment was made of, and where their files were placed."""

    wheels: list[Needed]
    placed: list[PlannedFile]


def compose(
    wanted: Sequence[ToInstall], spec: EnvironmentSpec, policy: InstallPolicy, session: Session
) -> Made:
    """Fill an empty folder with an environment of these libraries; what has to be built is built.

    Raises `SourceFailed`, `IntegrityFailed`, `BuildFailed`, `CannotWrite`.
    """
    with arriving(session, wanted, spec, policy) as (wheels, ready):
        placed = fill(spec.root, spec, ready)
    return Made(wheels, placed)


def lead_to_modules(spec: EnvironmentSpec, folder: Path) -> None:
    """Let an environment import the modules that lie in a folder. Raises `CannotWrite`."""
    layout = Layout(root=spec.root, site_packages=spec.runtime.site_packages)
    with cannot_write(spec.root), GuardedEnvironment(layout, Linking()) as guarded:
        lead_to(guarded, folder)


def compose_trial(settled: Settled, session: Session, root: Path) -> bytes | None:
    """Make the environment, and the manifest to make it again; `None` where it is good for this once only.

    Raises as `compose` does.
    """
    asked = settled.asked
    spec = EnvironmentSpec(
        root=root,
        runtime=asked.runtime,
        environments=session.machine.environments(),
        share_files=session.machine.shares_files(),
        others=asked.linked,
    )
    policy = install_policy_of(session.project, own_lock=True)
    made = compose(settled.wanted, spec, policy, session)
    if settled.layered:
        layout = Layout(root=root, site_packages=asked.runtime.site_packages)
        with cannot_write(root), GuardedEnvironment(layout, Linking()) as guarded:
            lay_upon(guarded, session.project.environment)
    elif asked.beside:
        lead_to_modules(spec, session.project.folder)
    if any(isinstance(wanted, Unbuilt) and wanted.kind == "editable" for wanted in settled.wanted):
        return None
    trees = session.machine.store.trees([wheel.artifact for wheel in made.wheels], asked.runtime)
    manifest = manifest_of(root, made.placed, trees, settled.tried.brought, str(asked.runtime))
    return write_manifest(manifest)
