"""Remove libraries and other entries.

Removes libraries from pyproject.toml, wherever they are declared, or from one group, extra or variant only. A
group, an extra or a variant without libraries is removed as a whole. 'combframe[fast]' removes only the
extra. Options remove what they name.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_entries, add_json, add_now, add_offline, add_section, edits_of
from rabbet.errors import ExitCode, WrongUsage


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("libraries", metavar="library", nargs="*", help="the name of a declared library")
    parser.add_argument(
        "--runtime",
        metavar="LANGUAGE",
        nargs="?",
        action="append",
        const="python",
        default=[],
        help="the constraint on a language (default: Python)",
    )
    add_entries(parser, "retract")
    add_section(parser, "only from")
    parser.add_argument("--plan", action="store_true", help="show the change of the lock; write nothing")
    add_now(parser, "also resolve and recreate: both or nothing")
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Change the declaration and tell what changed."""
    from rabbet.cli.views.declaring.changes import ChangesView

    edits = edits_of("retract", arguments)
    if not edits:
        raise WrongUsage("nothing was given to retract", remedy="rabbet declare")
    project = context.rabbet()
    done = project.planned(edits) if arguments.plan else project.edit(edits, now=context.at_once(arguments))
    context.present(ChangesView(done), as_json=arguments.json)
    return ExitCode.DONE
