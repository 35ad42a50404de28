"""Take something out.

Removes libraries from pyproject.toml, from wherever they are declared or from one group, extra or variant; a
group, an extra or a variant named alone goes with all that is in it. 'combframe[fast]' takes out the extra
alone. What the options name is taken out likewise.
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
    add_section(parser, "take libraries only out of")
    parser.add_argument(
        "--plan", action="store_true", help="show what would change in the lock, and write nothing"
    )
    add_now(parser, "then resolve and recreate; if that fails, all is as before")
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
