"""Make a library's commands available in every folder.

Installs the library into an environment of its own, locked, and puts launchers of its commands into your
folder for programs (~/.local/bin, or --to). With --in, they come from a place that exists. Alone: what is
lent. A launcher starts the command itself, and never replaces a program that Rabbet did not put there.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_offline
from rabbet.errors import ExitCode, WrongUsage


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("library", nargs="?", help="a library, such as mitewatch or 'mitewatch>=2'")
    parser.add_argument("--to", metavar="FOLDER", help="put the launchers here")
    parser.add_argument(
        "--raise",
        dest="raise_all",
        action="store_true",
        help="update what is lent, or the library that is named; one that does not start is put back",
    )
    parser.add_argument("--back", action="store_true", help="take the library's launchers back")
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Lend, list, raise or take back."""
    from rabbet.cli.views.more.lend import LentView, RaisedView
    from rabbet.core.needs.names import library_name
    from rabbet.core.needs.need import Need
    from rabbet.formats.text.requirement import parse_requirement
    from rabbet.tasks.more.lend import lend, lend_from, lent, raise_lent, take_back

    machine = context.machine
    if arguments.raise_all:
        names = [library_name(arguments.library)] if arguments.library else []
        found = tuple(raise_lent(names, machine, context.observer))
        context.present(RaisedView(found), as_json=arguments.json)
        return ExitCode.NO if any(raised.kept for raised in found) else ExitCode.DONE
    if arguments.back:
        if arguments.library is None:
            raise WrongUsage("no library was named", remedy="rabbet lend")
        note = take_back(library_name(arguments.library), machine)
        context.show(f"Took back {', '.join(note.commands)} from {note.folder}.")
        return ExitCode.DONE
    if arguments.library is None:
        context.present(LentView(tuple(lent(machine))), as_json=arguments.json)
        return ExitCode.DONE
    need: Need = parse_requirement(arguments.library)
    if context.place is None:
        made = lend(need, arguments.to, machine, context.observer)
    else:
        made = lend_from(context.session(), context.place.everywhere, need.name, arguments.to)
    context.present(LentView((made,), new=True), as_json=arguments.json)
    return ExitCode.DONE
