"""What the code imports, against the declaration.

Reads the project's Python files and notebooks, running nothing of them, and holds each imported module
against what the libraries offer by their own files. It tells what is imported and comes along only by chance,
what is not there at all, what is declared and never imported, what only tests need, what only a group brings.
Exit code 0: imports and declaration agree. 1: they do not.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Compare and tell every finding."""
    from rabbet.cli.views.drifting.imports import ImportsView

    found = context.rabbet().imports()
    context.present(ImportsView(found), as_json=arguments.json)
    return ExitCode.NO if found.differs else ExitCode.DONE
