"""An empty environment (PEP 405): a folder with `pyvenv.cfg` and links to an interpreter."""

from rabbet.core.model.runtime import PythonRuntime
from rabbet.environment.layout import CONFIGURATION, Layout
from rabbet.store.atomic import cannot_write

__all__ = ["create_environment"]


def create_environment(layout: Layout, runtime: PythonRuntime) -> None:
    """Fill the environment's folder, which must exist and be empty. Raises `CannotWrite`."""
    with cannot_write(layout.root):
        layout.site.mkdir(parents=True)
        layout.scripts.mkdir()
        (layout.root / ".gitignore").write_text("# made by Rabbet: an environment is never committed\n*\n")
        (layout.scripts / "python").symlink_to(runtime.executable)
        for name in ("python3", f"python{runtime.version.major}.{runtime.version.minor}"):
            (layout.scripts / name).symlink_to("python")
        home = runtime.executable.rpartition("/")[0]
        (layout.root / CONFIGURATION).write_text(
            f"home = {home}\n"
            "include-system-site-packages = false\n"
            f"version = {runtime.version}\n"
            f"implementation = {runtime.implementation}\n"
        )
