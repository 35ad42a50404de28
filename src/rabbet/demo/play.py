"""The example, step by step: each command is printed, then really run as a program of its own."""

import platform
import shutil
import subprocess
import sys
import zipfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TextIO

from rabbet.core.shell import quoted
from rabbet.demo.files import build_file
from rabbet.demo.libraries import RELEASES
from rabbet.demo.runtimes import LANGUAGE
from rabbet.errors import EnvironmentFailed

__all__ = ["Stage", "play", "tamper"]

_CHART = """\
import pollencsv, nectarplot
season = pollencsv.read("week,gain\\n18,1.2\\n19,3.4\\n20,5.1\\n21,2.6")
print(nectarplot.chart([f"week {week:g}" for week in season["week"]], season["gain"]))
"""


@dataclass(frozen=True, slots=True, kw_only=True)
class Stage:
    """Where the example is played: the project's folder, the index's address, variables, the output."""

    project: Path
    address: str
    variables: Mapping[str, str]
    output: TextIO


def play(stage: Stage) -> None:
    """Play all steps. Raises `EnvironmentFailed` when one does not end as it should."""
    act = _actor(stage)
    _say(stage, "A new project: declare what it needs, loosely.")
    act("begin", "--name", "hivescale", "--runtime", "python>=3.11", "--source", stage.address)
    act("declare", "nectarplot>=2", "pollencsv")
    act("declare", "--group", "checks", "mitewatch")
    _say(stage, "The team works on three systems: one lock for all of them.")
    act("declare", "--target", *_platforms())
    act("resolve")
    _say(stage, "What only some of them need carries a marker. In pylock.toml:")
    _show_entry(stage, "queenmark")
    _say(stage, "Make the environment.")
    act("explain", "--quiet")
    act("recreate")
    act("run", "python", "-c", _CHART)
    act("run", "mitewatch")
    act("drift")
    _say(stage, "Somebody works by hand inside .venv: an old combframe, skepio added, tallywax gone.")
    tamper(stage.project)
    act("drift", expected=1)
    act("recreate")
    act("drift")
    _say(stage, "Does the project stand on its files alone? Delete .venv: made again from the store,")
    _delete(stage.project / ".venv")
    act("recreate")
    _say(stage, "and, with the store deleted too, from the index.")
    _delete(stage.project / ".venv", Path(stage.variables["RABBET_STORE"]))
    act("recreate")
    act("envs", "--quiet")
    _say(stage, "A library that can't go with the others: swarmcast needs an old combframe.")
    act("declare", "swarmcast")
    act("resolve", expected=4)
    act("retract", "swarmcast")
    _say(stage, "Why is smokerlog there, and what holds broodcount back?")
    act("explain", "smokerlog", "--quiet")
    act("explain", "broodcount", "--quiet")
    _say(stage, "pollencsv is not needed any more.")
    act("retract", "pollencsv")
    act("resolve")
    act("recreate")
    act("drift")
    _play_two_languages(stage, act)


def _play_two_languages(stage: Stage, act: Callable[..., None]) -> None:
    """A runtime of a second language: declared, locked, obtained, used."""
    _say(
        stage,
        "A program in waggle, a language of our own, reads the bees' dances: tell of it.",
    )
    _tell_of_language(stage)
    act("declare", "--catalogue", f"dances={stage.address.removesuffix('simple/')}runtimes/catalogue.json")
    act("declare", "--runtime", "waggle>=2")
    act("resolve", "--quiet")
    _say(stage, "The lock says where its runtime can be had. This machine lacks it:")
    act("recreate", "--quiet", expected=7)
    act("recreate", "--obtain", "--quiet")
    act("run", "waggle", "--version")
    act("runtimes", "--only", "waggle", "--quiet")


def _tell_of_language(stage: Stage) -> None:
    """Add the made-up language to the declaration, and show what was added."""
    with (stage.project / "pyproject.toml").open("a", encoding="utf-8") as file:
        file.write(f"\n{LANGUAGE}")
    print(
        "\n" + "".join(f"  {line}\n" for line in LANGUAGE.splitlines()), end="", file=stage.output, flush=True
    )


def _say(stage: Stage, text: str) -> None:
    print(f"\n# {text}", file=stage.output, flush=True)


def _delete(*folders: Path) -> None:
    for folder in folders:
        shutil.rmtree(folder)


def _platforms() -> list[str]:
    """Three systems, this one among them if a lock can serve it by name."""
    system = {"Linux": "linux", "Darwin": "macos", "Windows": "windows"}.get(platform.system(), "")
    own = f"{system}-{platform.machine().lower().replace('amd64', 'x86_64')}"
    others = [one for one in ("linux-x86_64", "macos-arm64", "windows-x86_64") if one.split("-")[0] != system]
    return [own, *others]


def _show_entry(stage: Stage, name: str) -> None:
    """Print the beginning of a library's entry in the lock."""
    entries = (stage.project / "pylock.toml").read_text(encoding="utf-8").split("\n\n")
    entry = next(one for one in entries if f'name = "{name}"' in one)
    lines = [line for line in entry.splitlines() if not line.startswith(("    ", "]", "wheels"))]
    print("\n" + "\n".join(f"  {line}" for line in lines), file=stage.output, flush=True)


def _actor(stage: Stage) -> Callable[..., None]:
    def act(*arguments: str, expected: int = 0) -> None:
        shown = " ".join(_shown(argument) for argument in arguments)
        print(f"\n$ rabbet {shown}", file=stage.output, flush=True)
        code = _run(arguments, stage)
        if code != expected:
            raise EnvironmentFailed(
                f"the example broke off: rabbet {arguments[0]} ended with {code} in place of {expected}"
            )

    return act


def _run(arguments: Sequence[str], stage: Stage) -> int:
    command = [sys.executable, "-m", "rabbet", *arguments]
    done = subprocess.run(
        command, cwd=stage.project, env=stage.variables, stdin=subprocess.DEVNULL, check=False
    )
    return done.returncode


def _shown(argument: str) -> str:
    """As one would type it; a program of several lines is shown in short."""
    return quoted(argument) if "\n" not in argument else "'import pollencsv, nectarplot …'"


def tamper(project: Path) -> None:
    """Change things in the environment behind Rabbet's back."""
    site = next((project / ".venv" / "lib").glob("*/site-packages"))
    for name in ("combframe", "tallywax"):
        (site / f"{name}.py").unlink()
        for folder in site.glob(f"{name}-*.dist-info"):
            shutil.rmtree(folder)
    for name, version in (("combframe", "1.5"), ("skepio", "0.4")):
        release = next(one for one in RELEASES if (one.name, one.version) == (name, version))
        wheel = project.parent / release.filename
        wheel.write_bytes(build_file(release))
        with zipfile.ZipFile(wheel) as archive:
            archive.extractall(site)
        wheel.unlink()
