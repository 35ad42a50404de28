"""All of it, for a machine without network.

Puts what the lock needs for its targets into a folder, or into an archive if the name ends in .tar.gz or
.zip: wheels, source archives with what their builds need, runtimes with their catalogue, and Rabbet itself.
It is a static index that any client can read, with a manifest of hashes. There, in the project: `python3
FOLDER/rabbet.py recreate --carried FOLDER`. A second time, only what changed is written.
"""

import os
from argparse import ArgumentParser, Namespace
from pathlib import Path

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline, add_several, add_variant
from rabbet.disk.named import path_named
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("--to", metavar="PLACE", required=True, help="a folder, or an archive")
    add_several(parser, "--target", "PLATFORM", "only for these platforms of the lock")
    add_variant(parser)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Carry, and tell what was written."""
    from rabbet.cli.views.carry import CarryView
    from rabbet.tasks.carry import carry

    project, machine = context.project(arguments.variant), context.machine
    place = Path(os.path.abspath(path_named(arguments.to, machine.folder)))  # noqa: PTH100 - with its links
    carried = carry(project, machine, context.observer, place, arguments.target)
    context.present(CarryView(carried, arguments.variant), "carry", as_json=arguments.json)
    return ExitCode.DONE
