"""Installing by hand, as people do with some other installer, behind Rabbet's back."""

import io
import shutil
import zipfile
from pathlib import Path

from rabbet.demo.files import build_file
from rabbet.demo.libraries import RELEASES
from rabbet.python.formats.record import RecordRow, read_record, write_record

__all__ = ["put_there", "site_of", "take_out"]


def site_of(environment: Path) -> Path:
    """The folder of an environment that libraries are imported from."""
    return next(environment.glob("lib/*/site-packages"))


def put_there(site: Path, name: str, version: str, *, installer: str = "", asked: bool = False) -> None:
    """Put a made-up release in the place of what is there; its notes name the installer, if it has one."""
    take_out(site, name)
    release = next(made_up for made_up in RELEASES if (made_up.name, made_up.version) == (name, version))
    with zipfile.ZipFile(io.BytesIO(build_file(release))) as archive:
        archive.extractall(site)
    info = next(site.glob(f"{name}-*.dist-info"))
    notes = ({"INSTALLER": f"{installer}\n"} if installer else {}) | ({"REQUESTED": ""} if asked else {})
    for file, text in notes.items():
        (info / file).write_text(text, encoding="utf-8")
    rows = read_record((info / "RECORD").read_text(encoding="utf-8"))
    added = (RecordRow(f"{info.name}/{file}") for file in notes)
    (info / "RECORD").write_text(write_record([*rows, *added]), encoding="utf-8")


def take_out(site: Path, name: str) -> None:
    """Delete a library's module and its notes; its commands stay."""
    for path in (site / f"{name}.py", *site.glob(f"{name}-*.dist-info")):
        if path.is_dir():
            shutil.rmtree(path)
        else:
            path.unlink(missing_ok=True)
