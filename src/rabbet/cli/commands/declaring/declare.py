"""Add or change runtimes and libraries.

Writes requirements, the runtime's constraint, platforms and sources into pyproject.toml; its comments and
order stay. A name alone is written as it is: loose. Of what is declared already, only what was given changes.
Without arguments it shows what is declared.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_entries, add_json, add_now, add_section, edits_of
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "libraries",
        metavar="requirement",
        nargs="*",
        help="such as nectarplot, 'combframe[fast]>=2,<4', \"skepio; os_name == 'nt'\"",
    )
    parser.add_argument(
        "--exactly",
        action="store_true",
        help="write libraries as given, without bounds and extras that they had",
    )
    parser.add_argument(
        "--runtime",
        metavar="CONSTRAINT",
        action="append",
        default=[],
        help="such as 'python>=3.11,<3.14' or 'node 20'; may be repeated",
    )
    add_entries(parser, "declare")
    parser.add_argument(
        "--own-version",
        metavar="VERSION",
        help="the project's own version, or next-patch, next-minor, next-major",
    )
    add_section(parser, "put libraries and the runtime into")
    add_now(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Change the declaration and tell what changed, or show what is declared."""
    from rabbet.cli.views.declaring.changes import ChangesView, EntriesView

    edits, project = edits_of("declare", arguments), context.rabbet()
    if not edits and not arguments.now:
        context.present(EntriesView(project.declaration()), as_json=arguments.json)
        return ExitCode.DONE
    done = project.edit(edits, now=arguments.now)
    context.present(ChangesView(done), as_json=arguments.json)
    return ExitCode.DONE
