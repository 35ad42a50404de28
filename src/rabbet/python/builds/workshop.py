"""A source tree, opened, and environments that its back end is called in."""

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from rabbet.core.model.build import BuildOptions
from rabbet.core.model.lock import BuildSource, LockedWheel, Needed, is_own_folder
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.progress import Silent
from rabbet.disk.atomic import cannot_write
from rabbet.disk.folder import make_folder
from rabbet.net.git.remote_repository import RemoteRepository
from rabbet.python.builds.backend import Backend, Workplace
from rabbet.python.builds.source_tree import Origins, SourceCode, open_sources_of
from rabbet.python.compose.changes import EnvironmentSpec
from rabbet.python.compose.fetch import ArtifactFetcher, LockedContents
from rabbet.python.compose.make import make
from rabbet.python.compose.wheels import InstallPolicy
from rabbet.python.environment.place.layout import interpreter_in
from rabbet.store.environments import Environments

__all__ = ["Opened", "Workshop", "opened"]


class Workshop(Struct, frozen=True, kw_only=True):
    """The parts that all builds on this machine share: the files' origin, and the builder.

    `commands` are the folders that programs such as compilers are looked for in, joined as in `PATH`. A hook
    may take so many `seconds`. `prebuilt` gives the wheel of a build that a teammate made, by its identity.
    `check_own` raises `NotAgreed` where the project's own build may not run.
    """

    fetcher: ArtifactFetcher
    runtime: PythonRuntime
    environments: Environments
    repository: Callable[[str], RemoteRepository]
    commands: str
    share_files: bool
    seconds: int
    prebuilt: Callable[[str], LockedWheel | None]
    check_own: Callable[[], None]


@contextmanager
def opened(what: str, source: BuildSource, workshop: Workshop, options: BuildOptions) -> Iterator["Opened"]:
    """Open the sources of `what`, such as `honeyflow 1.2`, to be built with these options.

    Raises `SourceFailed`, `IntegrityFailed`, `BuildFailed`, `NotAgreed`, `CannotWrite`.
    """
    if is_own_folder(source):
        workshop.check_own()
    fetcher = workshop.fetcher
    origins = Origins(
        store=fetcher.store,
        contents=LockedContents(fetcher),
        repository=workshop.repository,
        folder=fetcher.folder,
    )
    with fetcher.store.scratch() as scratch:
        yield Opened(what, open_sources_of(what, source, origins, scratch), workshop, options)


class Opened:
    """An opened source tree; `code` tells how it is built."""

    def __init__(self, what: str, code: SourceCode, workshop: Workshop, options: BuildOptions) -> None:
        self._what = what
        self.code = code
        self._workshop = workshop
        self._options = options

    @contextmanager
    def backend(self, environment: Sequence[Needed]) -> Iterator[Backend]:
        """Its back end, in an environment of these libraries that lasts as long.

        Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
        """
        shop = self._workshop
        store = shop.fetcher.store
        with store.scratch() as scratch:
            with cannot_write(scratch):
                for name in ("home", "tmp", "environment"):
                    (scratch / name).mkdir()
                make_folder(store.build_logs)
            root = scratch / "environment"
            self._compose(root, environment)
            place = Workplace(
                root=scratch,
                interpreter=interpreter_in(root),
                commands=shop.commands,
                log=store.build_logs / f"{_file_name(self._what)}-{os.urandom(4).hex()}.log",
                seconds=shop.seconds,
                options=self._options,
            )
            yield Backend(self._what, self.code.tree, self.code.system, place, shop.fetcher.observer)
            place.log.unlink(missing_ok=True)  # who failed may want to read it

    def _compose(self, root: Path, environment: Sequence[Needed]) -> None:
        shop = self._workshop
        shop.fetcher.observer.waiting(f"what the build of {self._what} needs")
        spec = EnvironmentSpec(
            root=root,
            runtime=shop.runtime,
            environments=shop.environments,
            share_files=shop.share_files,
        )
        make(spec, environment, replace(shop.fetcher, observer=Silent()), InstallPolicy())


def _file_name(text: str) -> str:
    """A text as a part of a file's name."""
    return "".join(letter if letter.isalnum() or letter in "._+" else "-" for letter in text)
