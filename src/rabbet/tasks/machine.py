"""The machine as tasks see it: the current folder, the user's variables and folders."""

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rabbet.store.store import Store

__all__ = ["Machine"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Machine:
    """Where a command runs. `environ` is the only access to environment variables below the interface.

    `offline` forbids to ask the network.
    """

    folder: Path
    environ: Mapping[str, str]
    home: Path
    offline: bool = False

    def store(self) -> "Store":
        """The store: `RABBET_STORE`, else the platform's folder for caches."""
        from rabbet.store.store import Store

        named = self.environ.get("RABBET_STORE")
        if named:
            return Store(self.folder / Path(named).expanduser())
        import platformdirs

        return Store(platformdirs.user_cache_path("rabbet"))

    def settings_file(self) -> Path:
        """The user's own settings."""
        import platformdirs

        return platformdirs.user_config_path("rabbet") / "settings.toml"
