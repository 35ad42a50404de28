"""Take something out.

Removes libraries from pyproject.toml, from wherever they are declared or from one group, extra or variant; a
group, an extra or a variant named alone goes with all that is in it. 'combframe[fast]' takes out the extra
alone. What the options name is taken out likewise.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_listed, add_now, add_section, edits_of
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
    add_listed(
        parser,
        target=("PLATFORM", "platforms to lock for"),
        python=("VERSION", "versions of Python to lock for"),
        baseline=("LIBC", "baselines, such as glibc"),
        source=("NAME", "sources, by their names"),
        catalogue=("NAME", "catalogues of runtimes, by their names"),
        limit=("LIBRARY", "limits"),
        without=("LIBRARY", "libraries that may come in again"),
        local=("LIBRARY", "checkouts, by the libraries that they stand in for"),
        build_from_source=("LIBRARY", "libraries that may not be built here any more"),
        correction=("RELEASES", "corrections, by what they apply to, such as nectarplot==2.1"),
    )
    add_section(parser, "take libraries only out of")
    add_now(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Change the declaration and tell what changed."""
    from rabbet.cli.views.changes import ChangesView

    edits = edits_of("retract", arguments)
    if not edits:
        raise WrongUsage("nothing was given to retract", remedy="rabbet declare")
    done = context.rabbet().edit(edits, now=arguments.now)
    context.present(ChangesView(done), as_json=arguments.json)
    return ExitCode.DONE
