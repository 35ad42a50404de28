"""An environment's own description, `pyvenv.cfg` (PEP 405)."""

from pathlib import Path

from msgspec import Struct
from packaging.version import Version

from rabbet.core.limits import MOST_METADATA
from rabbet.disk.regular_file import read_regular
from rabbet.errors import EnvironmentFailed
from rabbet.python.environment.place.layout import CONFIGURATION

__all__ = ["Configuration", "read_configuration"]


class Configuration(Struct, frozen=True, kw_only=True):
    """The content of `pyvenv.cfg`: version, implementation, and the folder of libraries."""

    python: Version
    implementation: str
    site_packages: str


def read_configuration(root: Path) -> Configuration:
    """Read an environment's own description. Raises `EnvironmentFailed` where there is none."""
    if not root.exists():
        raise EnvironmentFailed(f"there is no environment in {root}", remedy="rabbet recreate")
    try:
        text = read_regular(root / CONFIGURATION, most=MOST_METADATA).decode("utf-8", "surrogateescape")
    except OSError as error:
        raise EnvironmentFailed(
            f"{root} is not an environment", because=[error.strerror or str(error)], remedy="rabbet recreate"
        ) from error
    values = {
        key.strip().lower(): value.strip()
        for key, _, value in (line.partition("=") for line in text.splitlines())
    }
    try:
        version = Version(values.get("version") or values["version_info"])
        site = next(path for path in root.glob("lib/*/site-packages") if path.is_dir())
    except (KeyError, ValueError, StopIteration) as error:
        raise EnvironmentFailed(
            f"the environment in {root} is damaged",
            because=[f"its version or its site-packages folder can't be found ({type(error).__name__})"],
            remedy="rabbet recreate",
        ) from error
    return Configuration(
        python=version,
        implementation=values.get("implementation", "cpython").lower(),
        site_packages=str(site.relative_to(root)),
    )
