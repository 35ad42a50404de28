"""Prepared wheels: fetched, verified, unpacked and compiled, each as soon as it is ready."""

import os
from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.core.model.lock import (
    LockedArchive,
    LockedCheckout,
    LockedCommit,
    LockedLibrary,
    Needed,
    Unbuilt,
)
from rabbet.core.model.release import Metadata
from rabbet.core.model.runtime import PythonRuntime
from rabbet.disk.regular_file import read_regular
from rabbet.errors import EnvironmentFailed, IntegrityFailed
from rabbet.python.choosing.origin import MODULES, WHOLE_FOLDER
from rabbet.python.compose.fetch import ArtifactFetcher, fetched_wheels
from rabbet.python.environment.place.layout import Layout
from rabbet.python.environment.put.install import InstallPlan, Provenance, planned_install
from rabbet.python.formats.metadata import MetadataBroken, parse_metadata, whole
from rabbet.python.store.compile import Compiler
from rabbet.python.store.entries import Unpacked
from rabbet.python.store.store import Store
from rabbet.work.pools import as_finished

__all__ = ["InstallPolicy", "listed_wheel", "prepared_wheels"]


class InstallPolicy(Struct, frozen=True, kw_only=True):
    """How libraries are installed, by the declaration.

    It names those that are `requested`. `correct` mends what a wheel says of its needs, which is then held
    against the lock; without it that is not looked at, for locks of other tools need not note what depends on
    what.
    """

    requested: Collection[NormalizedName] = ()
    correct: Callable[[Metadata], Metadata] | None = None


def prepared_wheels(
    needed: Sequence[Needed],
    place: Path,
    runtime: PythonRuntime,
    fetcher: ArtifactFetcher,
    policy: InstallPolicy,
    *,
    compile_later: bool = False,
) -> Generator[tuple[Needed, InstallPlan], None, None]:
    """Each needed library, ready to be put into an environment at this place, while others still arrive.

    A wheel's metadata is checked against the lock. With `compile_later`, modules are left for Python to
    compile when they are first imported. Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    layout = Layout(root=place, site_packages=runtime.site_packages)

    def arriving() -> Iterator[tuple[Needed, Unpacked]]:
        for item, unpacked in fetched_wheels(needed, fetcher):
            _check_metadata(item, unpacked, fetcher.store, policy.correct)
            yield item, unpacked

    if compile_later:
        for item, unpacked in arriving():
            yield item, _prepared(item, unpacked, None, layout, fetcher, policy)
        return
    for item, unpacked, compiled in _compiled(arriving(), fetcher, runtime):
        yield item, _prepared(item, unpacked, compiled, layout, fetcher, policy)


def listed_wheel(
    item: Needed,
    place: Path,
    runtime: PythonRuntime,
    fetcher: ArtifactFetcher,
    policy: InstallPolicy,
    *,
    compile_later: bool = False,
) -> InstallPlan | None:
    """The same of a wheel that the store has, by its lists alone, whose files nobody looks at here."""
    unpacked = fetcher.store.listed(item.artifact)
    compiled = None if compile_later else fetcher.store.listed_compiled(item.artifact, runtime)
    if unpacked is None or (compiled is None and not compile_later):
        return None
    layout = Layout(root=place, site_packages=runtime.site_packages)
    return _prepared(item, unpacked, compiled, layout, fetcher, policy)


def _prepared(
    item: Needed,
    unpacked: Unpacked,
    compiled: Unpacked | None,
    layout: Layout,
    fetcher: ArtifactFetcher,
    policy: InstallPolicy,
) -> InstallPlan:
    provenance = Provenance(
        wheel=item.artifact.sha256,
        direct_url=_direct_url(item, fetcher.folder),
        build=_build_noted(item, unpacked),
    )
    requested = item.locked.name in policy.requested
    return planned_install(unpacked, layout, provenance, compiled=compiled, requested=requested)


def _build_noted(item: Needed, unpacked: Unpacked) -> str:
    """The digest of a build, as the environment notes it; empty for a wheel from a source."""
    if item.build is None:
        return ""
    source, parted, _ = item.build.digest.partition(MODULES)
    return f"{source}{MODULES}{WHOLE_FOLDER}" if parted and _leads_to_folders(unpacked) else item.build.digest


def _leads_to_folders(unpacked: Unpacked) -> bool:
    """Whether an editable wheel adds folders to the path of modules, and names no single module."""
    files = [file.path for file in unpacked.files if file.path.endswith(".pth") and "/" not in file.path]
    texts = (read_regular(unpacked.tree / path, most=MOST_TEXT_FILE) for path in files)
    lines = [line.strip() for text in texts for line in text.decode(errors="replace").splitlines()]
    told = [line for line in lines if line and not line.startswith("#")]
    return bool(told) and not any(line.startswith(("import ", "import\t")) for line in told)


def _compiled(
    arriving: Iterator[tuple[Needed, Unpacked]], fetcher: ArtifactFetcher, runtime: PythonRuntime
) -> Iterator[tuple[Needed, Unpacked, Unpacked]]:
    """Each library's files, and its compiled modules: made by all cores while others arrive."""
    store, observer = fetcher.store, fetcher.observer
    pool = ThreadPoolExecutor(os.cpu_count() or 1, thread_name_prefix="compile")
    with Compiler(runtime.executable) as compiler:
        waiting: dict[Future[Unpacked], tuple[Needed, Unpacked]] = {}
        try:
            for item, unpacked in arriving:
                waiting[pool.submit(store.compiled, item.artifact, compiler, runtime)] = (item, unpacked)
                for job in [job for job in waiting if job.done()]:
                    yield (*waiting.pop(job), job.result())
            observer.stage("compiling", len(waiting))
            for job in as_finished(waiting):
                item, unpacked = waiting.pop(job)
                observer.step(item.locked.name)
                if waiting:
                    observer.waiting(f"the modules of {next(iter(waiting.values()))[0].locked.name}")
                yield item, unpacked, job.result()
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


