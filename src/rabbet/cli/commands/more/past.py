"""Show what the lock held before.

Shows which revisions of the lock in git changed the version of a library, the newest first; without a name,
what each revision changed. `compare` shows two revisions in full.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import a_library, add_json, add_variant
from rabbet.errors import ExitCode

_USUAL_NUMBER = 15


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("library", nargs="?", type=a_library, help="only this library")
    parser.add_argument(
        "--all", action="store_true", help=f"every change (default: the newest {_USUAL_NUMBER})"
    )
    add_variant(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Tell what changed when."""
    from rabbet.cli.views.more.past import PastView

    found = context.rabbet(arguments.variant).past(arguments.library)
    context.present(PastView(found, None if arguments.all else _USUAL_NUMBER), as_json=arguments.json)
    return ExitCode.DONE
