"""Run one command inside it.

Runs a command with the environment's own commands first on PATH, and passes on its exit code and signals.
"""

from argparse import REMAINDER, ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.errors import WrongUsage


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("command", nargs=REMAINDER, help="the command with its arguments")


def run(arguments: Namespace, context: Context) -> int:
    """Become the command."""
    from rabbet.tasks.run import become, inside

    command = arguments.command[1:] if arguments.command[:1] == ["--"] else arguments.command
    if not command:
        raise WrongUsage("no command was given to run", remedy="rabbet run python -c 'print(42)'")
    variables = inside(context.project(), context.machine)
    context.output.flush()
    become(command, variables)
