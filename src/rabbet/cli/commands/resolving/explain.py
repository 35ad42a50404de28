"""Show why a library is locked, and what holds it back.

With a name: what requires the library, along which paths and for which groups, and what keeps it from its
newest release. Without a name: the whole graph as a tree.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import a_library, add_json, add_offline, add_variant
from rabbet.errors import ExitCode, WrongUsage


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "name", nargs="?", type=a_library, help="a locked library, or the language of a locked runtime"
    )
    parser.add_argument(
        "--sizes", action="store_true", help="in the tree: the size of each, alone and with what it requires"
    )
    parser.add_argument(
        "--held-back",
        action="store_true",
        help="list libraries that are not at their newest release, and what holds them",
    )
    add_variant(parser)
    add_offline(parser)
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Explain one library, or all."""
    from rabbet.cli.views.resolving.explain import HeldBackView, LibraryView, TreeView
    from rabbet.core.needs.names import library_name
    from rabbet.tasks.resolving.explain import Explained

    project = context.rabbet(arguments.variant)
    if arguments.name is not None:
        if arguments.sizes or arguments.held_back:
            raise WrongUsage(
                "--sizes and --held-back can't be combined with a name", remedy="rabbet explain --held-back"
            )
        found = project.explain(arguments.name)
        if isinstance(found, Explained):
            context.present(LibraryView(found, library_name(arguments.name)), as_json=arguments.json)
        else:
            from rabbet.cli.views.recreating.runtimes import RuntimeView

            context.present(RuntimeView(found), as_json=arguments.json)
        return ExitCode.DONE
    explained = project.explain_all(holders=arguments.held_back)
    view = HeldBackView(explained) if arguments.held_back else TreeView(explained, sizes=arguments.sizes)
    context.present(view, as_json=arguments.json)
    return ExitCode.DONE
