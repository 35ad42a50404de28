"""The runtimes of this machine.

Lists the runtimes of all languages that were found, which one this project gets and why not the others, and
which projects use them. `lookup` shows what catalogues offer, such as `lookup 'node>=20'`; `obtain` fetches
the newest of these into the store, and `discard` removes one again. `publish FOLDER --to FOLDER` packs a
runtime of this machine, with a catalogue that gives it to others.
"""

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline, add_several
from rabbet.core.shell import quoted
from rabbet.disk.named import path_named
from rabbet.errors import ExitCode, NoDeclaration, WrongUsage

if TYPE_CHECKING:
    from rabbet.workspace.project import Project


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "action",
        nargs="?",
        choices=("lookup", "obtain", "publish", "discard"),
        help="default: list what is here",
    )
    parser.add_argument(
        "runtime",
        nargs="?",
        metavar="CONSTRAINT",
        help="such as 'node>=20' or 'java 17'; publish: a folder, or a program in it",
    )
    parser.add_argument("--to", metavar="FOLDER", help="publish: where the archive and its catalogue go")
    add_several(parser, "--only", "LANGUAGE", "list these languages alone")
    parser.add_argument(
        "--refused", action="store_true", help="list what was set aside too, with the reasons"
    )
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """List, look up, obtain or discard."""
    from rabbet.cli.views.runtimes import DiscardedView, ObtainedView, OffersView, RuntimesView
    from rabbet.tasks.runtimes import discard, look_up, obtain, runtimes_found

    machine, observer = context.machine, context.observer
    if arguments.action is None:
        found = runtimes_found(_project(context), machine, observer, arguments.only)
        context.present(RuntimesView(found, refused=arguments.refused), "runtimes", as_json=arguments.json)
        return ExitCode.NO if found.missing else ExitCode.DONE
    if arguments.runtime is None:
        publish = arguments.action == "publish"
        raise WrongUsage(
            f"rabbet runtimes {arguments.action}: which runtime was not said",
            remedy="rabbet runtimes --help" if publish else f"rabbet runtimes {arguments.action} 'node>=20'",
        )
    if arguments.action == "publish":
        return _publish(arguments, context)
    if arguments.action == "discard":
        gone = discard(machine, arguments.runtime)
        context.present(DiscardedView(gone), "runtimes-discard", as_json=arguments.json)
        return ExitCode.DONE
    project = _project(context)
    if arguments.action == "lookup":
        offers = look_up(project, machine, observer, arguments.runtime)
        view = OffersView(offers, arguments.runtime)
        context.present(view, "runtimes-lookup", as_json=arguments.json)
        return ExitCode.DONE if offers else ExitCode.NO
    picked, program = obtain(project, machine, observer, arguments.runtime)
    context.present(ObtainedView(picked, program), "runtimes-obtain", as_json=arguments.json)
    return ExitCode.DONE


def _publish(arguments: Namespace, context: Context) -> int:
    """Pack a runtime of this machine for others."""
    from rabbet.cli.views.runtimes import PublishedView
    from rabbet.workspace.runtimes.publishing import publish

    if arguments.to is None:
        raise WrongUsage(
            "where to publish the runtime was not said",
            remedy=f"rabbet runtimes publish {quoted(arguments.runtime)} --to runtimes",
        )
    here = context.machine.folder
    folder, runtime = path_named(arguments.to, here), path_named(arguments.runtime, here)
    done = publish(context.machine, context.observer, runtime, folder)
    context.present(PublishedView(done), "runtimes-publish", as_json=arguments.json)
    return ExitCode.DONE


def _project(context: Context) -> "Project | None":
    """The project of the current folder; without one, the user's own settings count."""
    try:
        return context.project()
    except NoDeclaration:
        return None
