"""List and discard environments.

Lists all environments that you made on this machine: where each lies, its runtime and size, when it was last
used, and whether it was made from its project's present lock.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json
from rabbet.errors import ExitCode, WrongUsage

ACTIONS = {"discard": "Remove environments; the store keeps what they hold."}
ONLY = {"folders": ("discard",), "check": ()}


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("action", nargs="?", choices=tuple(ACTIONS), help="default: list them")
    parser.add_argument(
        "folders", metavar="folder", nargs="*", help="environments to discard, or their projects"
    )
    parser.add_argument("--check", action="store_true", help="compare all files with the locks")
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """List, or discard some."""
    from rabbet.cli.views.recreating.envs import EnvironmentsView
    from rabbet.tasks.recreating.envs import discard, known_environments

    if arguments.action == "discard":
        if not arguments.folders:
            raise WrongUsage("no environment was named", remedy="rabbet envs")
        for folder in arguments.folders:
            gone = discard(context.machine, folder)
            context.show(f"Discarded {gone}. To have it again, in its project: rabbet recreate")
        return ExitCode.DONE
    found = known_environments(context.machine, context.observer, check=arguments.check)
    context.present(EnvironmentsView(found), as_json=arguments.json)
    return ExitCode.DONE
