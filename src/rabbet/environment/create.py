"""An empty environment (PEP 405): `pyvenv.cfg`, links to an interpreter, and files for shells to enter it."""

import hashlib
from collections.abc import Iterator, Mapping
from importlib.resources import files

from rabbet.core.model.runtime import PythonRuntime
from rabbet.environment.guarded import GuardedEnvironment
from rabbet.environment.layout import CONFIGURATION, SHELL_FILES
from rabbet.store.atomic import cannot_write

__all__ = ["create_environment", "own_parts"]


def create_environment(guarded: GuardedEnvironment, runtime: PythonRuntime) -> None:
    """Fill an environment's folder, which must be empty. Raises `CannotWrite`."""
    with cannot_write(guarded.layout.root):
        guarded.folder(guarded.layout.site_packages, make=True)
        for place, content in _own_files(runtime):
            guarded.write(place, content)
        for place, target in _own_links(runtime):
            guarded.link(place, target)


def own_parts(runtime: PythonRuntime) -> Mapping[str, str]:
    """The environment's own files and links by their places: each file's sha256, each link's target."""
    digests = {place: hashlib.sha256(content).hexdigest() for place, content in _own_files(runtime)}
    return digests | dict(_own_links(runtime))


def _own_links(runtime: PythonRuntime) -> Iterator[tuple[str, str]]:
    yield "bin/python", runtime.executable
    yield "bin/python3", "python"
    yield f"bin/python{runtime.minor}", "python"


def _own_files(runtime: PythonRuntime) -> Iterator[tuple[str, bytes]]:
    yield ".gitignore", b"# made by Rabbet: an environment is never committed\n*\n"
    folder = files("rabbet.environment").joinpath("shells")
    for name in SHELL_FILES:
        yield f"bin/{name}", folder.joinpath(name).read_bytes()
    home = runtime.executable.rpartition("/")[0]
    configuration = (
        f"home = {home}\n"
        "include-system-site-packages = false\n"
        f"version = {runtime.version}\n"
        f"implementation = {runtime.distributor}\n"
    )
    yield CONFIGURATION, configuration.encode(errors="surrogateescape")
