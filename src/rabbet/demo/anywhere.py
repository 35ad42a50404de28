"""A chapter of the example: work that belongs to no folder."""

from rabbet.demo.stage import Stage, actor, say, show

__all__ = ["play_anywhere"]

_SCRIPT = """\
# /// script
# requires-python = ">=3.11"
# dependencies = ["nectarplot>=2"]
#
# [[tool.rabbet.sources]]
# name = "apiary"
# url = "ADDRESS"
# ///
from sys import argv
import nectarplot
gains = [float(word) for word in argv[1:]]
print(nectarplot.chart([f"week {number}" for number, _ in enumerate(gains, 18)], gains))
"""


def play_anywhere(stage: Stage) -> None:
    """A project by its name, a script that says what it needs, a command for every folder."""
    act = actor(stage)
    say(stage, "Scratch work that belongs to no folder: a project by its name, from wherever you are.")
    act("begin", "--named", "scratch", "--source", stage.address, "pollencsv", "--now", "--yes", "--quiet")
    act("declare", "--in", "scratch", "mitewatch", "--now", "--quiet")
    act("run", "--in", "scratch", "python", "-c", "import pollencsv; print(pollencsv.__version__)")
    say(stage, "A script for a friend: it says itself what it needs, here in season.py.")
    text = _SCRIPT.replace("ADDRESS", stage.address)
    (stage.project / "season.py").write_text(text, encoding="utf-8")
    show(stage, text)
    act("run", "season.py", "1.2", "3.4", "5.1")
    say(stage, "To give the friend the same versions, lock them: the lock lies beside the script.")
    act("resolve", "--in", "season.py", "--quiet")
    say(stage, "A command that is there in every folder, lent from an environment:")
    act("lend", "--in", "scratch", "mitewatch", "--to", "../programs")
    act("lend")
    act("envs", "--quiet")
    say(stage, "Done with it: launchers and project go.")
    act("lend", "--back", "mitewatch")
    act("envs", "discard", "scratch", "--yes")
