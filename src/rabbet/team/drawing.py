"""The picture and the page of a sheet, written into files."""

from pathlib import Path

from rabbet.disk.atomic import write_bytes, write_text
from rabbet.team.extra import needing_extra
from rabbet.team.figure import drawn
from rabbet.team.sheet import Sheet
from rabbet.team.sheet import page as rendered

__all__ = ["write_drawn"]


def write_drawn(sheet: Sheet, project: Path, *, picture: Path | None, page: Path | None) -> tuple[Path, ...]:
    """Write those of them that are asked for; which files these are.

    Below the project's folder no link is followed. Raises `EnvironmentFailed` where what draws them is not
    installed, `CannotWrite`.
    """
    if picture is not None:
        with needing_extra("a picture"):
            write_bytes(picture, drawn(sheet), below=project)
    if page is not None:
        with needing_extra("a page"):
            write_text(page, rendered(sheet), below=project)
    return tuple(path for path in (picture, page) if path is not None)
