"""List and discard environments.

Lists all environments that you made on this machine: where each lies, its runtime and size, when it was last
used, and whether it was made from its project's present lock.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json
from rabbet.errors import ExitCode, WrongUsage

ACTIONS = {
    "discard": "Remove environments; the store keeps what they hold.\n\n"
    "A project that has a name (`rabbet begin --named`) goes as a whole, so that is asked first.",
    "rename": "Give a project that has a name another one.",
}
ONLY = {"folders": ("discard", "rename"), "check": (), "yes": ("discard",)}

_BOTH = 2  # names: the old one and the new one


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("action", nargs="?", choices=tuple(ACTIONS), help="default: list them")
    parser.add_argument(
        "folders",
        metavar="folder",
        nargs="*",
        help="environments, their projects, scripts or names; rename: the old name and the new one",
    )
    parser.add_argument("--yes", action="store_true", help="discard: ask nothing")
    parser.add_argument("--check", action="store_true", help="compare all files with the locks")
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """List, or discard some."""
    from rabbet.cli.views.recreating.envs import EnvironmentsView
    from rabbet.tasks.recreating.envs import known_environments
    from rabbet.workspace.places import rename

    if arguments.action == "discard":
        if not arguments.folders:
            raise WrongUsage("no environment was named", remedy="rabbet envs")
        return _discard(arguments, context)
    if arguments.action == "rename":
        if len(arguments.folders) != _BOTH:
            raise WrongUsage("a name and another one are needed", remedy="rabbet envs rename --help")
        old, new = arguments.folders
        rename(old, new, context.machine)
        context.show(f"{old} is called {new} now. Next: rabbet run --in {new} COMMAND")
        return ExitCode.DONE
    found = known_environments(context.machine, context.observer, check=arguments.check)
    context.present(EnvironmentsView(found), as_json=arguments.json)
    return ExitCode.DONE


def _discard(arguments: Namespace, context: Context) -> int:
    """Discard them, one after the other; a project with a name only if that is agreed to."""
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.tasks.recreating.envs import discard, kept_whole

    for named in arguments.folders:
        whole = kept_whole(context.machine, named)
        if whole is not None and whole.name == named:
            question = f"Remove {named} with its declaration, its lock and its environment?"
            if not agreed(context, question, yes=arguments.yes, may_ask=True):
                again = "" if context.interactive else f" To remove it: rabbet envs discard {named} --yes"
                context.show(f"Nothing was removed.{again}")
                return ExitCode.NO
        gone = discard(context.machine, named)
        if whole is None:
            context.show(f"Discarded {gone}. To have it again, in its project: rabbet recreate")
        else:
            context.show(f"Discarded {named}, which lay in {gone}.")
    return ExitCode.DONE
