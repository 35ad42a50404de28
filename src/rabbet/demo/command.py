"""Play an example.

Without a chapter it plays the four verbs and one drift. It needs no network: a stand-in index with made-up
libraries serves on the loopback address. The example is played in a temporary folder with a store of its own.
"""

import shutil
import tempfile
from argparse import ArgumentParser, Namespace
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from rabbet.cli.context import Context
from rabbet.cli.options import a_port
from rabbet.core.shell import quoted
from rabbet.demo.libraries import RELEASES
from rabbet.demo.play import CHAPTERS, play, prepare_project
from rabbet.demo.regression import SEASON
from rabbet.demo.runtimes import shelf
from rabbet.demo.stage import Stage
from rabbet.demo.stand_in import StandIn
from rabbet.disk.atomic import cannot_write
from rabbet.errors import CannotWrite, EnvironmentFailed, ExitCode

_WAGGLES = ("1.4", "2.0", "2.1")  # the runtimes that the index serves as well
_USUAL_PORT = 8437


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "chapter", nargs="?", choices=tuple(CHAPTERS), help="play only this part of the example"
    )
    parser.add_argument("--all", action="store_true", help="play everything, one chapter after the other")
    parser.add_argument("--keep", metavar="FOLDER", type=Path, help="play in this new folder, and keep it")
    parser.add_argument("--serve", action="store_true", help="only serve the index, until Ctrl-C")
    parser.add_argument(
        "--port",
        metavar="N",
        type=a_port,
        help="the index's port (--keep, --serve: 8437, else a free one)",
    )


def run(arguments: Namespace, context: Context) -> int:
    """Play, or serve."""
    if arguments.serve:
        return _serve(context, arguments.port or _USUAL_PORT)
    chapters = tuple(CHAPTERS) if arguments.all else (arguments.chapter,) if arguments.chapter else ()
    play_them = partial(_play, context, chapters=chapters, alone=not arguments.all)
    if arguments.keep is not None:
        return _keep(
            context, context.machine.folder / arguments.keep, arguments.port or _USUAL_PORT, play_them
        )
    folder = Path(tempfile.mkdtemp(prefix="rabbet-demo-"))
    try:
        play_them(folder, arguments.port or 0)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    context.show()
    context.show("That was all, and nothing is left behind. To try it by hand: rabbet demo --keep FOLDER")
    if not chapters:
        context.show("More chapters (--all plays them all):")
        for name, chapter in CHAPTERS.items():
            context.show(f"  rabbet demo {name:<9} {chapter.shows}")
    return ExitCode.DONE


def _keep(context: Context, folder: Path, port: int, play_them: Callable[[Path, int], None]) -> int:
    if folder.exists():
        raise CannotWrite(f"{folder} is there already", remedy=f"rabbet demo --keep {quoted(f'{folder}-2')}")
    with cannot_write(folder):
        folder.mkdir(parents=True)
    play_them(folder, port)
    context.show()
    context.show(
        f"The project is in {folder / 'hivescale'}. It needs its index: rabbet demo --serve --port {port}"
    )
    return ExitCode.DONE


def _play(context: Context, folder: Path, port: int, *, chapters: Sequence[str], alone: bool) -> None:
    """Play chapters, each in a project that was begun: `alone`, or after the beginning."""
    project = folder / "hivescale"
    project.mkdir()
    own = {f"RABBET_{part.upper()}": str(folder / part) for part in ("store", "state", "data")}
    variables = {**context.machine.environ, **own}
    with _index(port) as index:
        stage = Stage(project=project, address=index.address, variables=variables, output=context.output)
        (prepare_project if chapters and alone else play)(stage)
        for chapter in chapters:
            CHAPTERS[chapter].play(stage)


def _serve(context: Context, port: int) -> int:
    with _index(port) as index:
        context.show(f"Serving {index.address} until Ctrl-C.")
        context.output.flush()
        index.wait()
    return ExitCode.DONE


def _index(port: int) -> StandIn:
    try:
        return StandIn(
            [*RELEASES, *SEASON],
            port=port,
            more={f"/runtimes/{name}": content for name, content in shelf(_WAGGLES).items()},
        )
    except OSError as error:
        raise EnvironmentFailed(
            f"the port {port} can't be used",
            because=[error.strerror or str(error)],
            remedy=f"rabbet demo --serve --port {port + 1}",
        ) from error
