"""Set up an environment (PEP 405) with Rabbet: in `.tools` to develop it, in another folder to use it.

Run it with any Python of 3.11 or newer that has pip. `make` does so when `pyproject.toml` has changed;
`make install` gives the other folder, and the one on `PATH` that gets a link to the program.
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
    """Make `.tools`, or the environment of the program."""
    if sys.version_info < (3, 11):  # noqa: UP036 - this runs before anything has checked the version
        sys.exit("Rabbet needs Python 3.11 or newer; name one: make PYTHON=/path/to/python3 test")
    if sys.argv[1:]:
        install_program(*map(Path, sys.argv[1:]))
    else:
        prepare_tools()


def prepare_tools() -> None:
    """Rabbet as it stands in this folder, and what is used to develop it."""
    python = make_environment(TOOLS)
    declared = tomllib.loads((PROJECT / "pyproject.toml").read_text(encoding="utf-8"))
    install(python, "--editable", f"{PROJECT}[team]")
    install(python, *declared["dependency-groups"]["develop"])
    (TOOLS / "ready").touch()


def install_program(place: Path, commands: Path) -> None:
    """A copy of Rabbet in a folder of its own, replaced if it is there, and a link to it on `PATH`."""
    program, link = place / "bin" / "rabbet", commands / "rabbet"
    if place.exists() and not program.exists():
        sys.exit(f"{place} holds something else; name another folder: make install INTO=FOLDER")
    if link.exists() and not link.is_symlink():
        sys.exit(f"{link} is another program; name another folder: make install COMMANDS=FOLDER")
    python = place / "bin" / "python" if program.exists() else make_environment(place)
    install(python, "--upgrade", f"{PROJECT}[team]")
    commands.mkdir(parents=True, exist_ok=True)
    link.unlink(missing_ok=True)
    link.symlink_to(program)
    print(f"Installed {link}")
    if str(commands) not in os.environ.get("PATH", "").split(os.pathsep):
        print(f"{commands} is not on PATH. To put it there: export PATH={commands}:$PATH")


def make_environment(place: Path) -> Path:
    """Write the two things that make a folder an environment; return its interpreter."""
    base = Path(os.path.realpath(sys.executable))
    shutil.rmtree(place, ignore_errors=True)
    (place / "bin").mkdir(parents=True)
    python = place / "bin" / "python"
    python.symlink_to(base)
    settings = f"home = {base.parent}\ninclude-system-site-packages = false\n"
    (place / "pyvenv.cfg").write_text(settings, encoding="utf-8")
    return python


def install(python: Path, *what: str) -> None:
    """Let the pip of the interpreter that runs this script install into the new environment."""
    pip = [sys.executable, "-m", "pip", "--python", str(python), "--disable-pip-version-check"]
    subprocess.run([*pip, "install", "--quiet", *what], check=True)


if __name__ == "__main__":
    main()
