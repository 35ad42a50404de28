"""Detect file conflicts between locked libraries whose wheels are in the store."""

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, Needed
from rabbet.core.model.runtime import PythonRuntime
from rabbet.errors import EnvironmentFailed, IntegrityFailed
from rabbet.python.choosing.select import needed
from rabbet.python.choosing.targets import target_of
from rabbet.workspace.session import Session

__all__ = ["file_clash"]


def file_clash(session: Session, lock: Lock, declaration: Declaration, runtime: PythonRuntime) -> str | None:
    """Which libraries bring the same file, each with other content, if some are known to.

    Nothing is fetched for that: recreating looks again, and refuses.
    """
    if not session.machine.has_unpacked():
        return None
    try:
        wanted = needed(lock, target_of(runtime), lock.everything, declaration)
        store = session.machine.store
        pairs = [
            (library, store.listed(library.artifact)) for library in wanted if isinstance(library, Needed)
        ]
        known = [(item, unpacked) for item, unpacked in pairs if unpacked is not None]
        if len(known) < 2:
            return None
        # Here: a new machine knows no wheels.
        from rabbet.python.environment.place.layout import Layout
        from rabbet.python.environment.put.conflicts import refuse_conflicts
        from rabbet.python.environment.put.install import Provenance, planned_install

        layout = Layout(root=session.project.environment, site_packages=runtime.site_packages)
        files = {}
        for item, unpacked in known:
            prepared = planned_install(unpacked, layout, Provenance(item.artifact.sha256), requested=False)
            files[item.locked.name] = prepared.stated
        refuse_conflicts(files, fold_case=False)
    except EnvironmentFailed:
        return None  # the lock is for other machines
    except IntegrityFailed as error:
        return "; ".join([str(error), *error.because])
    return None
