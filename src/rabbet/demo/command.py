"""Play a full example.

Needs no network: a stand-in index with made-up libraries serves on the loopback address. The example is
played in a temporary folder with a store of its own.
"""

import shutil
import tempfile
from argparse import ArgumentParser, Namespace
from pathlib import Path

from rabbet.cli.context import Context
from rabbet.core.shell import quoted
from rabbet.demo.libraries import RELEASES
from rabbet.demo.play import play
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
        "--keep", metavar="FOLDER", type=Path, help="play in this new folder and leave it there"
    )
    parser.add_argument("--serve", action="store_true", help="only serve the index, until Ctrl-C")
    parser.add_argument("--port", type=int, help="the index's port (default: a free one; kept: 8437)")


def run(arguments: Namespace, context: Context) -> int:
    """Play, or serve."""
    if arguments.serve:
        return _serve(context, arguments.port or _USUAL_PORT)
    if arguments.keep is not None:
        return _keep(context, context.machine.folder / arguments.keep, arguments.port or _USUAL_PORT)
    folder = Path(tempfile.mkdtemp(prefix="rabbet-demo-"))
    try:
        _play(context, folder, arguments.port or 0)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    context.show()
    context.show("That was all, and nothing is left behind. To try it by hand: rabbet demo --keep FOLDER")
    return ExitCode.DONE


def _keep(context: Context, folder: Path, port: int) -> int:
    if folder.exists():
        raise CannotWrite(f"{folder} is there already", remedy=f"rabbet demo --keep {quoted(f'{folder}-2')}")
    with cannot_write(folder):
        folder.mkdir(parents=True)
    _play(context, folder, port)
    context.show()
    context.show(
        f"The project is in {folder / 'hivescale'}. It needs its index: rabbet demo --serve --port {port}"
    )
    return ExitCode.DONE


def _play(context: Context, folder: Path, port: int) -> None:
    project = folder / "hivescale"
    project.mkdir()
    variables = {**context.machine.environ, "RABBET_STORE": str(folder / "store")}
    with _index(port) as index:
        play(Stage(project=project, address=index.address, variables=variables, output=context.output))


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
