"""The machine as tasks see it: the current folder, the user's variables and folders."""

import os
from collections.abc import Mapping
from functools import cached_property
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.disk.named import path_named
from rabbet.errors import WrongUsage
from rabbet.store.blob_cache import BlobCache
from rabbet.store.layout import LAYOUT, PACKED, UNPACKED, state_folder

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from typing import Self

    from rabbet.formats.project.settings import Settings
    from rabbet.net.http.wire import HostTraffic, Wire
    from rabbet.python.store.store import Store
    from rabbet.runtimes.search import Look, Program
    from rabbet.store.environments import Environments
    from rabbet.store.pack import Pack

__all__ = ["CENSUS_VARIABLE", "Machine", "state_of_this_process"]

CENSUS_VARIABLE = "RABBET_CENSUS"  # names a database; it may hold a password, which stands in no file then
_FOLDERS = ("RABBET_STORE", "RABBET_STATE", "RABBET_DATA")  # variables that name one
_MOST_DIGITS = 9
_WIRE = "wire"  # the attribute, which is there once it was needed


def state_of_this_process() -> Path:
    """The folder for state, also where nothing else is known of the machine: for the log and for reports."""
    return state_folder(os.environ)


class Machine:
    """Where a command runs. `environ` is the only access to environment variables below the interface.

    `offline` forbids to ask the network; `fresh_listings` asks it for listings that are said to be fresh,
    too. Where it is `attended`, somebody sits at a terminal and can be asked.
    """

    def __init__(
        self,
        folder: Path,
        environ: Mapping[str, str],
        home: Path,
        *,
        offline: bool = False,
        fresh_listings: bool = False,
        attended: bool = False,
    ) -> None:
        self.folder = folder
        self.environ = environ
        self.home = home
        self.offline = offline
        self.fresh_listings = fresh_listings
        self.attended = attended
        self._packs: dict[tuple[str, str], Pack] = {}

    @classmethod
    def of_this_process(
        cls, folder: Path | None = None, *, offline: bool, fresh_listings: bool, attended: bool
    ) -> "Self":
        """The machine as this process sees it, from another folder than its own if one is given.

        `RABBET_OFFLINE` counts as `offline`. Raises `WrongUsage` where the process's folder is gone.
        """
        try:
            here = Path.cwd()
        except OSError as error:
            raise WrongUsage("the current folder is not there any more", remedy="cd") from error
        return cls(
            folder=Path(os.path.abspath(here / folder)) if folder else here,  # noqa: PTH100 - with its links
            environ=dict(os.environ),
            home=Path(os.path.expanduser("~")),  # noqa: PTH111 - `Path.home` raises for one that is called `~`
            offline=offline or os.environ.get("RABBET_OFFLINE", "") not in ("", "0"),
            fresh_listings=fresh_listings,
            attended=attended,
        )

    def at(self, folder: Path, *, offline: bool = False) -> "Self":
        """The same machine seen from another folder; the user's variables lead to where they led before.

        The network may be forbidden there, although it is not here.
        """
        named = {name: self.environ[name] for name in _FOLDERS if self.environ.get(name)}
        fixed = {name: str(path_named(place, self.folder)) for name, place in named.items()}
        return type(self)(
            folder,
            {**self.environ, **fixed},
            self.home,
            offline=self.offline or offline,
            fresh_listings=self.fresh_listings and not offline,
            attended=self.attended,
        )

    def close(self) -> None:
        """Flush the caches and close all connections; later use opens new ones."""
        for pack in self._packs.values():
            pack.close()
        if _WIRE in vars(self):
            self.wire.close()
            del self.wire

    @cached_property
    def wire(self) -> "Wire":
        """The wire for all HTTP requests."""
        from rabbet.net.http.wire import Wire

        return Wire()

    def traffic(self) -> "tuple[HostTraffic, ...]":
        """The requests to each host so far."""
        return tuple(host for host in self.wire.traffic() if host.requests) if _WIRE in vars(self) else ()

    def helpers_environ(self) -> Mapping[str, str]:
        """The variables for helpers such as git, which are not taken from environments and projects."""
        from rabbet.runtimes.search import trusted_path

        return {**self.environ, "PATH": trusted_path(self.environ, self.home)}

    @cached_property
    def pythons(self) -> "tuple[Path, ...]":
        """Where interpreters of Python lie on this machine, looked for once a command."""
        return self.find_pythons()

    def find_pythons(self, look: "Look | None" = None) -> "tuple[Path, ...]":
        """Look for them; a `look` knows afterwards which folders were read."""
        from rabbet.runtimes.search import find_executables

        return find_executables(self.environ, self.home, self.environments().runtime_folders(), look)

    def programs(self, wanted: "Callable[[str], bool]", look: "Look | None" = None) -> "Iterator[Program]":
        """The programs whose names are wanted, as far as they may be runtimes of this machine."""
        from rabbet.runtimes.search import find_programs

        return find_programs(self.environ, self.home, wanted, self.environments().runtime_folders(), look)

    def environments(self) -> "Environments":
        """The environments that were made here.

        They are noted in the folder for state, never in the store: a store may be emptied at any time, and
        that must make no environment a stranger's.
        """
        from rabbet.store.environments import Environments

        return Environments(state_folder(self.environ, self.folder))

    @cached_property
    def store(self) -> "Store":
        """The store."""
        from rabbet.python.store.store import Store

        return Store(self.store_folder, self.metadata)

    def has_unpacked(self) -> bool:
        """Whether any wheel was ever unpacked into the store."""
        return (self.store_folder / UNPACKED).is_dir()

    @property
    def metadata(self) -> "Pack":
        """Metadata of releases, by the hashes of their files."""
        return self._pack("metadata", "all")

    def listings(self, address: str) -> "Pack":
        """The stored pages of the index at this address."""
        return self._pack("listings", sha256(address.encode()).hexdigest()[:32])

    def _pack(self, part: str, name: str) -> "Pack":
        """One of the store's packs, which a command opens once."""
        from rabbet.store.pack import Pack

        if (part, name) not in self._packs:
            self._packs[part, name] = Pack(self.store_folder / part / f"{name}{PACKED}")
        return self._packs[part, name]

    def memory(self, name: str) -> BlobCache:
        """One of the store's caches, without importing the whole store: many commands need no more."""
        return BlobCache(self.store_folder / name)

    @cached_property
    def store_folder(self) -> Path:
        """Where the store lies: `RABBET_STORE`, else the platform's folder for caches; its present layout."""
        named = self.environ.get("RABBET_STORE")
        if named:
            return path_named(named, self.folder) / LAYOUT
        import platformdirs

        return platformdirs.user_cache_path("rabbet") / LAYOUT

    def shares_files(self) -> bool:
        """Whether environments may share files with the store: the user's wish, yes unless he said no.

        Raises `NotUnderstood` for settings that can't be read.
        """
        named = self.environ.get("RABBET_SHARE_FILES")
        if named is not None:
            return named != "0"
        return not self.settings_file().is_file() or self.settings().share_files

    def seconds_for_builds(self) -> int:
        """How long a hook of a build may take: an hour, or what the user names. Raises `WrongUsage`."""
        named = self.environ.get("RABBET_BUILD_SECONDS", "3600")
        if not named.isdecimal() or len(named) > _MOST_DIGITS or not int(named):
            raise WrongUsage(f"RABBET_BUILD_SECONDS is '{named[:60]}', which is not a number of seconds")
        return int(named)

    def settings(self) -> "Settings":
        """The user's own settings; defaults where there are none. Raises `NotUnderstood`."""
        from rabbet.disk.text_file import read_text
        from rabbet.formats.project.settings import Settings, read_settings

        path = self.settings_file()
        return read_settings(read_text(path, by_hand=True), str(path)) if path.is_file() else Settings()

    def settings_file(self) -> Path:
        """The user's own settings."""
        import platformdirs

        return platformdirs.user_config_path("rabbet") / "settings.toml"
