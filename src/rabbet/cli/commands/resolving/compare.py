"""Compare two locks, revisions or environments.

OLD and NEW are each a lock file, an inventory file (CycloneDX JSON), a revision in git (HEAD~3 or
git:HEAD~3), `installed` for the project's environment, env:PATH for another environment, or machine:LABEL for
a machine of the census. Without NEW, OLD is compared with the present lock.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import STATES, add_json, add_variant
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("old", metavar="OLD", help=STATES)
    parser.add_argument("new", metavar="NEW", nargs="?", help="another one (default: the present lock)")
    parser.add_argument("--markdown", action="store_true", help="in a form for a pull request's description")
    add_variant(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Compare and tell every difference."""
    from rabbet.cli.views.resolving.compare import CompareView, show_markdown

    compared = context.rabbet(arguments.variant).compare(arguments.old, arguments.new)
    if arguments.markdown and not arguments.json:
        show_markdown(compared, context)
    else:
        context.present(CompareView(compared), as_json=arguments.json)
    return ExitCode.DONE
