"""Settle every version, write the lock.

Chooses the newest releases that meet every requirement on this machine, and writes them with their files and
hashes into pylock.toml. What is locked already stays where the declaration allows it.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_quiet
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "--raise",
        dest="raised",
        metavar="NAME",
        nargs="+",
        default=[],
        help="let these move to newer releases",
    )
    parser.add_argument(
        "--raise-all", action="store_true", help="let everything move, the runtime too; no old lock is needed"
    )
    add_json(parser)
    add_quiet(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Resolve and tell what moved."""
    from rabbet.cli.views.resolve import document, show
    from rabbet.tasks.resolve import resolve

    project = context.project()
    resolved = resolve(
        project,
        context.machine,
        context.observer,
        raised=arguments.raised,
        raise_all=arguments.raise_all,
    )
    if arguments.json:
        context.show_json("resolve", document(resolved))
    else:
        show(resolved, project.declaration(), context)
    return ExitCode.DONE
