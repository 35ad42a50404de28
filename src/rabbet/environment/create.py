"""An empty environment (PEP 405): `pyvenv.cfg`, links to an interpreter, and files for shells to enter it."""

from collections.abc import Iterator
from importlib.resources import files

from rabbet.core.model.runtime import PythonRuntime
from rabbet.environment.layout import CONFIGURATION, SHELL_FILES, Layout
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
        for path, text in _shell_files():
            (layout.scripts / path).parent.mkdir(exist_ok=True)
            (layout.scripts / path).write_text(text, encoding="utf-8")
        home = runtime.executable.rpartition("/")[0]
        (layout.root / CONFIGURATION).write_text(
            f"home = {home}\n"
            "include-system-site-packages = false\n"
            f"version = {runtime.version}\n"
            f"implementation = {runtime.implementation}\n"
        )


def _shell_files() -> Iterator[tuple[str, str]]:
    """The files that shells source, by their places beside the commands."""
    folder = files("rabbet.environment").joinpath("shells")
    for name in SHELL_FILES:
        yield name, folder.joinpath(name).read_text(encoding="utf-8")
