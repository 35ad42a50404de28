"""The environment of a trial: laid upon the project's, or a whole one."""

from contextlib import closing
from pathlib import Path
from typing import NamedTuple

from rabbet.builds.building import built
from rabbet.compose.changes import Site, fill
from rabbet.compose.wheels import prepared_wheels
from rabbet.core.model.lock import Needed, Unbuilt
from rabbet.core.progress import Observer
from rabbet.environment.guarded import GuardedEnvironment
from rabbet.environment.layer import lay_upon, lead_to
from rabbet.environment.layout import Layout
from rabbet.environment.linking import Linking
from rabbet.environment.manifest import manifest_of, write_manifest
from rabbet.store.atomic import cannot_write
from rabbet.trials.settle import Settled
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.supply import intent_of, supply_for, workshop_for

__all__ = ["Composed", "compose_trial"]


class Composed(NamedTuple):
    """The trees of the store that a trial has links to, by key and entry, and how to make it again.

    It has no `manifest` if it is good for this once only.
    """

    trees: list[tuple[str, str]]
    manifest: bytes | None


def compose_trial(
    settled: Settled, project: Project, machine: Machine, observer: Observer, root: Path
) -> Composed:
    """Make the environment.

    Raises `SourceFailed`, `IntegrityFailed`, `BuildFailed`, `CannotWrite`.
    """
    asked = settled.asked
    unbuilt = [one for one in settled.wanted if isinstance(one, Unbuilt)]
    wheels = [one for one in settled.wanted if isinstance(one, Needed)]
    supply = supply_for(project, machine, observer)
    wheels += built(unbuilt, workshop_for(project, machine, observer, asked.runtime))
    site = Site(
        root=root,
        runtime=asked.runtime,
        environments=machine.environments(),
        share_files=machine.shares_files(),
        others=asked.linked,
    )
    intent = intent_of(project, own_lock=True)
    with closing(prepared_wheels(wheels, root, asked.runtime, supply, intent)) as arriving:
        placed = fill(root, site, arriving)
    layout = Layout(root=root, site_packages=asked.runtime.site_packages)
    with (
        cannot_write(root),
        GuardedEnvironment(layout, Linking(share=machine.shares_files())) as guarded,
    ):
        if settled.layered:
            lay_upon(guarded, project.environment)
        elif asked.beside:
            lead_to(guarded, project.folder)
    supply.store.note_linked((one.artifact for one in wheels), asked.runtime)
    trees = supply.store.trees([one.artifact for one in wheels], asked.runtime)
    linked = [(key, str(tree.parent)) for key, tree in trees]
    if any(one.kind == "editable" for one in unbuilt):
        return Composed(linked, None)
    manifest = manifest_of(root, placed, trees, settled.tried.brought, str(asked.runtime))
    return Composed(linked, write_manifest(manifest))
