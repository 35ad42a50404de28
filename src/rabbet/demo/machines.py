"""Three machines of the team that differ from the lock, and a project that never had one."""

import sys
from importlib.util import find_spec
from pathlib import Path

from msgspec.structs import replace

from rabbet.demo.by_hand import put_there, site_of
from rabbet.demo.stage import Stage, actor, git, prepare, say

__all__ = [
    "drag_along",
    "edit_in_place",
    "fall_behind",
    "old_project",
    "play_machines",
    "play_old_project",
    "share",
]

_REVISIONS = (("--limit", "tallywax<1.2"), ("skepio",), ("--limit", "smokerlog<2"))
_OLD_LIST = """\
# what works
nectarplot==2.0
combframe==2.0
tallywax==1.1
"""
_OLD_CODE = "import nectarplot\n\nprint(nectarplot.chart(['old hive'], [3]))\n"
_OLD_LIBRARIES = (
    ("nectarplot", "2.0"),
    ("combframe", "2.0"),
    ("tallywax", "1.1"),
    ("mitewatch", "0.5"),
    ("broodcount", "1.0"),
    ("smokerlog", "1.1"),
    ("skepio", "0.3"),
    ("hivewire", "2.0"),
)


def play_machines(stage: Stage) -> None:
    """Play all of it, in folders beside the project's. Raises `EnvironmentFailed`."""
    behind, edited, dragged = (
        replace(stage, project=stage.project.parent / name)
        for name in ("extraction-room", "orchard-laptop", "market-stall")
    )
    say(stage, "It works on some machines only. The extraction room has not recreated for three locks:")
    fall_behind(stage, behind.project)
    actor(behind)("drift", expected=1)
    say(stage, "On the orchard's laptop somebody edited a library, and something is read at each start:")
    _set_up(behind, edited)
    edit_in_place(edited.project)
    actor(edited)("drift", expected=1)
    say(stage, "At the market stall a library was installed by hand, and dragged others along:")
    _set_up(behind, dragged)
    drag_along(dragged.project)
    actor(dragged)("drift", expected=1)
    _play_census(stage, behind, edited, dragged)
    actor(dragged)("recreate", "--quiet")
    say(stage, "Another one was wanted: the declaration and the next lock follow what is installed.")
    put_there(site_of(dragged.project / ".venv"), "foragemap", "0.9", installer="handy", asked=True)
    actor(dragged)("drift", "--keep", "foragemap", "--yes")
    actor(dragged)("resolve", "--quiet")


def _play_census(stage: Stage, behind: Stage, edited: Stage, dragged: Stage) -> None:
    """Everybody sends through a remote in a folder, and somebody looks at all of it."""
    office = replace(stage, project=stage.project.parent / "ci-runner")
    share(
        stage,
        [machine.project for machine in (office, behind, edited, dragged)],
        stage.project.parent / "team.git",
    )
    say(stage, "Each machine sends its inventory through the project's git remote:")
    prepare(office, "recreate")
    actor(dragged)("census", "send", "--label", "market-stall", "--remote", "team", "--quiet")
    for machine in (office, behind, edited):
        prepare(machine, "census", "send", "--label", machine.project.name, "--remote", "team")
    say(stage, "and the lead of the team sees which differ, what that breaks, and what to tell them:")
    act = actor(office)
    act("census", "collect", "--remote", "team", "--quiet")
    drawn = ["--picture", "census.png", "--page", "census.html"] if _can_draw() else []
    act("census", "show", *drawn, "--quiet")
    act("census", "check", "--allow", "1", "--quiet", expected=1)


def _can_draw() -> bool:
    """Whether the extra `team` is installed."""
    return all(find_spec(name) is not None for name in ("jinja2", "matplotlib"))


def share(stage: Stage, projects: list[Path], remote: Path) -> None:
    """Give copies of a project a remote, a repository in a folder."""
    git(stage, remote.parent, "init", "--quiet", "--bare", str(remote))
    for project in projects:
        git(stage, project, "remote", "add", "team", str(remote))


def play_old_project(stage: Stage) -> None:
    """Adopt a project beside the example's. Raises `EnvironmentFailed`."""
    stage = replace(stage, project=stage.project.parent / "old-hives")
    say(stage, "An old project has a list, an environment made by hand, and code. Adopt it:")
    stage.project.mkdir()
    old_project(stage.project)
    act = actor(stage)
    act("adopt", "--yes")
    act("declare", "--source", stage.address)
    say(stage, "The first lock changes nothing that works:")
    act("resolve", "--quiet")
    (stage.project / ".venv").rename(stage.project / ".venv-before")
    act("recreate", "--quiet")
    act("imports", "--quiet")


def fall_behind(stage: Stage, folder: Path) -> None:
    """Make a copy of the project with an environment, then three more locks, which only its files follow."""
    for command in (("init", "--quiet"), ("add", "pyproject.toml", "pylock.toml")):
        git(stage, stage.project, *command)
    git(stage, stage.project, "commit", "--quiet", "--message", "the lock")
    office = replace(stage, project=stage.project.parent / "ci-runner")
    for copy in (office.project, folder):
        git(stage, stage.project.parent, "clone", "--quiet", str(stage.project), str(copy))
    prepare(replace(stage, project=folder), "recreate")
    for revision in _REVISIONS:
        prepare(office, "declare", *revision)
        prepare(office, "resolve")
        git(stage, office.project, "commit", "--quiet", "--all", "--message", " ".join(revision))
    git(stage, folder, "pull", "--quiet", str(office.project))


def _set_up(original: Stage, copy: Stage) -> None:
    """Another machine of the team, where all is as it should be."""
    git(copy, copy.project.parent, "clone", "--quiet", str(original.project), str(copy.project))
    prepare(copy, "recreate")


def edit_in_place(project: Path) -> None:
    """Edit a library's module, and put a file there that Python reads whenever it starts."""
    site = site_of(project / ".venv")
    module = site / "combframe.py"
    code = module.read_text(encoding="utf-8")
    module.unlink()
    module.write_text(f"{code}\nprint('buzz')\n", encoding="utf-8")
    (site / "buzz.pth").write_text("import combframe\n", encoding="utf-8")


def drag_along(project: Path) -> None:
    """Install a library by hand that wants an older one of what is locked."""
    site = site_of(project / ".venv")
    put_there(site, "swarmcast", "1.1", installer="handy", asked=True)
    for name, version in (("combframe", "1.5"), ("weighbridge", "1.0")):
        put_there(site, name, version, installer="handy")


def old_project(folder: Path) -> None:
    """Write a project's code, its list of pins, and the environment that it was used in."""
    site = folder / ".venv" / "lib" / f"python3.{sys.version_info.minor}" / "site-packages"
    site.mkdir(parents=True)
    version = ".".join(str(number) for number in sys.version_info[:3])
    (folder / ".venv" / "pyvenv.cfg").write_text(f"version = {version}\n", encoding="utf-8")
    for name, release in _OLD_LIBRARIES:
        put_there(site, name, release, installer="handy")
    (folder / "requirements.txt").write_text(_OLD_LIST, encoding="utf-8")
    (folder / "hives.py").write_text(_OLD_CODE, encoding="utf-8")
    (folder / "test_hives.py").write_text("import skepio\n", encoding="utf-8")
