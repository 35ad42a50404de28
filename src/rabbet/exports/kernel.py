"""Kernels for notebooks: an environment registered by the open kernel specification (`kernel.json`)."""

import re
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

from rabbet.core.limits import MOST_BY_HAND
from rabbet.disk.regular_file import read_regular

__all__ = [
    "FILE",
    "LIBRARY",
    "Kernel",
    "KnownKernel",
    "kernel_name",
    "kernels_folder",
    "known_kernels",
    "lost_kernels",
    "read_kernel",
    "written_kernel",
]

FILE = "kernel.json"
LIBRARY = "ipykernel"  # speaks the protocol of notebooks, and has to be installed in the environment
_MARK = "rabbet"  # the part of a specification's metadata that is ours
_NO_NAME = re.compile(r"[^a-z0-9._-]+")


class Kernel(NamedTuple):
    """A kernel as notebooks list it (`title`), with the environment that it starts and that one's project."""

    title: str
    environment: Path
    project: str


class KnownKernel(NamedTuple):
    """A registered kernel, its folder, and whether its environment is still there."""

    folder: Path
    kernel: Kernel
    there: bool


def kernels_folder(environ: Mapping[str, str], home: Path) -> Path:
    """The user's folder for kernels, where notebooks look for them."""
    named = environ.get("JUPYTER_DATA_DIR")
    if named:
        return Path(named) / "kernels"
    if sys.platform == "darwin":
        return home / "Library" / "Jupyter" / "kernels"
    data = environ.get("XDG_DATA_HOME")
    return (Path(data) if data else home / ".local" / "share") / "jupyter" / "kernels"


def known_kernels(above: Path) -> Iterator[KnownKernel]:
    """The kernels in the user's folder that were registered here; those of others are passed over."""
    for folder in sorted(above.iterdir()) if above.is_dir() else ():
        kernel = read_kernel(folder)
        if kernel is not None:
            yield KnownKernel(folder, kernel, (kernel.environment / "bin" / "python").exists())


def lost_kernels(above: Path, project: Path) -> list[str]:
    """The titles of kernels without an environment: those of a project, and of folders that are gone."""
    return [
        known.kernel.title
        for known in known_kernels(above)
        if not known.there
        and (Path(known.kernel.project) == project or not Path(known.kernel.project).is_dir())
    ]


def kernel_name(title: str, key: str) -> str:
    """The name of a kernel's folder: letters, digits, `.`, `_` and `-`."""
    return f"{_NO_NAME.sub('-', title.lower()).strip('-')[:60]}-{key}"


def written_kernel(kernel: Kernel, interpreter: Path, variables: Mapping[str, str]) -> str:
    """The content of `kernel.json`; a variable may hold `${NAME}` for what the notebook's own process has."""
    import json

    content = {
        "argv": [str(interpreter), "-m", f"{LIBRARY}_launcher", "-f", "{connection_file}"],
        "display_name": kernel.title,
        "language": "python",
        "env": dict(variables),
        "metadata": {_MARK: {"environment": str(kernel.environment), "project": kernel.project}},
    }
    return json.dumps(content, indent=1, ensure_ascii=False) + "\n"


def read_kernel(folder: Path) -> Kernel | None:
    """The kernel that a folder holds; `None` for those of others, and what can't be read."""
    import json

    try:
        content = json.loads(read_regular(folder / FILE, most=MOST_BY_HAND).decode("utf-8", "replace"))
        own = content["metadata"][_MARK]
        return Kernel(str(content["display_name"]), Path(own["environment"]), str(own["project"]))
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return None
