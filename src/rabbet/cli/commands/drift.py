"""What is installed here, against the lock.

Reads what is installed in .venv from its files alone, running nothing of it, and compares it with
pylock.toml. Exit code 0: no drift. 1: something differs.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_variant
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    add_variant(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Compare and tell every difference."""
    from rabbet.cli.views.drift import document, show
    from rabbet.tasks.drift import drift

    found = drift(context.project(arguments.variant), context.machine)
    if arguments.json:
        context.show_json("drift", document(found))
    else:
        show(found, context)
    return ExitCode.NO if found.differs else ExitCode.DONE
