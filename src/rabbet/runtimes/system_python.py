"""The system's own Python, gathered into a folder of its own.

Its prefix, mostly `/usr`, holds much besides: what belongs to it is what it tells itself.
"""

import json
import shutil
from collections.abc import Mapping
from pathlib import Path

from rabbet.core.limits import UNREADABLE
from rabbet.disk.atomic import cannot_write
from rabbet.errors import NoRuntime
from rabbet.work.ask import NoAnswer, ask

__all__ = ["gather_system_python"]

_QUESTION = """
import json, sys, sysconfig
paths, told = sysconfig.get_paths(), sysconfig.get_config_var
library = told("Py_ENABLE_SHARED") and told("LDLIBRARY")
print(json.dumps({
    "name": "python%d.%d" % sys.version_info[:2],
    "stdlib": paths["stdlib"],
    "include": paths["include"],
    "library": library and "%s/%s" % (told("LIBDIR"), library),
}))
"""
# Nobody's environment imports these; `config-*` holds what links Python into other programs.
_LEFT_OUT = ("__pycache__", "site-packages", "dist-packages", "test", "tests", "config-*")


def gather_system_python(executable: Path, into: Path, environ: Mapping[str, str]) -> Path:
    """Copy an interpreter and its own library into a new folder, and give the program there.

    Links to other places of the system become what they lead to; those that lead nowhere are left out.
    Raises `NoRuntime` for what is no Python, `CannotWrite`.
    """
    try:
        answer = ask([str(executable), "-E", "-s", "-S", "-c", _QUESTION], environ)
        told = json.loads(answer.out)
        name, stdlib, include = str(told["name"]), Path(told["stdlib"]), Path(told["include"])
        library = Path(told["library"]) if told["library"] else None
    except (NoAnswer, KeyError, TypeError, *UNREADABLE) as error:
        raise NoRuntime(
            f"{executable} lies among other programs, and does not tell which files belong to it",
            because=[str(error) or "it answers something else"],
            note="a runtime that lies in a folder of its own can be packed",
            remedy="rabbet runtimes",
        ) from error
    with cannot_write(into):
        (into / "bin").mkdir(parents=True)
        program = into / "bin" / name
        shutil.copyfile(executable, program)
        program.chmod(0o755)
        for link in ("python3", "python"):
            (into / "bin" / link).symlink_to(name)
        _copy(stdlib, into / "lib" / name)
        if include.is_dir():
            _copy(include, into / "include" / name)
        if library is not None and library.is_file():
            shutil.copyfile(library, into / "lib" / library.resolve().name)
    return program


def _copy(folder: Path, into: Path) -> None:
    ignored = shutil.ignore_patterns(*_LEFT_OUT)
    shutil.copytree(folder, into, ignore=ignored, ignore_dangling_symlinks=True)
