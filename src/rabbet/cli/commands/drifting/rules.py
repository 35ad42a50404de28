"""Show the rules on what may be locked, and what breaks them.

Shows which rules count for this project and where they are stated, and every locked or installed library
that breaks one: who brought it, since which release it is mended, and the fewest moves that would mend the
lock. Asks for records of vulnerabilities that are older than an hour. --accept notes in pyproject.toml that
an advisory was looked at, and --judge-again takes that back.

Exit code 0: no rule is broken, or notes only. 1: a rule is broken, or records are too old to tell.
"""

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_fresh_listings, add_json, add_offline, add_variant
from rabbet.core.shell import joined_words
from rabbet.errors import ExitCode, WrongUsage

if TYPE_CHECKING:
    from rabbet.core.declaration.edit import Edit


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "--accept", metavar="ID", help="accept this advisory; with --reason and --until, which it needs"
    )
    parser.add_argument("--reason", metavar="TEXT", help="--accept: why it does no harm here")
    parser.add_argument("--until", metavar="DAY", help="--accept: after this day it counts again")
    parser.add_argument("--judge-again", metavar="ID", help="let an accepted advisory count again")
    add_variant(parser, every=True)
    add_fresh_listings(parser)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Judge and tell what breaks a rule, or change what is accepted."""
    project = context.rabbet(arguments.variant)
    if arguments.accept is not None or arguments.judge_again is not None:
        from rabbet.cli.views.declaring.changes import ChangesView

        done = project.edit([_edit(arguments)])
        context.present(ChangesView(done), as_json=arguments.json)
        return ExitCode.DONE
    if arguments.reason is not None or arguments.until is not None:
        raise WrongUsage("--reason and --until are for --accept", remedy="rabbet rules")
    from rabbet.cli.views.drifting.rules import RulesView

    report = project.rules()
    context.present(RulesView(report), as_json=arguments.json)
    return ExitCode.NO if report.refuses else ExitCode.DONE


def _edit(arguments: Namespace) -> "Edit":
    """The edit of the declaration. Raises `WrongUsage` for what is missing or is no day."""
    from datetime import date, timedelta

    from rabbet.core.declaration.edit import Edit
    from rabbet.tasks.drifting.rules import edit_to_accept

    name = arguments.accept
    if name is None:
        return Edit(verb="retract", what="accept", name=arguments.judge_again)
    soon = str(date.today() + timedelta(days=90))  # noqa: DTZ011 - the user's own day
    try:
        until = date.fromisoformat(arguments.until or "")
    except ValueError as error:
        raise WrongUsage(
            f"--accept {name} needs --until and a day such as {soon}", remedy="rabbet rules --help"
        ) from error
    if not (arguments.reason or "").strip():
        raise WrongUsage(
            f"--accept {name} needs --reason: it is read by those who look at it next",
            because=[f"for example: {joined_words(['--reason', 'the reader is not used'])}"],
            remedy="rabbet rules --help",
        )
    return edit_to_accept(name, arguments.reason.strip(), until)
