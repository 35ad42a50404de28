"""List and obtain runtimes.

Lists the runtimes of all languages that were found, which one this project gets and why not the others, and
which projects use them.
"""

import os
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline, add_several
from rabbet.core.shell import quoted
from rabbet.disk.named import path_named
from rabbet.errors import ExitCode, RabbetError, WrongUsage

if TYPE_CHECKING:
    pass


ACTIONS = {
    "lookup": "Show what catalogues offer of a language, such as 'node>=20'.",
    "obtain": "Fetch a runtime into the store: the newest that meets the constraint.",
    "discard": "Remove an obtained runtime from the store.",
    "publish": """Give a runtime to others, with a catalogue.

An archive goes as it is, by its path or address; a runtime of this machine, by its folder or program, is
packed.
""",
}
ONLY = {  # the arguments that count for some of the actions alone; those of none list what is here
    "runtime": tuple(ACTIONS),
    "to": ("publish",),
    "copy": ("publish",),
    "each": ("publish",),
    "from_source": ("obtain",),
    "only": ("",),
    "refused": ("",),
}


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "action",
        nargs="?",
        choices=tuple(ACTIONS),
        help="default: list what is here",
    )
    parser.add_argument(
        "runtime",
        nargs="?",
        metavar="CONSTRAINT",
        help="such as 'node>=20' or 'java 17'; publish: an archive, its address, a folder, or a program",
    )
    parser.add_argument("--to", metavar="FOLDER", help="publish: where the catalogue is")
    parser.add_argument(
        "--copy", action="store_true", help="publish: copy the archive to the catalogue's folder"
    )
    parser.add_argument("--each", metavar="FILE", help="publish: everything that the lines of a file name")
    parser.add_argument(
        "--from-source", action="store_true", help="obtain: build it, where a catalogue has only its source"
    )
    add_several(parser, "--only", "LANGUAGE", "list only these languages")
    parser.add_argument(
        "--refused", action="store_true", help="also list what is not usable, with the reasons"
    )
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """List, look up, obtain or discard."""
    from rabbet.cli.views.recreating.runtimes import DiscardedView, ObtainedView, OffersView, RuntimesView
    from rabbet.tasks.recreating.runtimes import discard, look_up, obtain, runtimes_found

    machine, observer = context.machine, context.observer
    _refuse_out_of_place(arguments)
    if arguments.action is None:
        found = runtimes_found(context.project_if_any(), machine, observer, arguments.only)
        context.present(RuntimesView(found, refused=arguments.refused), as_json=arguments.json)
        return ExitCode.NO if found.missing else ExitCode.DONE
    if arguments.action == "publish":
        return _publish(arguments, context)
    if arguments.runtime is None:
        raise WrongUsage(
            f"rabbet runtimes {arguments.action}: which runtime was not said",
            remedy=f"rabbet runtimes {arguments.action} 'node>=20'",
        )
    if arguments.action == "discard":
        gone = discard(machine, arguments.runtime)
        context.present(DiscardedView(gone), as_json=arguments.json)
        return ExitCode.DONE
    project = context.project_if_any()
    if arguments.action == "lookup":
        offers = look_up(project, machine, observer, arguments.runtime)
        view = OffersView(offers, arguments.runtime)
        context.present(view, as_json=arguments.json)
        return ExitCode.DONE if offers else ExitCode.NO
    picked, program = obtain(project, machine, observer, arguments.runtime, from_source=arguments.from_source)
    context.present(ObtainedView(picked, program), as_json=arguments.json)
    return ExitCode.DONE


def _refuse_out_of_place(arguments: Namespace) -> None:
    """Raise `WrongUsage` for an option of another action than the one that is asked for."""
    actions = {"to": "publish", "copy": "publish", "each": "publish", "from_source": "obtain"}
    for option, action in actions.items():
        if getattr(arguments, option) and arguments.action != action:
            raise WrongUsage(
                f"--{option.replace('_', '-')} goes with runtimes {action}", remedy="rabbet runtimes --help"
            )


def _publish(arguments: Namespace, context: Context) -> int:
    """Publish one runtime, or what each line of a file names."""
    from rabbet.cli.views.recreating.runtimes import PublishedView
    from rabbet.workspace.runtimes.publishing import publish

    if (arguments.runtime is None) == (arguments.each is None):
        raise WrongUsage(
            "rabbet runtimes publish: which runtime was not said, or in two ways",
            because=["it takes one archive, folder or program, or --each FILE"],
            remedy="rabbet runtimes --help",
        )
    if arguments.to is None:
        what = f"--each {quoted(arguments.each)}" if arguments.each else quoted(arguments.runtime)
        raise WrongUsage(
            "where to publish the runtime was not said",
            remedy=f"rabbet runtimes publish {what} --to runtimes",
        )
    machine = context.machine
    folder = Path(os.path.abspath(path_named(arguments.to, machine.folder)))  # noqa: PTH100 - with its links
    if arguments.each is not None:
        return _publish_each(arguments, folder, context)
    done = publish(machine, context.observer, arguments.runtime, folder, copy=arguments.copy)
    context.present(PublishedView(done), as_json=arguments.json)
    return ExitCode.DONE


def _publish_each(arguments: Namespace, folder: Path, context: Context) -> int:
    """Publish what each line names; what can't be is told at the end, and hinders no other."""
    from rabbet.cli.views.recreating.runtimes import AllPublishedView
    from rabbet.disk.text_file import read_text
    from rabbet.workspace.runtimes.publishing import publish

    machine = context.machine
    lines = read_text(path_named(arguments.each, machine.folder), by_hand=True).splitlines()
    named = [line.strip() for line in lines if line.strip() and not line.strip().startswith("#")]
    done, failed = [], []
    for what in dict.fromkeys(named):
        try:
            done.append(publish(machine, context.observer, what, folder, copy=arguments.copy))
        except RabbetError as error:
            failed.append((what, error))
    context.present(AllPublishedView(done, failed), as_json=arguments.json)
    return ExitCode.NO if failed else ExitCode.DONE
