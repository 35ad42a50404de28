"""Run git."""

import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

from rabbet.errors import SourceFailed

__all__ = ["run_git"]


def run_git(
    arguments: Sequence[str], folder: Path, environ: Mapping[str, str], timeout: int, *, given: bytes = b""
) -> "subprocess.CompletedProcess[bytes]":
    """Run git to its end on what is `given`. Raises `SourceFailed` when it can't be run or takes too long."""
    try:
        return subprocess.run(
            ["git", *arguments],
            cwd=folder,
            env=environ,
            input=given,
            capture_output=True,
            timeout=timeout,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise SourceFailed("git can't be asked", because=[type(error).__name__]) from error
