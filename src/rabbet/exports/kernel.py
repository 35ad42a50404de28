"""Kernels for notebooks: an environment registered by the open kernel specification (`kernel.json`)."""

import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

__all__ = ["LIBRARY", "Kernel", "kernel_name", "read_kernel", "written_kernel"]

LIBRARY = "ipykernel"  # speaks the protocol of notebooks, and has to be installed in the environment
_MARK = "rabbet"  # the part of a specification's metadata that is ours
_NO_NAME = re.compile(r"[^a-z0-9._-]+")


class Kernel(NamedTuple):
    """A kernel as notebooks list it (`title`), with the environment that it starts and that one's project."""

    title: str
    environment: Path
    project: str


def kernel_name(title: str, key: str) -> str:
    """The name of a kernel's folder: letters, digits, `.`, `_` and `-`."""
    return f"{_NO_NAME.sub('-', title.lower()).strip('-')[:60]}-{key}"


def written_kernel(kernel: Kernel, interpreter: Path, variables: Mapping[str, str]) -> str:
    """The content of `kernel.json`; a variable may hold `${NAME}` for what the notebook's own process has."""
    content = {
        "argv": [str(interpreter), "-m", f"{LIBRARY}_launcher", "-f", "{connection_file}"],
        "display_name": kernel.title,
        "language": "python",
        "env": dict(variables),
        "metadata": {_MARK: {"environment": str(kernel.environment), "project": kernel.project}},
    }
    return json.dumps(content, indent=1, ensure_ascii=False) + "\n"


def read_kernel(text: str) -> Kernel | None:
    """A kernel that was written here; `None` for those of others, and what can't be read."""
    try:
        content = json.loads(text)
        own = content["metadata"][_MARK]
        return Kernel(str(content["display_name"]), Path(own["environment"]), str(own["project"]))
    except (ValueError, KeyError, TypeError, RecursionError):
        return None
