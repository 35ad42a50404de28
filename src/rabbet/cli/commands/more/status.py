"""Show where the project stands.

Shows what is declared, locked and installed, whether that fits together, which newer releases the store
knows, and the next command. It asks no network and runs nothing.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_variant
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    add_variant(parser, every=True)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Look, and tell."""
    from rabbet.cli.views.more.status import StatusView

    found = context.rabbet(arguments.variant).status()
    context.present(StatusView(found), as_json=arguments.json)
    return ExitCode.DONE
