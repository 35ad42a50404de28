"""Start a shell in the environment.

Starts your shell with the environment's commands first on PATH and the folder's name in the prompt; `exit`
leaves it. To enter from a running shell, source .venv/bin/enter.sh (or .fish, .ps1); `leave` restores
everything.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.now import note_edited
from rabbet.cli.options import add_now, add_trial, add_variant


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "--as-is", action="store_true", help="even if the environment does not match the lock"
    )
    add_now(parser, "first bring lock and environment up to date")
    add_trial(parser)
    add_variant(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Replace this process by the shell."""
    from rabbet.tasks.recreating.enter import shell_inside
    from rabbet.tasks.recreating.run import become, refuse_unfit

    session = context.session(arguments.variant)
    if arguments.tried or arguments.places:
        from rabbet.cli.trial import in_trial
        from rabbet.tasks.recreating.run import run_to_end

        with in_trial(arguments, session, context) as root:
            command, variables = shell_inside(session, root)
            return run_to_end(session, command, variables)
    if context.at_once(arguments):
        from rabbet.cli.now import bring_up_to_date

        bring_up_to_date(session, context)
    elif not arguments.as_is:
        note_edited(refuse_unfit(session, going_on="rabbet enter --as-is"), context)
    command, variables = shell_inside(session)
    context.output.flush()
    return become(session, command, variables)
