"""List the releases of a library.

Shows the newest releases first: when each was uploaded, which Python it requires, which one is locked, and
which ones the declaration allows.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import a_release, add_fresh_listings, add_json, add_offline
from rabbet.errors import ExitCode

_USUAL_NUMBER = 15


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("name", metavar="library", type=a_release, help="a library, such as 'combframe>=2'")
    parser.add_argument(
        "--all",
        action="store_true",
        help=f"every release (default: the newest {_USUAL_NUMBER} and the locked one)",
    )
    add_fresh_listings(parser)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """List the releases."""
    from rabbet.cli.views.resolving.lookup import LookupView

    found = context.rabbet().lookup(str(arguments.name))
    view = LookupView(found, most=None if arguments.all else _USUAL_NUMBER)
    context.present(view, as_json=arguments.json)
    return ExitCode.DONE
