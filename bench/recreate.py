"""Making environments, each figure beside its floor: an environment of about 10,000 files, and a small one.

Run it by `make bench`. Whole commands, in turn with their floor; medians are printed. The wheels are made up
and lie in a folder, so nothing is fetched over a network.
"""

import os
import resource
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from bench.in_turn import compared, line
from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp

PROGRAM = str(Path(sys.executable).parent / "rabbet")
SIZES = {"large": (25, 200), "small": (15, 6)}  # libraries, modules each; every module comes compiled too


class Project:
    """A project whose libraries are all in the store."""

    def __init__(self, folder: Path, libraries: int, modules: int) -> None:
        self.folder = folder / "hivescale"
        self.folder.mkdir(parents=True)
        self.environment = self.folder / ".venv"
        self.copy = folder / "copy"
        self.variables = {
            "HOME": str(folder),
            "PATH": os.environ["PATH"],
            "RABBET_STORE": str(folder / "store"),
        }
        names = [f"comb{number}" for number in range(libraries)]
        made = [
            MadeUp(name=name, version="1.0", code="x = 1\n", more=tuple(self.modules(name, modules)))
            for name in names
        ]
        write_files(folder / "wheels", made)
        (self.folder / "pyproject.toml").write_text(
            f'[project]\nname = "hivescale"\nrequires-python = ">=3.11"\ndependencies = {names}\n'
            '[[tool.rabbet.sources]]\nname = "made-up"\nurl = "../wheels"\n'
        )
        self.rabbet("resolve")

    @staticmethod
    def modules(name: str, count: int) -> list[tuple[str, str]]:
        """A package of so many modules, each with a function."""
        code = "def honey(weight):\n    return weight * 0.8\n" * 20
        return [(f"{name}_cells/cell{number}.py", code) for number in range(count)]

    def run(self, *command: str) -> None:
        """Run a command to its end."""
        subprocess.run(command, cwd=self.folder, env=self.variables, check=True, stdout=subprocess.DEVNULL)

    def rabbet(self, *arguments: str) -> None:
        """Run rabbet."""
        self.run(PROGRAM, *arguments, "--quiet")

    def clear(self) -> None:
        """Remove the environment and the copy of it."""
        for path in (self.environment, self.copy):
            shutil.rmtree(path, ignore_errors=True)


def main() -> None:
    """Print all figures."""
    print(f"{'':<58} {'ms':>8} {'floor':>8} {'ratio':>6}  aim")
    for size, (libraries, modules) in SIZES.items():
        with tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder:
            project = Project(Path(holder), libraries, modules)
            project.rabbet("recreate")
            finished = Path(holder) / "finished"
            project.run("cp", "-a", str(project.environment), str(finished))
            files = sum(path.is_file() for path in finished.rglob("*"))
            print(f"{size}: {libraries} libraries, {files} files")
            times = compared(
                lambda project=project: project.rabbet("recreate"),
                lambda project=project, finished=finished: project.run(
                    "cp", "-al", str(finished), str(project.copy)
                ),
                before=project.clear,
            )
            line("warm, from nothing | cp -al", *times, "<= 1.3")
            project.rabbet("recreate")
            times = compared(
                lambda project=project: project.rabbet("recreate"),
                lambda project=project: project.run(sys.executable, "-c", "import argparse"),
            )
            line("nothing to do | import argparse", *times, "<= 2")
    largest = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"{'memory of the largest run, MiB':<58} {largest:>8.0f}")


if __name__ == "__main__":
    main()
