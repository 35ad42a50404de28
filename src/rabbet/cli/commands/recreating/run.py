"""Run a command in the environment.

The environment's commands come first on PATH; the exit code and signals are the command's own. An environment
that does not match the lock is refused, unless you say --as-is. --under uses another runtime, and --try
another library, for this command only; nothing is changed.
"""

from argparse import REMAINDER, ArgumentParser, Namespace
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.now import note_edited
from rabbet.cli.options import add_now, add_trial, add_variant
from rabbet.core.shell import quoted
from rabbet.errors import NoDeclaration, WrongUsage
from rabbet.workspace.places import has_metadata, script_file

if TYPE_CHECKING:
    from rabbet.workspace.session import Session


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "--as-is", action="store_true", help="even if the environment does not match the lock"
    )
    parser.add_argument(
        "--under",
        metavar="CONSTRAINT",
        action="append",
        default=[],
        help="use another runtime for this command, such as 'java>=14'; not Python",
    )
    parser.add_argument(
        "--carried", metavar="FOLDER", help="a script: take what it needs from this folder, without network"
    )
    add_now(parser, "first bring lock and environment up to date")
    add_trial(parser)
    add_variant(parser, every=True)
    parser.add_argument("command", nargs=REMAINDER, help="the command with its arguments")


def run(arguments: Namespace, context: Context) -> int:
    """Replace this process by the command."""
    from rabbet.core.shell import joined_words
    from rabbet.tasks.recreating.run import (
        become,
        foreign_script,
        inside,
        refuse_broken_rules,
        refuse_script,
        refuse_unfit,
    )

    command = arguments.command[1:] if arguments.command[:1] == ["--"] else arguments.command
    if not command:
        raise WrongUsage("no command was given to run", remedy="rabbet run python -c 'print(42)'")
    script = script_file(command[0], context.machine) if context.place is None else None
    if script is not None and has_metadata(script):
        from rabbet.cli.placed import run_script

        return run_script(command, arguments, context)
    if arguments.carried is not None:
        raise WrongUsage(
            "--carried is for scripts with metadata",
            remedy=f"rabbet recreate --carried {quoted(arguments.carried)}",
        )
    if script is not None and "/" not in command[0] and script.suffix == ".py":
        return _run_beside(script, arguments, command, context)
    session = context.session(arguments.variant)
    refuse_script(session, command)
    if arguments.tried or arguments.places:
        return _try(arguments, command, session, context)
    if context.at_once(arguments):
        from rabbet.cli.now import bring_up_to_date

        bring_up_to_date(session, context)
    elif not arguments.as_is:
        going_on = joined_words(["rabbet", "run", "--as-is", *_under(arguments), *arguments.command])
        note_edited(refuse_unfit(session, going_on=going_on), context)
    refuse_broken_rules(session)
    variables = inside(session)
    if arguments.under:
        from rabbet.tasks.recreating.run import under_runtimes

        variables = under_runtimes(session, arguments.under, variables)
    foreign = foreign_script(session, command[0], variables)
    if foreign:
        context.note(foreign)
    context.output.flush()
    return become(session, command, variables)


def _run_beside(script: Path, arguments: Namespace, command: Sequence[str], context: Context) -> int:
    """Run a script without metadata in the project that it lies in."""
    try:
        context.project()
    except NoDeclaration as error:
        raise NoDeclaration(
            f"{script.name} says nothing of what it needs, and lies in no project",
            remedy=f"rabbet adopt --in {quoted(command[0])}",
            or_else=["rabbet begin"],
        ) from error
    arguments.command = ["python", *command]
    return run(arguments, context)


def _try(arguments: Namespace, command: Sequence[str], session: "Session", context: Context) -> int:
    """Run the command in an environment that lasts as long."""
    from rabbet.cli.trial import in_trial
    from rabbet.python.environment.place.variables import variables_inside
    from rabbet.tasks.recreating.run import run_to_end, under_runtimes

    machine = context.machine
    with in_trial(arguments, session, context) as root:
        variables = variables_inside(root, machine.environ)
        if arguments.under:
            variables = under_runtimes(session, arguments.under, variables)
        return run_to_end(session, command, variables)


def _under(arguments: Namespace) -> list[str]:
    """The options that name other runtimes, for a command to paste."""
    return [word for folder in arguments.under for word in ("--under", folder)]
