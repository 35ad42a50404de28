"""A project's environment wherever you go in it.

Prints a few lines for a shell's start file. In the folder of a project, or one below it, its environment then
comes first on PATH and its name stands in the prompt; leaving the folder puts all back. The shell does that
alone, and only for environments that you made with Rabbet: nothing that came with a clone is followed. For
bash: rabbet follow bash >> ~/.bashrc
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("shell", choices=("bash", "zsh", "fish", "powershell"), help="which shell")


def run(arguments: Namespace, context: Context) -> int:
    """Print the lines."""
    from rabbet.tasks.recreating.enter import following

    context.show_text(following(context.machine, arguments.shell))
    return ExitCode.DONE
