"""Compare the code's imports with the declaration.

Reads the project's Python files and notebooks, runs none of them, and compares the imported modules with
those that the libraries offer. It reports modules that are there only by chance, modules that are missing,
declared libraries that nothing imports, and libraries that only tests or a group need. Exit code 0: imports
and declaration agree. 1: they do not.
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
