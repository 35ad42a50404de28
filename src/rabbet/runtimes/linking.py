"""An environment's links to the programs of another language's runtime, and its variables."""

import hashlib
import os
import shutil
import tempfile
from pathlib import Path

from rabbet.core.model.language import Language
from rabbet.core.model.runtime import LinkedRuntime, Runtime
from rabbet.disk.atomic import cannot_write
from rabbet.disk.folder import make_folder

__all__ = ["home_of", "link_folder", "linked_runtime"]

_SHARED = ("", "usr", "local", ".local")  # names of folders that many programs are installed into
_MOST = 200  # programs of a runtime: a JDK has 30


def home_of(executable: str) -> str:
    """The folder that a runtime was installed into, by its main program."""
    folder = Path(executable).parent
    return str(folder.parent if folder.name in ("bin", "sbin") else folder)


def linked_runtime(runtime: Runtime, language: Language) -> LinkedRuntime:
    """The programs of a runtime: those of its language, and where it has a folder of its own all in it."""
    folder, home = Path(runtime.executable).parent, home_of(runtime.executable)
    names = [*language.programs[1:]]
    if Path(home).name not in _SHARED:
        names += sorted(os.listdir(folder))[:_MOST]  # noqa: PTH208 - names are all that is needed
    links = {language.programs[0]: runtime.executable}
    for name in names:
        path = folder / name
        if name.isprintable() and path.is_file() and os.access(path, os.X_OK):
            links.setdefault(name, str(path))
    return LinkedRuntime(runtime=runtime, links=links, variables=language.variables_of(home))


def link_folder(linked: LinkedRuntime, holder: Path) -> Path:
    """A folder with links to a runtime's programs and to nothing else, made in `holder` if need be.

    Raises `CannotWrite`.
    """
    text = "\n".join(f"{name}\t{target}" for name, target in sorted(linked.links.items()))
    folder = holder / hashlib.sha256(text.encode(errors="surrogateescape")).hexdigest()[:16]
    if folder.is_dir():
        return folder
    with cannot_write(holder):
        make_folder(holder)
        partial = Path(tempfile.mkdtemp(dir=holder))
        try:
            for name, target in linked.links.items():
                (partial / name).symlink_to(target)
            if not folder.is_dir():
                partial.rename(folder)
        finally:
            shutil.rmtree(partial, ignore_errors=True)
    return folder
