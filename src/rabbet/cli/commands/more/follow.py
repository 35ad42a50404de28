"""Let the shell follow you into environments.

Prints a few lines for a shell's start file. In the folder of a project, or below it, the environment then
comes first on PATH and the folder's name stands in the prompt; leaving the folder restores both. The shell
starts no program for that, and follows only environments that you made with Rabbet, none that came with a
clone. For bash: rabbet follow bash >> ~/.bashrc.
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
