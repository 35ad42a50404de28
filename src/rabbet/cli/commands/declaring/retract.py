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
    parser.add_argument("--yes", action="store_true", help="with a variant, remove its lock and environment")
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
    before = tuple(project.declaration().variants) if arguments.variant else ()
    done = project.planned(edits) if arguments.plan else project.edit(edits, now=context.at_once(arguments))
    context.present(ChangesView(done), as_json=arguments.json)
    if before and not arguments.plan:
        _offer_to_discard(before, arguments, context)
    return ExitCode.DONE


def _offer_to_discard(before: tuple[str, ...], arguments: Namespace, context: Context) -> None:
    """Remove locks and environments of variants that are gone, if the user agrees; else say what is left."""
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.core.shell import joined_words
    from rabbet.tasks.declaring.retract import discard_gone, gone_variants

    session = context.session()
    for gone in gone_variants(session, before):
        places = " and ".join(place.name for place in gone.places)
        question = f"Remove {places} of the variant {gone.name}, too?"
        if agreed(context, question, yes=arguments.yes, may_ask=not arguments.json):
            discard_gone(session, gone)
            told = f"Removed {places}."
        else:
            commands = [joined_words(["rm", gone.lock.name])] if gone.lock else []
            if gone.environment:
                commands.append(joined_words(["rabbet", "envs", "discard", gone.environment.name]))
            told = f"{places} of the variant {gone.name} stayed. To remove: {' && '.join(commands)}"
        if not arguments.json:
            context.show(told)
