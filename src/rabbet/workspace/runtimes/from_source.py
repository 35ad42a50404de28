"""A runtime built from source by the steps of a catalogue, at the place where it stays."""

import hashlib
import json
import os
import shutil
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

from msgspec.structs import replace

from rabbet.archives.unpack import unpack_archive
from rabbet.core.model.runtime import Refusal, RuntimeArchive, RuntimeOffer
from rabbet.core.model.target import Target
from rabbet.core.progress import Observer
from rabbet.disk.atomic import cannot_write
from rabbet.disk.folder import make_folder
from rabbet.errors import BuildFailed
from rabbet.runtimes.contents import Found
from rabbet.store.obtained import Obtained, ObtainedRuntimes, receive_archive
from rabbet.work.supervised import build_environ, run_supervised
from rabbet.workspace.machine import Machine
from rabbet.workspace.runtimes.languages import languages_for
from rabbet.workspace.runtimes.trying import tried

__all__ = ["build_from_source"]

_LINES = 8  # of its output that a failure shows


def build_from_source(
    offer: RuntimeOffer,
    archive: RuntimeArchive,
    content: Callable[[], Iterable[bytes]],
    target: Target,
    machine: Machine,
    observer: Observer,
) -> Obtained:
    """Build a runtime for this machine, unless that was done before by the same recipe.

    It counts once it runs and tells the version that was offered. Raises what `content` raises,
    `IntegrityFailed`, `BuildFailed`, `CannotWrite`.
    """
    recipe = replace(archive, digest=_recipe(archive, target))
    store = ObtainedRuntimes(machine.store_folder)

    def make(prefix: Path) -> None:
        with machine.store.scratch() as scratch:
            receive_archive(archive, content(), scratch / archive.filename)
            observer.stage(f"unpacking {archive.filename}")
            with cannot_write(scratch):
                unpack_archive(scratch / archive.filename, scratch / "sources", writable=True)
                for name in ("home", "tmp"):
                    (scratch / name).mkdir()
            _run_steps(offer, archive, prefix, scratch, machine, observer)
            _check(offer, archive, prefix, scratch, machine)

    return store.make(offer, recipe, make)


def _recipe(archive: RuntimeArchive, target: Target) -> str:
    """The digest of what a build follows from: the sources, the steps, and the machine's kind."""
    facts = [archive.algorithm, archive.digest, archive.program, archive.steps, target.platform, target.libc]
    return hashlib.sha256(json.dumps(facts).encode()).hexdigest()


def _run_steps(
    offer: RuntimeOffer,
    archive: RuntimeArchive,
    prefix: Path,
    scratch: Path,
    machine: Machine,
    observer: Observer,
) -> None:
    """Carry out the steps in the source tree. Raises `BuildFailed`, `CannotWrite`."""
    what, sources = f"{offer.language} {offer.version}", _top(scratch / "sources")
    environ = build_environ(machine.helpers_environ()["PATH"], scratch)
    logs = machine.store.build_logs
    with cannot_write(logs):
        make_folder(logs)
    log = logs / f"{offer.language}-{offer.version}-{os.urandom(4).hex()}.log"
    about = f", of about {archive.minutes} min in all" if archive.minutes else ""
    observer.stage(f"building {what}", len(archive.steps))
    for step in archive.steps:
        command = [_filled(word, prefix) for word in step]
        command[0] = shutil.which(command[0], path=environ["PATH"]) or command[0]

        def waiting(seconds: int, name: str = step[0]) -> None:
            observer.waiting(f"{name}, {seconds} s{about}")

        ending = run_supervised(
            command, environ, sources, log=log, seconds=machine.seconds_for_builds(), waiting=waiting
        )
        if ending.code != 0:
            because = [f"{' '.join(step)}: {ending.reason}", *ending.last_lines(_LINES)]
            raise _failed(what, archive, because, f"its whole output is in {log}")
        observer.step(step[0])
    log.unlink(missing_ok=True)


def _top(tree: Path) -> Path:
    """The source tree itself: mostly an archive holds one folder."""
    inside = list(tree.iterdir())
    return inside[0] if len(inside) == 1 and inside[0].is_dir() else tree


def _filled(word: str, prefix: Path) -> str:
    return word.replace("{prefix}", str(prefix)).replace("{jobs}", str(os.cpu_count() or 1))


def _check(
    offer: RuntimeOffer, archive: RuntimeArchive, prefix: Path, scratch: Path, machine: Machine
) -> None:
    """Raise `BuildFailed` unless the program is there, runs, and tells the version that was offered."""
    what, program = f"{offer.language} {offer.version}", prefix / archive.program
    if not program.is_file():
        raise _failed(what, archive, [f"its steps installed no {archive.program}"])
    found = Found(
        language=languages_for(None, machine).get(offer.language),
        program=program.resolve(),
        prefix=prefix,
        platforms=(),
    )
    answer = tried(found, prefix, scratch / "answers", machine.helpers_environ())
    if isinstance(answer, Refusal):
        raise _failed(what, archive, [f"{archive.program}: {answer.reason}"])
    if answer.version != offer.version:
        raise _failed(what, archive, [f"what was built is {answer}"])


def _failed(what: str, archive: RuntimeArchive, because: Sequence[str], output: str = "") -> BuildFailed:
    needs = f"its catalogue says that it needs: {', '.join(archive.system)}" if archive.system else ""
    return BuildFailed(
        f"{what} can't be built from source", because=because, note="\n".join(filter(None, (output, needs)))
    )