def _direct_url(needed: Needed, folder: Path) -> Mapping[str, object] | None:
    """Where a library came from, unless a source lists it (PEP 610)."""
    origin = needed.build.source if needed.build else needed.artifact
    if isinstance(origin, LockedArchive):
        return {"url": origin.url, "archive_info": {"hashes": {"sha256": origin.sha256}}}
    if isinstance(origin, LockedCheckout):
        place = (folder / origin.path).resolve().as_uri()
        return {"url": place, "dir_info": {"editable": True} if origin.editable else {}}
    if isinstance(origin, LockedCommit):
        asked = {"requested_revision": origin.requested} if origin.requested else {}
        told = {"url": origin.url, "vcs_info": {"vcs": "git", "commit_id": origin.commit, **asked}}
        return told | ({"subdirectory": origin.subdirectory} if origin.subdirectory else {})
    return None


def _check_metadata(
    needed: Needed, unpacked: Unpacked, store: Store, correct: Callable[[Metadata], Metadata] | None
) -> None:
    """Check a wheel's own requirements against the lock.

    It may need neither more than the lock knows, nor less. Needs under a marker are left out of the first:
    they may count on this machine's patch of the runtime alone. Raises `IntegrityFailed`. The store remembers
    what the wheel says, for all sources, so that the next resolving knows better.
    """
    library = needed.locked
    try:
        content = unpacked.metadata()
        metadata = parse_metadata(content)
        if correct is not None:
            metadata = whole(correct(metadata))
    except (MetadataBroken, OSError) as error:
        raise IntegrityFailed(f"{needed.artifact.filename} can't be used", because=[str(error)]) from error
    if store.metadata.recall(needed.artifact.sha256) != content:
        store.metadata.remember(needed.artifact.sha256, content)
    wrong = []
    if (metadata.name, metadata.version) != (library.name, library.version):
        wrong.append(f"it is {metadata.name} {metadata.version}, locked is {library.name} {library.version}")
    if correct is not None:
        always = {need.name for need in metadata.needs if need.marker is None}
        ever = {need.name for need in metadata.needs}
        unknown = sorted(always - {library.name, *library.dependencies})
        untrue = sorted(set(library.dependencies) - ever)
        wrong += [f"it needs {', '.join(unknown)} too"] if unknown else []
        if untrue and len(library.wheels) == 1:  # another target's wheel may truly need it
            wrong.append(f"it does not need {', '.join(untrue)}")
    if wrong and needed.build and needed.build.local:
        raise _outgrown(library, needed.build, wrong)
    if wrong:
        raise IntegrityFailed(
            f"{needed.artifact.filename} is not what its source said of it when the lock was made",
            because=[
                *wrong,
                "report this to the source's operator; this machine now uses the wheel's own metadata",
            ],
            remedy="rabbet resolve --fresh-listings",
        )


def _outgrown(library: LockedLibrary, build: Unbuilt, wrong: Sequence[str]) -> EnvironmentFailed:
    """The failure for a folder whose needs changed since the lock was made, or are written down nowhere."""
    return EnvironmentFailed(
        f"{library.name} needs other libraries than the lock says",
        because=wrong,
        note="its build tells it, and pyproject.toml does not declare it" if build.own else "",
        remedy="" if build.own else "rabbet resolve && rabbet recreate",
    )
