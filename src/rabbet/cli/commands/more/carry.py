"""Pack all that a lock needs, for a machine without network.

Writes a folder, or an archive if the name ends in .tar.gz or .zip: wheels, source archives with what their
builds require, runtimes with their catalogue, and Rabbet itself. It is a static index that any client can
read, with a manifest of hashes. On the other machine, in the project: `python3 FOLDER/rabbet.py recreate
--carried FOLDER`. A second run writes only what changed. With --built it packs the wheels that this machine
built from source, for teammates; a folder can hold those of many.
"""

import os
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline, add_several, add_variant
from rabbet.core.shell import quoted
from rabbet.disk.named import path_named
from rabbet.errors import ExitCode, WrongUsage

if TYPE_CHECKING:
    from rabbet.workspace.session import Session


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("--to", metavar="PLACE", required=True, help="a folder, or an archive")
    add_several(parser, "--target", "PLATFORM", "only for these platforms of the lock")
    parser.add_argument(
        "--built",
        action="store_true",
        help="only the wheels that this machine built from source, for a source with `builds = true`",
    )
    add_variant(parser)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Carry, and tell what was written."""
    from rabbet.cli.views.more.carry import CarryView
    from rabbet.tasks.more.carry import carry

    session = context.session(arguments.variant)
    place = Path(os.path.abspath(path_named(arguments.to, context.machine.folder)))  # noqa: PTH100 - with its links
    if arguments.built:
        return _carry_built(arguments, session, place, context)
    carried = carry(session, place, arguments.target)
    context.present(CarryView(carried, arguments.variant), as_json=arguments.json)
    return ExitCode.DONE


def _carry_built(arguments: Namespace, session: "Session", place: Path, context: Context) -> int:
    if arguments.target:
        raise WrongUsage(
            "what was built here is for this machine's platform",
            because=["--target and --built were given together"],
            remedy=f"rabbet carry --built --to {quoted(arguments.to)}",
        )
    from rabbet.cli.views.more.carry import CarriedBuildsView
    from rabbet.tasks.more.carry import carry_built

    carried = carry_built(session, place)
    context.present(CarriedBuildsView(carried), as_json=arguments.json)
    return ExitCode.DONE
