"""The example, step by step: each command is printed, then really run as a program of its own."""

import platform
import shutil
from pathlib import Path

from rabbet.demo.by_hand import put_there, site_of, take_out
from rabbet.demo.libraries import RELEASES
from rabbet.demo.machines import play_machines
from rabbet.demo.regression import play_regression
from rabbet.demo.runtimes import LANGUAGE
from rabbet.demo.stage import Act, Stage, actor, say, show

__all__ = ["add_to_declaration", "make_buildable", "play", "tamper", "write_checkout"]

_CHART = """\
import pollencsv, nectarplot
season = pollencsv.read("week,gain\\n18,1.2\\n19,3.4\\n20,5.1\\n21,2.6")
print(nectarplot.chart([f"week {week:g}" for week in season["week"]], season["gain"]))
"""
_MODULE = """\
import combframe, nectarplot

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


def play(stage: Stage) -> None:
    """Play all steps. Raises `EnvironmentFailed` when one does not end as it should."""
    act = actor(stage)
    say(stage, "A new project: declare what it needs, loosely.")
    act("begin", "--name", "hivescale", "--runtime", "python>=3.11", "--source", stage.address)
    act("declare", "nectarplot>=2", "pollencsv")
    act("declare", "--group", "checks", "mitewatch")
    say(stage, "The team works on three systems: one lock for all of them.")
    act("declare", "--target", *_platforms())
    act("resolve")
    say(stage, "What only some of them need carries a marker. In pylock.toml:")
    _show_entry(stage, "queenmark")
    say(stage, "Make the environment.")
    act("explain", "--quiet")
    act("recreate")
    act("run", "python", "-c", _CHART)
    act("run", "mitewatch")
    act("drift")
    say(stage, "Somebody works by hand inside .venv: an old combframe, skepio added, tallywax gone.")
    tamper(stage.project)
    act("drift", expected=1)
    act("recreate")
    act("drift")
    say(stage, "Does the project stand on its files alone? Delete .venv: made again from the store,")
    _delete(stage.project / ".venv")
    act("recreate")
    say(stage, "and, with the store deleted too, from the index.")
    _delete(stage.project / ".venv", Path(stage.variables["RABBET_STORE"]))
    act("recreate")
    act("envs", "--quiet")
    say(stage, "A library that can't go with the others: swarmcast needs an old combframe.")
    act("declare", "swarmcast")
    act("resolve", expected=4)
    act("retract", "swarmcast")
    say(stage, "Why is smokerlog there, and what holds broodcount back?")
    act("explain", "smokerlog", "--quiet")
    act("explain", "broodcount", "--quiet")
    say(stage, "pollencsv is not needed any more.")
    act("retract", "pollencsv")
    act("resolve")
    act("recreate")
    act("drift")
    play_machines(stage)
    play_regression(stage)
    _play_own_sources(stage, act)
    _play_two_languages(stage, act)
    _play_taking_along(stage, act)


def _play_own_sources(stage: Stage, act: Act) -> None:
    """The project with a command of its own, a checkout in place of a release, and a library tried."""
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


def _play_two_languages(stage: Stage, act: Act) -> None:
    """A runtime of a second language: declared, locked, obtained, used."""
    say(
        stage,
        "A program in waggle, a language of our own, reads the bees' dances: tell of it.",
    )
    show(stage, add_to_declaration(stage.project, LANGUAGE))
    act("declare", "--catalogue", f"dances={stage.address.removesuffix('simple/')}runtimes/catalogue.json")
    act("declare", "--runtime", "waggle>=2")
    act("resolve", "--quiet")
    say(stage, "The lock says where its runtime can be had. This machine lacks it:")
    act("recreate", "--quiet", expected=7)
    act("recreate", "--obtain", "--quiet")
    act("run", "waggle", "--version")
    act("runtimes", "--only", "waggle", "--quiet")


def _play_taking_along(stage: Stage, act: Act) -> None:
    """Where everything stands in the end, and all of it in a folder for a machine without network."""
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
    others = [
        platform
        for platform in ("linux-x86_64", "macos-arm64", "windows-x86_64")
        if platform.split("-")[0] != system
    ]
    return [own, *others]


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
