"""Look at the store, clean it, check it.

Shows where the store is, how large it is, and what its parts are for.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json
from rabbet.errors import ExitCode, WrongUsage

ACTIONS = {
    "sweep": "Remove what no known environment or lock uses.",
    "check": "Read everything again, and remove what is damaged.",
    "key": "Print what a service should file the store under.",
}
ONLY = {"older": ("sweep",)}


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("action", nargs="?", choices=tuple(ACTIONS), help="default: show what is there")
    parser.add_argument(
        "--older", metavar="DAYS", type=int, help="sweep: only what was not used for DAYS days"
    )
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Show, sweep or check."""
    from rabbet.cli.views.recreating.store import DamagedView, OverviewView, RemovedView
    from rabbet.tasks.recreating.store import cache_key, check_store, overview, sweep_store

    if arguments.older is not None and (arguments.action != "sweep" or arguments.older < 0):
        raise WrongUsage(
            "--older DAYS goes with sweep, and is 0 or more", remedy="rabbet store sweep --older 30"
        )
    if arguments.action == "key":
        key = cache_key(context.project())
        if arguments.json:
            from rabbet.documents.recreating.store import StoreKeyDocument

            context.show_json(StoreKeyDocument(key, context.machine.store_folder))
        else:
            context.show(key)
        return ExitCode.DONE
    if arguments.action == "sweep":
        removed = sweep_store(context.machine, context.observer, older=arguments.older or 0)
        context.present(RemovedView(removed), as_json=arguments.json)
        return ExitCode.DONE
    if arguments.action == "check":
        damaged = check_store(context.machine, context.observer)
        context.present(DamagedView(damaged), as_json=arguments.json)
        return ExitCode.NO if damaged else ExitCode.DONE
    context.present(OverviewView(overview(context.machine)), as_json=arguments.json)
    return ExitCode.DONE
