"""Add or change runtimes and libraries.

Writes requirements, the runtime's constraint and the platforms to lock for into pyproject.toml; its comments
and order stay. A name alone is written as it is: loose.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_section, section_of
from rabbet.errors import WrongUsage


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "requirement",
        nargs="*",
        help="such as nectarplot, 'combframe[fast]>=2,<4', \"skepio; os_name == 'nt'\"",
    )
    parser.add_argument("--runtime", metavar="CONSTRAINT", help="such as 'python>=3.11,<3.14'")
    parser.add_argument(
        "--target",
        metavar="PLATFORM",
        nargs="+",
        default=[],
        help="platforms that the lock must serve too, such as linux-x86_64 macos-arm64",
    )
    add_section(parser, "put the libraries into")
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Change the declaration and tell what changed."""
    from rabbet.cli.views.changes import show_changes
    from rabbet.tasks.declare import declare

    if not (arguments.requirement or arguments.target) and arguments.runtime is None:
        raise WrongUsage("nothing was given to declare", remedy="rabbet declare 'nectarplot>=2'")
    edited = declare(
        context.project(),
        arguments.requirement,
        section=section_of(arguments),
        runtime=arguments.runtime,
        targets=arguments.target,
    )
    return show_changes(context, edited, schema="declare", as_json=arguments.json)
