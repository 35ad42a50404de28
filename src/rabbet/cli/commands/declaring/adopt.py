"""Declare what an existing project uses.

Looks at what the current folder has: an environment, lists of requirements, code; or at what --from names. It
declares, loosely, only what nothing else requires. Installed versions, and pins in lists, are noted beside
the declaration; the next `rabbet resolve` prefers them, so the first lock changes nothing that works. The
command shows what it would write and why, then asks. It runs none of the files that it reads.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_several
from rabbet.errors import ExitCode


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    add_several(
        parser,
        "--from",
        "PATH",
        "look only at these: environments, lists, pyproject.toml, locks, folders with code",
        dest="places",
    )
    parser.add_argument("--plan", action="store_true", help="show what would be written, and write nothing")
    parser.add_argument("--yes", action="store_true", help="ask nothing, write")
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Show what would be declared, and write it once that is agreed to."""
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.cli.views.declaring.adopt import outcome, show_adopting
    from rabbet.documents.declaring.adopt import AdoptDocument
    from rabbet.tasks.declaring.adopt import adopting, save

    project = context.place.project if context.place else None
    drawn_up = adopting(context.machine, context.observer, arguments.places, project)
    if not arguments.json:
        show_adopting(drawn_up, context)
    written = not arguments.plan and agreed(
        context, "Write that?", yes=arguments.yes, may_ask=not arguments.json
    )
    if written:
        save(drawn_up)
    if arguments.json:
        context.show_json(AdoptDocument(drawn_up, written))
    else:
        context.show(outcome(drawn_up, arguments.places, written=written))
    return ExitCode.DONE if written or arguments.plan else ExitCode.NO
