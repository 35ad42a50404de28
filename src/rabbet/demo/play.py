"""The example, step by step: each command is printed, then really run as a program of its own."""

import platform
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from rabbet.demo.advisories import play_rules
from rabbet.demo.anywhere import play_anywhere
from rabbet.demo.by_hand import put_there, site_of, take_out
from rabbet.demo.libraries import RELEASES
from rabbet.demo.machines import play_machines, play_old_project
from rabbet.demo.regression import play_proofs, play_regression
from rabbet.demo.runtimes import LANGUAGE
from rabbet.demo.stage import Stage, actor, prepare, say, show

__all__ = [
    "CHAPTERS",
    "Chapter",
    "add_to_declaration",
    "make_buildable",
    "play",
    "prepare_project",
    "tamper",
    "write_checkout",
]

_LIBRARIES = ("nectarplot>=2", "pollencsv")
_CHART = """\
import pollencsv, nectarplot
season = pollencsv.read("week,gain\\n18,1.2\\n19,3.4\\n20,5.1\\n21,2.6")
print(nectarplot.chart([f"week {week:g}" for week in season["week"]], season["gain"]))
"""
_MODULE = """\
import combframe, nectarplot, pollencsv

def main():
    print(nectarplot.chart(["hive 1", "hive 2"], [4.2, 3.1]))
"""
_BUILD_SYSTEM = """\
[build-system]
requires = ["combwright"]
build-backend = "combwright"
"""
_SCRIPTS = """\
[project.scripts]
hivescale = "hivescale:main"
"""


class Chapter(NamedTuple):
    """A part of the example: what it shows, and how it is played in a project that was begun."""

    shows: str
    play: Callable[[Stage], None]


def play(stage: Stage) -> None:
    """Play the four verbs, and one drift. Raises `EnvironmentFailed` when a step ends otherwise."""
    act = actor(stage)
    say(stage, "Declare what a new project needs, loosely.")
    act("begin", *_begin(stage))
    act("declare", *_LIBRARIES)
    say(stage, "Resolve: the lock names every version, file and hash.")
    act("resolve", "--quiet")
    say(stage, "Recreate: the environment, exactly as locked.")
    act("recreate", "--quiet")
    act("run", "python", "-c", _CHART)
    say(stage, "Drift: somebody works by hand inside .venv: an old combframe, skepio added, tallywax gone.")
    tamper(stage.project)
    act("drift", expected=1)
    act("recreate", "--quiet")
    act("drift")


def prepare_project(stage: Stage) -> None:
    """What `play` leaves, without a word: for a chapter that is played alone."""
    prepare(stage, "begin", *_begin(stage))
    prepare(stage, "declare", *_LIBRARIES)
    prepare(stage, "resolve")
    prepare(stage, "recreate")


def _begin(stage: Stage) -> tuple[str, ...]:
    return ("--name", "hivescale", "--runtime", "python>=3.11", "--source", stage.address)


def _play_reasons(stage: Stage) -> None:
    """Several systems, a conflict, and why something is there."""
    act = actor(stage)
    say(stage, "The team works on three systems: one lock for all of them.")
    act("declare", "--group", "checks", "mitewatch")
    act("declare", "--target", *_platforms())
    act("resolve", "--quiet")
    say(stage, "What only some of them need carries a marker. In pylock.toml:")
    _show_entry(stage, "queenmark")
    say(stage, "A library that can't go with the others: swarmcast needs an old combframe.")
    act("declare", "swarmcast")
    act("resolve", expected=4)
    act("retract", "swarmcast")
    say(stage, "Why is smokerlog there, and what holds broodcount back?")
    act("explain", "--quiet")
    act("explain", "smokerlog", "--quiet")
    act("explain", "broodcount", "--quiet")
    act("recreate", "--quiet")
    act("run", "mitewatch")
    say(stage, "The group of checks is not needed any more.")
    act("retract", "--group", "checks", "--now", "--quiet")


def _play_own_sources(stage: Stage) -> None:
    """The project with a command of its own, a checkout in place of a release, and a library tried."""
    act = actor(stage)
    say(stage, "The project gets a command of its own: with a build system it is installed where it lies.")
    show(stage, make_buildable(stage.project))
    act("resolve", "--quiet")
    act("recreate", "--quiet")
    act("run", "hivescale")
    say(stage, "Is what the code imports declared? combframe only comes along with nectarplot.")
    act("imports", "--quiet", expected=1)
    act("declare", "combframe>=2")
    act("resolve", "--quiet")
    act("imports", "--quiet")
    say(stage, "A checkout of tallywax takes the release's place for a day, and gives it back.")
    write_checkout(stage.project.parent / "tallywax")
    act("declare", "--local", "tallywax", "../tallywax")
    act("resolve", "--quiet")
    act("recreate", "--quiet")
    act("retract", "--local", "tallywax")
    act("resolve", "--quiet")
    act("recreate", "--quiet")
    say(stage, "Try a library for one command: nothing is changed.")
    code = "import foragemap, nectarplot; print(foragemap.__version__)"
    act("run", "--try", "foragemap", "--", "python", "-c", code)
    act("drift")


