"""A script for somebody without network: a folder with it, its lock, its libraries and Rabbet itself.

FOLDER/run.py             starts it: `python3 FOLDER/run.py ARGUMENTS`
FOLDER/report.py          the script
FOLDER/pylock.report.toml its lock
FOLDER/carried/           what `carry` puts together
"""

from importlib.resources import files
from pathlib import Path

from rabbet.core.limits import MOST_BY_HAND, MOST_TEXT_FILE
from rabbet.core.model.options import ResolveOptions
from rabbet.disk.atomic import cannot_write
from rabbet.disk.guarded import GuardedFolder
from rabbet.disk.regular_file import read_regular
from rabbet.errors import WrongUsage
from rabbet.tasks.more.carry import Carried, carry
from rabbet.tasks.resolving.resolve import resolve
from rabbet.workspace.session import Session

__all__ = ["STARTING", "export_script"]

STARTING = "run.py"


def export_script(session: Session, to: Path) -> Carried:
    """Write the folder; the script is resolved first where its lock is not there or out of date.

    Raises what resolving and `carry` raise, `WrongUsage` for a project, `CannotWrite`.
    """
    script = session.project.script
    if script is None:
        raise WrongUsage("only a script can be exported so", remedy=f"rabbet carry --to {to}")
    resolve(session, ResolveOptions())
    carried = carry(session, to / "carried")
    lock, name = session.project.lock_file, script.file.name
    start = files("rabbet.exports").joinpath("start_script.txt").read_text("utf-8")
    contents = {
        name: read_regular(script.file, most=MOST_BY_HAND),
        lock.name: read_regular(lock, most=MOST_TEXT_FILE),
        STARTING: start.replace("Runs SCRIPT", f"Runs {name}").replace("SCRIPT)", f"{name!r})").encode(),
    }
    with cannot_write(to), GuardedFolder.at(to) as folder:
        for place, content in contents.items():
            folder.write(place, content)
    return carried
