"""Take something out.

Removes libraries from pyproject.toml, from wherever they are declared or from one group or extra.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_section, section_of


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("libraries", metavar="library", nargs="+", help="the name of a declared library")
    add_section(parser, "take them only out of")
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Change the declaration and tell what changed."""
    from rabbet.cli.views.changes import show_changes
    from rabbet.tasks.declare import retract

    edited = retract(context.project(), arguments.libraries, section=section_of(arguments))
    return show_changes(context, edited, schema="retract", as_json=arguments.json)
