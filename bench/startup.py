"""How long the program takes to start, against the floor: an interpreter that only imports argparse.

Run it by `make bench`. Each command is run in turn with its floor, so that a machine whose speed drifts does
not favour one of them; medians are printed with the ratio of each to the floor. What works on a project, and
what a shell asks for when it completes a word, is run in one of 30 libraries whose environment fits; `run` in
other kinds of project too, each time after a new file came into the folder, and once more.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

from bench.recreate import PROGRAM, Project, libraries_of, served

ROUNDS = 25
LIBRARIES, MODULES = 30, 20
RUN = [PROGRAM, "run", "python", "-c", "pass"]
COMMANDS = {
    "python -c 'import argparse'": [sys.executable, "-c", "import argparse"],
    "rabbet --version": [PROGRAM, "--version"],
    "rabbet --help": [PROGRAM, "--help"],
    "rabbet resolve --help": [PROGRAM, "resolve", "--help"],
    "rabbet run python -c pass": RUN,
    "rabbet recreate, nothing to do": [PROGRAM, "recreate"],
    "rabbet drift, nothing changed": [PROGRAM, "drift"],
    "rabbet status": [PROGRAM, "status"],
    "rabbet explain": [PROGRAM, "explain", "made1"],
    "rabbet export list": [PROGRAM, "export", "list"],
}
KINDS = {
    "a build of its own": '[build-system]\nrequires = []\nbuild-backend = "backend"\nbackend-path = ["."]\n',
    "a language of its own": '[tool.rabbet.languages.shell]\nprograms = ["sh"]\nask = ["-c", "echo 1"]\n'
    'told = ["{version}"]\n',
}
BACKEND = """
import base64, hashlib, os, zipfile
INFO = "hivescale-1.0.dist-info"
def build_editable(folder, config_settings=None, metadata_directory=None):
    files = {
        "hivescale.pth": os.getcwd(),
        f"{INFO}/METADATA": "Metadata-Version: 2.1\\nName: hivescale\\nVersion: 1.0\\n",
        f"{INFO}/WHEEL": "Wheel-Version: 1.0\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n",
    }
    hashes = {name: hashlib.sha256(text.encode()).digest() for name, text in files.items()}
    rows = [f"{name},sha256={base64.urlsafe_b64encode(hashes[name]).decode().rstrip('=')}," for name in files]
    with zipfile.ZipFile(os.path.join(folder, "hivescale-1.0-py3-none-any.whl"), "w") as archive:
        for name, text in {**files, f"{INFO}/RECORD": "\\n".join([*rows, f"{INFO}/RECORD,,"])}.items():
            archive.writestr(name, text)
    return "hivescale-1.0-py3-none-any.whl"
"""
NEW_FILE = ", a new file"
COMPLETED = ("rabbet re", "rabbet explain made", "rabbet declare made1==")


def main() -> None:
    """Time all commands in turn and print medians and ratios."""
    names = [f"made{number}" for number in range(LIBRARIES)]
    with tempfile.TemporaryDirectory() as folder, served(partial(libraries_of, names, MODULES)) as address:
        project = Project(Path(folder), address, names)
        project.rabbet("recreate")
        runs = {name: (command, project.folder, project.variables) for name, command in COMMANDS.items()}
        for kind, text in KINDS.items():
            other = Project(Path(folder, kind.replace(" ", "-")), address, names)
            declaration = other.folder / "pyproject.toml"
            plain = declaration.read_text().replace("[project]", '[project]\nversion = "1.0"')
            declaration.write_text(plain + text)
            (other.folder / "backend.py").write_text(BACKEND)
            other.rabbet("resolve")
            other.rabbet("recreate")
            for after in (NEW_FILE, ", later"):
                runs[f"run, {kind}{after}"] = (RUN, other.folder, other.variables)
        for line in COMPLETED:
            asked = {
                "_ARGCOMPLETE": "1",
                "_ARGCOMPLETE_STDOUT_FILENAME": os.devnull,
                "COMP_LINE": line,
                "COMP_POINT": str(len(line)),
            }
            runs[f"completing '{line}'"] = ([PROGRAM], project.folder, {**project.variables, **asked})
        taken: dict[str, list[float]] = {name: [] for name in runs}
        for turn in range(ROUNDS + 1):
            for name, (command, where, variables) in runs.items():
                if name.endswith(NEW_FILE):
                    (where / f"noted{turn}.py").touch()
                begun = time.perf_counter()
                subprocess.run(command, cwd=where, env=variables, check=True, stdout=subprocess.DEVNULL)
                if turn:  # the first round warms up
                    taken[name].append(time.perf_counter() - begun)
    floor = statistics.median(next(iter(taken.values())))
    print(f"{'command':<36} {'median ms':>9} {'of floor':>8}")
    for name, times in taken.items():
        median = statistics.median(times)
        print(f"{name:<36} {median * 1000:>9.1f} {median / floor:>8.2f}")


if __name__ == "__main__":
    main()
