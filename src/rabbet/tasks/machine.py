"""The machine as tasks see it: the current folder, the user's variables and folders."""

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from rabbet.store.memory import LAYOUT

if TYPE_CHECKING:
    from rabbet.store.store import Store

__all__ = ["Machine"]


class Machine(NamedTuple):
    """Where a command runs. `environ` is the only access to environment variables below the interface.

    `offline` forbids to ask the network.
    """

    folder: Path
    environ: Mapping[str, str]
    home: Path
    offline: bool = False

    def store(self) -> "Store":
        """The store."""
        from rabbet.store.store import Store

        return Store(self.store_folder())

    def store_folder(self) -> Path:
        """Where the store lies: `RABBET_STORE`, else the platform's folder for caches; its present layout."""
        named = self.environ.get("RABBET_STORE")
        if named:
            return self.folder / Path(named).expanduser() / LAYOUT
        import platformdirs

        return platformdirs.user_cache_path("rabbet") / LAYOUT

    def settings_file(self) -> Path:
        """The user's own settings."""
        import platformdirs

        return platformdirs.user_config_path("rabbet") / "settings.toml"
