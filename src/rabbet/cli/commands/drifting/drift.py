"""Compare the installed libraries with the lock.

Reads the files in .venv, runs none of them, and compares what is installed with pylock.toml. Files are
compared with the records in the environment; unchanged ones are not read again. --deep compares each file
with the wheel whose hash is locked, and fetches what the store lacks for that. It can't detect compiled
modules that were changed in the store together with their digests. --against compares with another state.
--keep writes what was installed by hand into the declaration and the preferred versions.

Exit code 0: no drift, or notes only. 1: drift. With --silent nothing is printed: use the exit code, in
prompts, tests and containers.
"""

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import STATES, a_library, add_json, add_offline, add_variant
from rabbet.core.shell import joined_words
from rabbet.errors import ExitCode, WrongUsage

if TYPE_CHECKING:
    from rabbet.api import Rabbet
    from rabbet.cli.context import View
    from rabbet.workspace.session import Session


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("--deep", action="store_true", help="compare every file with the locked hashes")
    parser.add_argument(
        "--against",
        metavar="STATE",
        help=f"in place of the lock: {STATES}",
    )
    parser.add_argument(
        "--env",
        metavar="PATH",
        help="look at another environment, an interpreter's folder, or a folder of libraries",
    )
    parser.add_argument(
        "--keep",
        metavar="LIBRARY",
        nargs="*",
        action="extend",
        type=a_library,
        help="declare these in the installed versions (without a name: all that was installed by hand)",
    )
    parser.add_argument(
        "--group", metavar="NAME", help="--keep: declare new libraries in this dependency group"
    )
    parser.add_argument("--yes", action="store_true", help="--keep: ask nothing")
    parser.add_argument("--silent", action="store_true", help="print nothing; use the exit code")
    add_variant(parser, every=True)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Compare and tell every difference."""
    project = context.rabbet(arguments.variant)
    special = (arguments.against, arguments.env, arguments.deep, arguments.json, arguments.keep is not None)
    if arguments.silent and arguments.verbose:
        raise WrongUsage("--silent prints nothing, --verbose more than usual", remedy="rabbet drift --silent")
    if not any(special) and _known_to_be_none(project, context, silent=arguments.silent):
        return ExitCode.DONE
    if arguments.keep is not None:
        return _keep(arguments, project.session, context)
    from rabbet.cli.views.drifting.drift import DriftView

    found = project.drift(place=arguments.env, against=arguments.against, deep=arguments.deep)
    _present(DriftView(found), arguments, context)
    return ExitCode.NO if found.differs else ExitCode.DONE


def _known_to_be_none(project: "Rabbet", context: Context, *, silent: bool) -> bool:
    """Tell what an earlier run found, of the very same files and texts: nothing; whether there was one."""
    compared = project.known_drift(notes=not silent)
    if compared is not None and not silent:
        from rabbet.cli.views.recreating.unchanged import no_drift_text

        context.show(no_drift_text(compared))
    return compared is not None


def _present(view: "View", arguments: Namespace, context: Context) -> None:
    """Print what was found, unless the exit code alone is wanted."""
    if arguments.json or not arguments.silent:
        context.present(view, as_json=arguments.json)


def _keep(arguments: Namespace, session: "Session", context: Context) -> int:
    """Show what keeping means, and write it once that is agreed to."""
    from rabbet.cli.terminal.prompt import agreed
    from rabbet.cli.views.drifting.drift import outcome, show_keeping
    from rabbet.core.declaration.model import Section
    from rabbet.core.needs.names import library_name
    from rabbet.tasks.drifting.keep import keeping, save

    if arguments.against or arguments.env or arguments.deep:
        raise WrongUsage(
            "--keep is for what was installed into the project's own environment",
            remedy=joined_words(["rabbet", "drift", "--keep", *arguments.keep]),
        )
    section = Section("group", library_name(arguments.group)) if arguments.group else None
    kept = keeping(session, arguments.keep, section)
    if not arguments.json:
        show_keeping(kept, context)
    written = agreed(context, "Write that?", yes=arguments.yes, may_ask=not arguments.json)
    if written:
        save(kept)
    if arguments.json:
        from rabbet.documents.drifting.drift import KeepDocument

        context.show_json(KeepDocument(kept, written))
    else:
        context.show(outcome(kept, arguments.keep, arguments.group, written=written, context=context))
    return ExitCode.DONE if written else ExitCode.NO
