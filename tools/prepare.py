"""Set up what developing Rabbet needs, in `.tools`: an environment (PEP 405) with Rabbet and its tools.

Run it with any Python of 3.11 or newer that has pip; `make` does so when `pyproject.toml` has changed.
"""

import os
import shutil
import subprocess
import sys
import tomllib
from pathlib import Path

PROJECT = Path(__file__).resolve().parent.parent
TOOLS = PROJECT / ".tools"


def main() -> None:
    """Make the folder anew and install into it."""
    if sys.version_info < (3, 11):  # noqa: UP036 - this runs before anything has checked the version
        sys.exit("Rabbet needs Python 3.11 or newer; name one: make PYTHON=/path/to/python3 test")
    shutil.rmtree(TOOLS, ignore_errors=True)
    python = make_environment(Path(os.path.realpath(sys.executable)))
    declared = tomllib.loads((PROJECT / "pyproject.toml").read_text(encoding="utf-8"))
    install(python, "--editable", f"{PROJECT}[team]")
    install(python, *declared["dependency-groups"]["develop"])
    (TOOLS / "ready").touch()


def make_environment(base: Path) -> Path:
    """Write the two things that make a folder an environment; return its interpreter."""
    (TOOLS / "bin").mkdir(parents=True)
    python = TOOLS / "bin" / "python"
    python.symlink_to(base)
    settings = f"home = {base.parent}\ninclude-system-site-packages = false\n"
    (TOOLS / "pyvenv.cfg").write_text(settings, encoding="utf-8")
    return python


def install(python: Path, *what: str) -> None:
    """Let the pip of the interpreter that runs this script install into the new environment."""
    pip = [sys.executable, "-m", "pip", "--python", str(python), "--disable-pip-version-check"]
    subprocess.run([*pip, "install", "--quiet", *what], check=True)


if __name__ == "__main__":
    main()
