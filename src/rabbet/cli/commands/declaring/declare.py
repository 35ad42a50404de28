"""Add or change libraries and runtimes.

Writes requirements, the runtime's constraint, platforms and sources into pyproject.toml, and keeps its
comments and order. A name without versions stays loose. Entries that exist already change only where the
command says so. Without arguments it shows what is declared.
"""

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_entries, add_json, add_now, add_offline, add_section, edits_of
from rabbet.errors import ExitCode, WrongUsage

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rabbet.core.declaration.edit import Edit


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "libraries",
        metavar="requirement",
        nargs="*",
        help="such as nectarplot, 'combframe[fast]>=2,<4'",
    )
    parser.add_argument(
        "--exactly",
        action="store_true",
        help="drop bounds and extras of the old entry",
    )
    parser.add_argument(
        "--runtime",
        metavar="CONSTRAINT",
        action="append",
        default=[],
        help="such as 'python>=3.11,<3.14' or 'node 20'",
    )
    add_entries(parser, "declare")
    parser.add_argument(
        "--own-version",
        metavar="VERSION",
        help="such as 1.2, next-patch, next-minor, next-major",
    )
    parser.add_argument(
        "--for-all-projects",
        action="store_true",
        help="keep the source for all your projects",
    )
    add_section(parser, "into")
    parser.add_argument("--plan", action="store_true", help="show the change of the lock; write nothing")
    add_now(parser, "also resolve and recreate: both or nothing")
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Change the declaration and tell what changed, or show what is declared."""
    from rabbet.cli.views.declaring.changes import ChangesView, EntriesView

    edits = edits_of("declare", arguments)
    if arguments.for_all_projects:
        return _keep_for_all(edits, context)
    project = context.rabbet()
    if not edits and not arguments.now:
        context.present(EntriesView(project.declaration()), as_json=arguments.json)
        return ExitCode.DONE
    done = project.planned(edits) if arguments.plan else project.edit(edits, now=context.at_once(arguments))
    context.present(ChangesView(done), as_json=arguments.json)
    return ExitCode.DONE


def _keep_for_all(edits: "Sequence[Edit]", context: Context) -> int:
    """Write the one source that was given into the user's settings."""
    from rabbet.workspace.known_sources import keep_for_all

    if [edit.what for edit in edits] != ["source"] or edits[0].name:
        raise WrongUsage(
            "--for-all-projects takes one --source without a name, and nothing else",
            remedy="rabbet declare --help",
        )
    keep_for_all(context.machine, edits[0].value)
    written = context.machine.settings_file()
    context.show(f"Wrote {written}: projects without a source of their own take that one.")
    return ExitCode.DONE
