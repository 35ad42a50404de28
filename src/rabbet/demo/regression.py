"""A season's report that a dependency of a dependency breaks, among some twenty libraries that changed."""

from collections.abc import Iterator

from msgspec.structs import replace

from rabbet.demo.libraries import MadeUp
from rabbet.demo.stage import Stage, actor, git, prepare, say, show

__all__ = ["SEASON", "play_proofs", "play_regression", "season_of_changes", "season_that_works"]

_REPORT = """\
import seasonreport

try:
    print(seasonreport.report([4, 2, 5]))
except TypeError as error:
    raise SystemExit(f"report.py: {error}")
"""
# Who needs whom: each has two releases, and the newer ones come with each other.
_FAMILY = {
    "seasonreport": ("honeypress", "hiveatlas", "droneroll", "queenline", "smokerlog"),
    "honeypress": ("combweight", "nectarrun", "combframe"),
    "combweight": ("frametally", "combscale", "tallywax"),
    "frametally": ("sealedbrood",),
    "hiveatlas": ("scoutmap", "hiveclimate", "hivewire"),
    "hiveclimate": ("propolisfilter>={version}",),
    "droneroll": ("beebread", "waxlight"),
    "queenline": ("smokepuff",),
}
_CODE = {
    "seasonreport": "from honeypress import press\n\n\ndef report(frames):\n"
    "    return f'{press(frames)} combs of honey'\n",
    "honeypress": "from combweight import weigh\n\n\ndef press(frames):\n    return weigh(frames) * 2\n",
    "combweight": "from frametally import tally\n\n\ndef weigh(frames):\n    return tally(frames)\n",
    "frametally": "from sealedbrood import without_brood\n\n\ndef tally(frames):\n"
    "    return sum(without_brood(frame) for frame in frames)\n",
}
_SEALED = "def without_brood(frame):\n    return frame - 1{comma}\n"


def _season() -> Iterator[MadeUp]:
    """All releases of the family."""
    names = {*_FAMILY, *(need.partition(">")[0] for needs in _FAMILY.values() for need in needs)}
    for name in sorted(names - {"combframe", "hivewire", "smokerlog", "tallywax"}):
        for version in ("1.3", "1.4"):
            code = _CODE.get(name, "x = 1\n")
            if name == "sealedbrood":  # a comma too many makes a pair of a number
                code = _SEALED.format(comma="," if version == "1.4" else "")
            needs = tuple(need.format(version=version) for need in _FAMILY.get(name, ()))
            news = f"https://apiary.example/{name}/news"
            yield MadeUp(name=name, version=version, needs=needs, code=code, news=news)


SEASON = tuple(_season())


def season_of_changes(stage: Stage) -> None:
    """Make the project: a lock with which its report works, in git, and a newer one."""
    season_that_works(stage)
    prepare(stage, "resolve", "--raise-all")


def season_that_works(stage: Stage) -> None:
    """Make the project: an old lock with which its report works, in git; nothing keeps newer ones out."""
    stage.project.mkdir()
    (stage.project / "report.py").write_text(_REPORT, encoding="utf-8")
    prepare(stage, "begin", "--name", "season", "--runtime", "python>=3.11", "--source", stage.address)
    prepare(stage, "declare", "seasonreport")
    bounds = [f"{release.name}<1.4" for release in SEASON if release.version == "1.4"]
    bounds += ["combframe<2", "tallywax<1.2", "hivewire<2.1", "smokerlog<2"]
    prepare(stage, "declare", "--limit", *bounds)
    prepare(stage, "resolve")
    git(stage, stage.project, "init", "--quiet")
    git(stage, stage.project, "add", "pylock.toml", "pyproject.toml", "report.py")
    git(stage, stage.project, "commit", "--quiet", "--message", "The report works")
    prepare(stage, "retract", "--limit", *(bound.partition("<")[0] for bound in bounds))
    prepare(stage, "resolve")


def play_regression(stage: Stage) -> None:
    """Play it in a folder beside the project's. Raises `EnvironmentFailed`."""
    stage = replace(stage, project=stage.project.parent / "season")
    season_of_changes(stage)
    act = actor(stage)
    say(stage, "A month later, nobody changed anything on purpose, and the season's report is broken:")
    show(stage, _REPORT)
    act("recreate", "--quiet")
    act("run", "python", "report.py", expected=1)
    say(stage, "Some twenty libraries moved since the lock in git. Which of them is it?")
    act("culprit", "--good", "git:HEAD", "--", "python", "report.py")
    say(stage, "Do what it says, and all others may stay as new as they are:")
    act("declare", "--limit", "sealedbrood<1.4")
    act("resolve", "--quiet")
    act("recreate", "--quiet")
    act("run", "python", "report.py")


def play_proofs(stage: Stage) -> None:
    """Raise last season's lock as far as the report works, in a folder beside the project's."""
    stage = replace(stage, project=stage.project.parent / "harvest")
    season_that_works(stage)
    act = actor(stage)
    say(stage, "Last season's lock works, and all of it is old. How new may it be?")
    act("prove", "--newest", "--yes", "--", "python", "report.py", expected=1)
    say(stage, "Everything is raised but the release that breaks the report. Kept out for good:")
    act("declare", "--limit", "sealedbrood<1.4")
    act("resolve", "--quiet")
    say(stage, "Are the declared bounds true?")
    act("prove", "--bounds", "--", "python", "report.py")
    say(stage, "Does it work with all that is promised?")
    act("prove", "--everywhere", "--", "python", "report.py")
