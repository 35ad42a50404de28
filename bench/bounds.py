"""The largest inventories and declarations that are read, each beside its floor.

Run it by `make bench`. Whole commands, in turn with a program that only parses the same files; medians.
"""

import json
import subprocess
import sys
import tempfile
from functools import partial
from pathlib import Path

from bench.in_turn import compared, line
from bench.recreate import PROGRAM

ROUNDS = 3
SIZES = ((1_000, 5), (4_000, 5), (20_000, 4))  # libraries of an inventory, and needs of each
PARSE_JSON = "import json, sys; [json.load(open(one)) for one in sys.argv[1:]]"
PARSE_TOML = "import sys, tomllib; tomllib.load(open(sys.argv[1], 'rb'))"
HEAD = '[project]\nname = "p"\nrequires-python = ">=3.11"\n'


def inventory(libraries: int, needs: int, version: int) -> str:
    """Libraries that need each other, in circles."""
    components = [
        {
            "type": "library",
            "name": f"lib{number}",
            "purl": f"pkg:pypi/lib{number}@{version}",
            "properties": [
                {"name": "rabbet:need", "value": f"lib{(number * 7 + other * 13) % libraries}>=1"}
                for other in range(needs)
            ],
        }
        for number in range(libraries)
    ]
    return json.dumps({"bomFormat": "CycloneDX", "specVersion": "1.6", "components": components})


def declarations() -> dict[str, str]:
    """Declarations that hold nearly as much as they may, by what they hold."""
    each_other = "\n".join(
        f"x{number} = [{', '.join(repr(f'p[x{other}]') for other in range(22))}]" for number in range(22)
    )
    return {
        "19,000 requirements": HEAD + f"dependencies = {[f'lib{number}' for number in range(19_000)]}\n",
        "6,000 groups": HEAD
        + "[dependency-groups]\n"
        + "".join(f"x{number} = ['lib{number}']\n" for number in range(6_000)),
        "22 extras that include each other": HEAD + f"[project.optional-dependencies]\n{each_other}\n",
    }


def main() -> None:
    """Print all figures."""
    print(f"{'':<58} {'ms':>8} {'floor':>8} {'ratio':>6}  aim")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "pyproject.toml").write_text(HEAD)
        for libraries, needs in SIZES:
            for number in (1, 2):
                (folder / f"{number}.json").write_text(inventory(libraries, needs, number))
            told = f"compare, two inventories of {libraries:,} libraries"
            measure(told, folder, ["compare", "1.json", "2.json"], [PARSE_JSON, "1.json", "2.json"])
        for told, text in declarations().items():
            (folder / "pyproject.toml").write_text(text)
            measure(f"declare, {told}", folder, ["declare"], [PARSE_TOML, "pyproject.toml"])


def measure(told: str, folder: Path, command: list[str], floor: list[str]) -> None:
    """Print one figure."""

    def run(words: list[str]) -> None:
        subprocess.run(words, cwd=folder, check=True, capture_output=True)

    works = (partial(run, [PROGRAM, *command]), partial(run, [sys.executable, "-c", *floor]))
    line(told, *compared(*works, rounds=ROUNDS), aim="")


if __name__ == "__main__":
    main()
