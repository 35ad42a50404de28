"""What comes into an environment: each library as soon as it is fetched, verified, unpacked and compiled."""

import os
from collections.abc import Generator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor, as_completed

from packaging.utils import NormalizedName, canonicalize_name

from rabbet.core.model.plan import Needed
from rabbet.core.model.runtime import PythonRuntime
from rabbet.environment.install import Prepared, prepare_wheel
from rabbet.environment.layout import Layout
from rabbet.errors import IntegrityFailed
from rabbet.formats.metadata import MetadataBroken, parse_metadata
from rabbet.store.compile import Compiler
from rabbet.store.store import Store, Unpacked
from rabbet.tasks.fetch import fetched_wheels
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project

__all__ = ["coming"]

Arrived = tuple[NormalizedName, Unpacked]


def coming(
    project: Project,
    machine: Machine,
    observer: Observer,
    needed: Mapping[NormalizedName, Needed],
    runtime: PythonRuntime,
    *,
    own_lock: bool,
) -> Generator[tuple[NormalizedName, Prepared], None, None]:
    """Each needed library, ready to be put into its place, while others still arrive.

    What a wheel says of itself is held against the lock if that is Rabbet's own. Raises `SourceFailed`,
    `IntegrityFailed`, `CannotWrite`.
    """
    store = machine.store()
    names = {one.wheel: name for name, one in needed.items()}
    declared = {canonicalize_name(one.requirement.name) for one in project.declaration().declared()}
    layout = Layout(root=project.environment, site_packages=runtime.site_packages)
    label = f"{runtime.implementation}-{runtime.version}"

    def prepared(compiled: Unpacked, arrived: Arrived) -> tuple[NormalizedName, Prepared]:
        name, unpacked = arrived
        wheel = needed[name].wheel
        return name, prepare_wheel(
            unpacked,
            layout,
            compiled=compiled,
            wheel_sha256=wheel.sha256,
            requested=name in declared,
            direct_url=wheel.url if needed[name].locked.direct else None,
        )

    pool = ThreadPoolExecutor(os.cpu_count() or 1, thread_name_prefix="compile")
    with Compiler(runtime.executable) as compiler:
        compiling: dict[Future[Unpacked], Arrived] = {}
        try:
            for wheel, unpacked in fetched_wheels(
                list(names), project=project, machine=machine, observer=observer
            ):
                name = names[wheel]
                if own_lock:
                    _check_needs(needed[name], unpacked, store)
                job = pool.submit(store.compiled, wheel, compiler, label)
                compiling[job] = (name, unpacked)
                for done in [one for one in compiling if one.done()]:
                    yield prepared(done.result(), compiling.pop(done))
            observer.stage("compiling", len(compiling))
            for done in as_completed(compiling.copy()):
                observer.step(compiling[done][0])
                yield prepared(done.result(), compiling.pop(done))
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


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
