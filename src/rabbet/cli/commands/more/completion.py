"""Set up completion in a shell.

Prints what a shell reads at its start to complete Rabbet's commands, options, and the names that a project
and this machine know. For bash: rabbet completion bash >> ~/.bashrc. For fish: rabbet completion fish >
~/.config/fish/completions/rabbet.fish.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("shell", choices=("bash", "zsh", "fish", "powershell"), help="which shell")


def run(arguments: Namespace, context: Context) -> int:
    """Print the code."""
    from argcomplete.shell_integration import shellcode

    # By its name alone: completing `./rabbet` must not run that file.
    context.show_text(shellcode(["rabbet"], shell=arguments.shell, argcomplete_script="rabbet"))
    return ExitCode.DONE
