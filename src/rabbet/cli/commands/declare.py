"""Add or change runtimes and libraries.

Writes requirements into pyproject.toml; its comments and order stay. A name alone is written as it is: loose.
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
    add_section(parser, "put the libraries into")
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Change the declaration and tell what changed."""
    from rabbet.cli.views.changes import show_changes
    from rabbet.tasks.declare import declare

    if not arguments.requirement and arguments.runtime is None:
        raise WrongUsage("nothing was given to declare", remedy="rabbet declare 'nectarplot>=2'")
    edited = declare(
        context.project(), arguments.requirement, section=section_of(arguments), runtime=arguments.runtime
    )
    return show_changes(context, edited, schema="declare", as_json=arguments.json)
