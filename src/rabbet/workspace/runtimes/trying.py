"""A runtime that was found in a folder is tried there: it has to run, and to stand alone."""

from collections.abc import Iterable, Mapping
from pathlib import Path

from msgspec.structs import replace

from rabbet.core.model.runtime import Refusal, Runtime
from rabbet.runtimes.contents import Found
from rabbet.runtimes.probe import probe_all, probe_languages
from rabbet.store.blob_cache import BlobCache
from rabbet.work.ask import NoAnswer, ask

__all__ = ["first_that_runs", "tried"]

_WHERE = "import os; print(os.path.dirname(os.path.realpath(os.__file__)))"


def tried(found: Found, tree: Path, memory: Path, environ: Mapping[str, str]) -> Runtime | Refusal:
    """A runtime's answer when it is run, or the reason why it can't be used.

    A Python has to find its own library in the `tree`, and not one that lies where it was built. What is
    answered is remembered nowhere but in the folder `memory`.
    """
    cache = BlobCache(memory)
    if found.language is not None:
        (other,) = probe_languages([(found.language, found.program)], cache, environ)
        return other
    (python,) = probe_all([found.program], cache, environ)
    if isinstance(python, Refusal):
        return python
    try:
        answer = ask([str(found.program), "-E", "-s", "-S", "-c", _WHERE], environ)
        where = Path(answer.text.strip())
    except NoAnswer as error:
        return Refusal(executable=python.executable, reason=str(error))
    if tree.resolve() not in where.parents:
        return Refusal(executable=python.executable, reason=f"it takes its own library from {where}")
    return python


def first_that_runs(
    found: Iterable[Found], tree: Path, memory: Path, environ: Mapping[str, str]
) -> tuple[Found, Runtime] | list[Refusal]:
    """The first of some runtimes that does, else why none of them does."""
    refused = []
    for program in found:
        answer = tried(program, tree, memory, environ)
        if isinstance(answer, Runtime):
            return program, answer
        refused.append(replace(answer, executable=program.program.relative_to(tree.resolve()).as_posix()))
    return refused
