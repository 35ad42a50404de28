"""Make the environment match the lock.

Makes .venv from pylock.toml, or changes it: adds what is missing, replaces what differs, removes what is not
in the lock, and leaves alone what fits.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline, add_quiet
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("--plan", action="store_true", help="show what would be done, and do nothing")
    add_offline(parser)
    add_json(parser)
    add_quiet(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Recreate, or show the plan."""
    from rabbet.cli.views.recreate import document, show
    from rabbet.tasks.recreate import prepare, recreate

    act = prepare if arguments.plan else recreate
    outlook = act(context.project(), context.machine, context.observer)
    if arguments.json:
        context.show_json("recreate", document(outlook, done=not arguments.plan))
    else:
        show(outlook, context, only_plan=arguments.plan)
    return ExitCode.DONE
