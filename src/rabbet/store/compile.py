"""Byte-compiling unpacked wheels, once for each runtime, with all cores (PEP 3147 names the files).

The compiled files note size and time of their sources, and are valid wherever both are linked to.
"""

import os
import subprocess
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

__all__ = ["Compilation", "compile_all"]

_TIMEOUT = 600  # seconds

# Runs inside the runtime that will run the modules, so it has to do with Python 3.4. What can't be compiled
# is left out: some libraries bring templates, and tests for other versions.
_PROGRAM = r"""
import importlib.util, os, py_compile, sys
for line in sys.stdin.buffer.read().split(b"\n"):
    if line:
        tree, folder, path = os.fsdecode(line).split("\0")
        target = os.path.join(folder, importlib.util.cache_from_source(path))
        try:
            py_compile.compile(os.path.join(tree, path), target, path, True)
        except Exception:
            pass
"""


class Compilation(NamedTuple):
    """The modules of one unpacked tree (relative paths), and the folder that their compiled files go into."""

    tree: Path
    modules: Sequence[str]
    folder: Path


def compile_all(executable: str, work: Sequence[Compilation]) -> None:
    """Compile all modules that can be; a runtime that fails leaves them to be compiled on import."""
    lines = [f"{one.tree}\0{one.folder}\0{path}" for one in work for path in one.modules]
    cores = min(os.cpu_count() or 1, 1 + len(lines) // 20)
    with ThreadPoolExecutor(cores) as pool:
        list(pool.map(lambda part: _compile(executable, part), [lines[n::cores] for n in range(cores)]))


def _compile(executable: str, lines: Sequence[str]) -> None:
    try:
        subprocess.run(
            [executable, "-I", "-S", "-c", _PROGRAM],
            input=os.fsencode("\n".join(lines)),
            env={},
            capture_output=True,
            timeout=_TIMEOUT,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return
