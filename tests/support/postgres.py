"""A PostgreSQL server of the test's own, from Debian's packages: in a folder, on a socket in it."""

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.support import PATIENCE

__all__ = ["PROGRAMS", "postgres"]

PROGRAMS = max(Path("/usr/lib/postgresql").glob("*/bin/initdb"), default=None)


@contextmanager
def postgres() -> Iterator[str]:
    """The URL of an empty database. It never runs as root, so then the user `postgres` has to be there."""
    assert PROGRAMS is not None
    folder = Path(tempfile.mkdtemp(prefix="rabbet-pg-"))
    user = "postgres" if os.getuid() == 0 else None
    if user:
        shutil.chown(folder, user)

    def run(program: str, *arguments: str) -> None:
        command = [str(PROGRAMS.with_name(program)), *arguments]
        subprocess.run(command, cwd=folder, user=user, check=True, capture_output=True, timeout=PATIENCE)

    data = str(folder / "data")
    options = f"-k {folder} -c listen_addresses= -c fsync=off -c max_connections=50"
    try:
        run("initdb", "-D", data, "-U", "bee", "-A", "trust", "--no-sync")
        run("pg_ctl", "-D", data, "-o", options, "-l", str(folder / "log"), "-w", "start")
        try:
            yield f"postgresql+psycopg://bee@/postgres?host={folder}"
        finally:
            run("pg_ctl", "-D", data, "-m", "immediate", "-w", "stop")
    finally:
        shutil.rmtree(folder, ignore_errors=True)
