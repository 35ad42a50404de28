"""An environment laid upon another one: it finds what that holds behind what it holds itself."""

import os
from pathlib import Path

from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.layout import PATH_FILE, is_reserved
from rabbet.python.environment.put.scripts import is_command_script

__all__ = ["lay_upon", "lead_to"]

_HEAD = 64  # bytes that tell whether a file is a command of a library


def lay_upon(guarded: GuardedEnvironment, base: Path) -> None:
    """Let an environment use all that another one with the same runtime holds; that one is not touched.

    Its libraries are imported behind the environment's own. Its commands start the environment's interpreter,
    and what else it holds, such as `share`, is linked. Raises `OSError`.
    """
    layout = guarded.layout
    place = str(base / layout.site_packages)
    guarded.put_file(
        f"{layout.site_packages}/{PATH_FILE}", f"import site; site.addsitedir({place!r})\n".encode()
    )
    for name in os.listdir(base / "bin"):  # noqa: PTH208 - names are wanted
        _command(guarded, base, name)
    for name in os.listdir(base):  # noqa: PTH208 - as above
        if name not in ("bin", "lib") and not is_reserved(name):
            _linked(guarded, name, base / name)


def lead_to(guarded: GuardedEnvironment, folder: Path) -> None:
    """Let an environment find the modules that lie in a folder somewhere else. Raises `OSError`."""
    guarded.put_file(f"{guarded.layout.site_packages}/{PATH_FILE}", f"{folder}\n".encode())


def _command(guarded: GuardedEnvironment, base: Path, name: str) -> None:
    """A command: a library's own small program is copied, for it looks for the interpreter beside itself."""
    place, path = f"bin/{name}", base / "bin" / name
    if is_reserved(place) or path.is_dir():
        return
    if not path.is_symlink():
        with path.open("rb") as file:
            head = file.read(_HEAD)
            if is_command_script(head):
                if not os.path.lexists(guarded.layout.root / place):
                    guarded.put_file(place, head + file.read(), executable=True)
                return
    _linked(guarded, place, path)


def _linked(guarded: GuardedEnvironment, place: str, target: Path) -> None:
    if not os.path.lexists(guarded.layout.root / place):
        guarded.link(place, str(target))
