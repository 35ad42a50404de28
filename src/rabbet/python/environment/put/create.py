"""An empty environment (PEP 405): `pyvenv.cfg`, links to an interpreter, and files for shells to enter it."""

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from importlib.resources import files

from rabbet.core.model.runtime import LinkedRuntime, PythonRuntime
from rabbet.disk.atomic import cannot_write
from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.layout import (
    CONFIGURATION,
    ELSEWHERE,
    PATH_FILE,
    SHELL_FILES,
    VARIABLES_FILE,
    is_reserved,
)

__all__ = ["create_environment", "own_parts", "place_path_file", "runtime_links"]


def create_environment(
    guarded: GuardedEnvironment,
    runtime: PythonRuntime,
    others: Sequence[LinkedRuntime] = (),
    *,
    beside: bool = False,
) -> None:
    """Fill an environment's folder, which must be empty.

    Modules that lie `beside` the folder can be imported in it, after all others. Raises `CannotWrite`.
    """
    with cannot_write(guarded.layout.root):
        guarded.folder(guarded.layout.site_packages, make=True)
        for place, content in _own_files(runtime, others, beside=beside):
            guarded.put_file(place, content, executable=place.startswith(f"{ELSEWHERE}/"))
        for place, target in _own_links(runtime, others):
            guarded.link(place, target)


def place_path_file(guarded: GuardedEnvironment, runtime: PythonRuntime, *, beside: bool) -> None:
    """Let an environment find the modules that lie beside it, or no longer do so. Raises `OSError`."""
    place, content = _path_file(runtime)
    if beside:
        guarded.put_file(place, content)
    else:
        guarded.remove_tree(place)


def own_parts(
    runtime: PythonRuntime, others: Sequence[LinkedRuntime] = (), *, beside: bool = False
) -> Mapping[str, str]:
    """The environment's own files and links by their places: each file's sha256, each link's target."""
    files = _own_files(runtime, others, beside=beside)
    digests = {place: hashlib.sha256(content).hexdigest() for place, content in files}
    return digests | dict(_own_links(runtime, others))


def runtime_links(others: Iterable[LinkedRuntime]) -> Mapping[str, tuple[str, str]]:
    """The links to programs of other languages than Python, by place: whose each is, and where it leads.

    Of two runtimes with a program of the same name the first one gets it.
    """
    found: dict[str, tuple[str, str]] = {}
    for other in others:
        for name, target in other.links.items():
            if not is_reserved(f"bin/{name}"):
                found.setdefault(f"bin/{name}", (other.runtime.language, target))
    return found


def _own_links(runtime: PythonRuntime, others: Iterable[LinkedRuntime]) -> Iterator[tuple[str, str]]:
    yield "bin/python", runtime.executable
    yield "bin/python3", "python"
    yield f"bin/python{runtime.minor}", "python"
    for place, (_, target) in runtime_links(others).items():
        yield place, target


def _own_files(
    runtime: PythonRuntime, others: Iterable[LinkedRuntime], *, beside: bool
) -> Iterator[tuple[str, bytes]]:
    if beside:
        yield _path_file(runtime)
    yield ".gitignore", b"# made by Rabbet: an environment is never committed\n*\n"
    folder = files("rabbet.python.environment").joinpath("shells")
    for name in SHELL_FILES:
        yield f"bin/{name}", folder.joinpath(name).read_bytes()
    for name in runtime.installers:
        yield f"{ELSEWHERE}/{name}", folder.joinpath("elsewhere.sh").read_bytes()
    variables = [f"{name}={value}\n" for other in others for name, value in other.variables.items()]
    if variables:
        yield VARIABLES_FILE, "".join(variables).encode(errors="surrogateescape")
    home = runtime.executable.rpartition("/")[0]
    configuration = (
        f"home = {home}\n"
        "include-system-site-packages = false\n"
        f"version = {runtime.version}\n"
        f"implementation = {runtime.distributor}\n"
    )
    yield CONFIGURATION, configuration.encode(errors="surrogateescape")


def _path_file(runtime: PythonRuntime) -> tuple[str, bytes]:
    """The file that leads to the folder above the environment: relative, so that both can be moved."""
    up = "/".join([".."] * (runtime.site_packages.count("/") + 2))
    return f"{runtime.site_packages}/{PATH_FILE}", f"{up}\n".encode()
