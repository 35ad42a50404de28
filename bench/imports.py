"""Reading what a tree of 2,000 source files imports, beside compiling the same files.

Run it by `make bench`. Whole commands, in turn; medians are printed. The files are those of this Python's own
library; the project has no libraries, so what `imports` takes is the reading.
"""

import itertools
import os
import shutil
import subprocess
import sys
import sysconfig
import tempfile
from pathlib import Path

from bench.in_turn import compared, line

PROGRAM = str(Path(sys.executable).parent / "rabbet")
FILES = 2000


def main() -> None:
    """Measure."""
    with tempfile.TemporaryDirectory() as name:
        project, variables = Path(name) / "hivescale", {"HOME": name, "PATH": os.environ["PATH"]}
        project.mkdir()
        (project / "pyproject.toml").write_text(
            '[project]\nname = "hivescale"\nrequires-python = ">=3.11"\ndependencies = []\n'
        )
        sources = sorted(Path(sysconfig.get_path("stdlib")).rglob("*.py"))
        taken = (path for path in sources if "site-packages" not in path.parts and "bad" not in path.name)
        for number, path in enumerate(itertools.islice(taken, FILES)):
            folder = project / "hives" / f"part{number % 40}"
            folder.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(path, folder / f"m{number}.py")

        def run(*command: str) -> None:
            subprocess.run(command, cwd=project, env=variables, stdout=subprocess.DEVNULL, check=False)

        run(PROGRAM, "resolve", "--quiet")
        compiling = (sys.executable, "-m", "compileall", "-q", "-f", "hives")
        reading, floor = compared(
            lambda: run(PROGRAM, "imports", "--quiet"), lambda: run(*compiling), rounds=3
        )
        print(f"{'what':<58} {'ms':>8} {'floor':>8} {'ratio':>6}  aim")
        line(f"imports of {FILES} files, beside compiling them", reading, floor, "none is set")


if __name__ == "__main__":
    main()