def write_checkout(folder: Path) -> None:
    """The sources of a release to come."""
    folder.mkdir()
    code = next(release for release in RELEASES if release.name == "tallywax").source().partition("\n")[2]
    (folder / "tallywax.py").write_text(f'__version__ = "1.3.dev1"\n{code}', encoding="utf-8")
    project = '[project]\nname = "tallywax"\nversion = "1.3.dev1"\n'
    (folder / "pyproject.toml").write_text(f"{_BUILD_SYSTEM}\n{project}", encoding="utf-8")


def _play_two_languages(stage: Stage) -> None:
    """A runtime of a second language: declared, locked, obtained, used."""
    act = actor(stage)
    say(
        stage,
        "A program in waggle, a language of our own, reads the bees' dances: tell of it.",
    )
    show(stage, add_to_declaration(stage.project, LANGUAGE))
    act("declare", "--catalogue", f"dances={stage.address.removesuffix('simple/')}runtimes/catalogue.json")
    act("declare", "--runtime", "waggle>=2")
    act("resolve", "--quiet")
    say(stage, "This machine lacks a runtime. The lock says where to get it:")
    act("recreate", "--quiet", expected=7)
    act("recreate", "--obtain", "--quiet")
    act("run", "waggle", "--version")
    act("runtimes", "--only", "waggle", "--quiet")


def _play_taking_along(stage: Stage) -> None:
    """Made again from the store, from the index, and from a folder for a machine without network."""
    act = actor(stage)
    say(stage, "Does the project stand on its files alone? Delete .venv: made again from the store,")
    _delete(stage.project / ".venv")
    act("recreate", "--quiet")
    say(stage, "and, with the store deleted too, from the index.")
    _delete(stage.project / ".venv", Path(stage.variables["RABBET_STORE"]))
    act("recreate", "--quiet")
    act("envs", "--quiet")
    say(
        stage,
        "Where does everything stand? And all that the lock needs, for the weighbridge without network:",
    )
    act("status")
    act("carry", "--to", "../carried", "--quiet")
    act("recreate", "--fresh", "--obtain", "--carried", "../carried", "--quiet")
    act("export", "list")


def add_to_declaration(project: Path, text: str) -> str:
    """Write something at the end of the declaration; gives it back."""
    with (project / "pyproject.toml").open("a", encoding="utf-8") as file:
        file.write(f"\n{text}")
    return text


def make_buildable(project: Path) -> str:
    """Give the project a module, a build system and a command; what was added to the declaration."""
    (project / "hivescale.py").write_text(_MODULE, encoding="utf-8")
    return add_to_declaration(project, f"{_BUILD_SYSTEM}\n{_SCRIPTS}")


def _delete(*folders: Path) -> None:
    for folder in folders:
        shutil.rmtree(folder)


def _platforms() -> list[str]:
    """Three systems, this one among them if a lock can serve it by name."""
    system = {"Linux": "linux", "Darwin": "macos", "Windows": "windows"}.get(platform.system(), "")
    own = f"{system}-{platform.machine().lower().replace('amd64', 'x86_64')}"
    each = ("linux-x86_64", "macos-arm64", "windows-x86_64")
    return [own, *(other for other in each if other.split("-")[0] != system)]


def _show_entry(stage: Stage, name: str) -> None:
    """Print the beginning of a library's entry in the lock."""
    entries = (stage.project / "pylock.toml").read_text(encoding="utf-8").split("\n\n")
    entry = next(text for text in entries if f'name = "{name}"' in text)
    lines = [line for line in entry.splitlines() if not line.startswith(("    ", "]", "wheels"))]
    print("\n" + "\n".join(f"  {line}" for line in lines), file=stage.output, flush=True)


def tamper(project: Path) -> None:
    """Change things in the environment behind Rabbet's back."""
    site = site_of(project / ".venv")
    put_there(site, "combframe", "1.5")
    put_there(site, "skepio", "0.4")
    take_out(site, "tallywax")


CHAPTERS = {
    "conflict": Chapter("several systems, a conflict, and why something is locked", _play_reasons),
    "carry": Chapter("made again from nothing, and without network", _play_taking_along),
    "census": Chapter("three machines that differ, and the whole team's", play_machines),
    "adopt": Chapter("an old project with a list, an environment and code", play_old_project),
    "culprit": Chapter("which of twenty libraries broke a report", play_regression),
    "prove": Chapter("how new it may be, and whether bounds are true", play_proofs),
    "builds": Chapter("the project's own command, a checkout, a library tried", _play_own_sources),
    "rules": Chapter("what a lock may hold: a vulnerability appears", play_rules),
    "anywhere": Chapter("a project by its name, a single script, a command everywhere", play_anywhere),
    "runtimes": Chapter("a second language, locked and obtained", _play_two_languages),
}
"""The parts of the example beside `play`, by the words that play each alone, in the order of `--all`."""
