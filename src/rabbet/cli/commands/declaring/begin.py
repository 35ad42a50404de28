"""Start a declaration here.

Writes pyproject.toml in the current folder, or adds to the one that is there what it lacks. On a terminal it
asks for what was not given and shows the file before it writes it.
"""

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.errors import ExitCode

if TYPE_CHECKING:
    from rabbet.core.declaration.model import Declaration
    from rabbet.tasks.declaring.begin import Answers


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "libraries", metavar="library", nargs="*", help="first libraries, such as 'nectarplot>=2'"
    )
    parser.add_argument("--name", help="the project's name (default: the folder's)")
    parser.add_argument("--runtime", metavar="CONSTRAINT", help="such as 'python>=3.11'")
    parser.add_argument("--source", metavar="URL_OR_FOLDER", help="an index's address, or a folder of wheels")
    parser.add_argument("--yes", action="store_true", help="ask nothing, take defaults")


def run(arguments: Namespace, context: Context) -> int:
    """Collect the answers and write the file."""
    from rabbet.cli.terminal.interview import asked, given, show_draft
    from rabbet.cli.terminal.prompt import confirm
    from rabbet.tasks.declaring.begin import draft, existing, save

    asking = context.interactive and not arguments.yes
    present = existing(context.machine.folder)
    answers = (asked if asking else given)(arguments, context, present)
    written = draft(context.machine.folder, answers)
    if not written.changed:
        following = "rabbet resolve" if present and present.by_build else "rabbet declare LIBRARY"
        context.show(f"pyproject.toml has all that Rabbet needs. Next: {following}")
        return ExitCode.DONE
    if asking:
        show_draft(written, context)
        if not confirm(context, "Write this file?"):
            context.show("Nothing was written.")
            return ExitCode.NO
    save(written)
    verb = "Wrote" if written.before is None else "Completed"
    context.show(f"{verb} {written.path.name}. Next: {_following(answers, present, context)}")
    return ExitCode.DONE


def _following(answers: "Answers", present: "Declaration | None", context: Context) -> str:
    """The next command: one that supplies what resolving still lacks, else `rabbet resolve`."""
    from rabbet.workspace.known_sources import users_source

    known = answers.source or (present and present.sources) or users_source(context.machine)
    if not known:
        return "rabbet declare --source URL_OR_FOLDER, for no source of libraries is known yet"
    declared = answers.needs or (present and (present.by_build or any(True for _ in present.declared())))
    return "rabbet resolve" if declared else "rabbet declare LIBRARY, then: rabbet resolve"
