"""Call one hook of a build back end (PEP 517, 660): `python hook_caller.py REQUEST ANSWER`, a whole program.

The interpreter that a library is built for runs it, any from 3.8 on, so it imports nothing of Rabbet. Both
arguments are JSON files: what to call, and what came of it. A hook that raises leaves no answer.
"""

from __future__ import annotations

import importlib
import json
import os
import sys
from pathlib import Path


def main(request_file: str, answer_file: str) -> None:
    """Call what is asked for, and write down what it gave back."""
    request = json.loads(Path(request_file).read_text(encoding="utf-8"))
    answer: dict[str, object] = {}
    try:
        backend = _backend(request["backend"], request["backend_path"])
    except Missing as error:
        answer["missing"] = str(error)
    else:
        hook = getattr(backend, request["hook"], None)
        if hook is None:
            answer["lacking"] = True
        else:
            answer["value"] = hook(*request["arguments"])
    Path(answer_file).write_text(json.dumps(answer), encoding="utf-8")


class Missing(Exception):
    """There is no such back end."""


def _backend(name: str, folders: list[str]) -> object:
    """The object of this name; one that comes with the sources has to be in its folders (PEP 517)."""
    sys.path[:0] = folders
    module_name, _, path = name.partition(":")
    try:
        module = importlib.import_module(module_name)
    except ModuleNotFoundError as error:
        if error.name is None or not (module_name + ".").startswith(error.name + "."):
            raise  # the back end is there, and needs what is not
        raise Missing(f"no module named {error.name}") from error
    found = os.path.realpath(getattr(module, "__file__", None) or "")
    if folders and not any(found.startswith(os.path.realpath(folder) + os.sep) for folder in folders):
        raise Missing(f"{module_name} is not in the backend-path")
    found_object: object = module
    for part in filter(None, path.split(".")):
        if not hasattr(found_object, part):
            raise Missing(f"{module_name} has no {path}")
        found_object = getattr(found_object, part)
    return found_object


if __name__ == "__main__":
    main(*sys.argv[1:])
