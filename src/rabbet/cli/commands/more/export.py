"""Export the lock: list, bill, table, container, editor, kernel.

Files that Rabbet wrote are replaced, unless they were edited; --force replaces those too. `drift` reports
exports that are stale.
"""

import os
from argparse import ArgumentParser, Namespace
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_several, add_variant
from rabbet.disk.named import path_named
from rabbet.errors import ExitCode, WrongUsage

if TYPE_CHECKING:
    from rabbet.core.model.options import RecreateOptions


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("what", choices=tuple(ACTIONS), help="what to export")
    parser.add_argument("script", nargs="?", help="script: which one")
    parser.add_argument(
        "--to",
        metavar="FILE",
        help="list, bill, table: write this file, not standard output; script: a folder",
    )
    add_several(parser, "--group", "NAME", "list, container: with these groups")
    add_several(parser, "--extra", "NAME", "list, container: with these extras")
    parser.add_argument("--everything", action="store_true", help="list, container: all groups and extras")
    parser.add_argument("--base", metavar="IMAGE", help="container: the image that brings Python")
    add_several(parser, "--command", "WORD", "container: what it runs (default: python)", dest="words")
    parser.add_argument("--force", action="store_true", help="container, editor: replace edited files, too")
    parser.add_argument(
        "--back", action="store_true", help="kernel: take it back; kernels: those that lost their environment"
    )
    add_variant(parser)
    add_json(parser)


_TEXTS = ("list", "bill", "table")  # one file, or standard output
ACTIONS = {
    "list": "A plain list of requirements with hashes and markers.",
    "bill": "A bill of materials (CycloneDX JSON): licences, hashes, who needs whom.",
    "table": "A table for a spreadsheet (CSV): licences, and why each library is there.",
    "container": "Containerfile and .containerignore; the libraries come from what `carry` put together.",
    "editor": "The description of a development container, and the paths that editors ask for.",
    "kernel": "The environment as a kernel for notebooks, in your folder for kernels; --back removes it.",
    "script": "A folder with a script and all that it needs, for a machine without network.",
    "kernels": "List the kernels that were registered; --back removes those whose environment is gone.",
}
ONLY = {  # the options that count for some exports alone
    "to": (*_TEXTS, "script"),
    "group": ("list", "container"),
    "extra": ("list", "container"),
    "everything": ("list", "container"),
    "base": ("container",),
    "words": ("container",),
    "force": ("container", "editor"),
    "back": ("kernel", "kernels"),
    "script": ("script",),
}


def run(arguments: Namespace, context: Context) -> int:
    """Export."""
    for name, exports in ONLY.items():
        if getattr(arguments, name) and arguments.what not in exports:
            option = {"words": "--command", "script": "a script"}.get(name, f"--{name}")
            raise WrongUsage(
                f"{option} means nothing to a {arguments.what}",
                because=[f"it is for: {', '.join(exports)}"],
                remedy="rabbet export --help",
            )
    if arguments.what == "kernels":
        return _kernels(arguments, context)
    if arguments.what == "kernel":
        return _kernel(arguments, context)
    if arguments.what == "script":
        return _script(arguments, context)
    from rabbet.cli.views.more.export import ExportedView
    from rabbet.tasks.more.export import (
        ContainerOptions,
        export_bill,
        export_container,
        export_editor,
        export_list,
        export_table,
    )

    session = context.session(arguments.variant)
    if arguments.what == "list":
        return _give(export_list(session, _options(arguments)), arguments, context)
    if arguments.what in _TEXTS:
        whole = export_bill if arguments.what == "bill" else export_table
        return _give(whole(session), arguments, context)
    wanted = ContainerOptions(
        base=arguments.base or "", command=tuple(arguments.words), force=arguments.force
    )
    if arguments.what == "container":
        exported = export_container(session, _options(arguments), wanted)
    else:
        exported = export_editor(session, wanted)
    view = ExportedView(exported, arguments.what, arguments.variant)
    context.present(view, as_json=arguments.json)
    return ExitCode.DONE


def _options(arguments: Namespace) -> "RecreateOptions":
    from rabbet.core.model.options import RecreateOptions

    if arguments.everything:
        return RecreateOptions(everything=True)
    return RecreateOptions(groups=arguments.group or (), extras=arguments.extra or ())


def _give(text: str, arguments: Namespace, context: Context) -> int:
    """Print the text, or write it into a file."""
    from rabbet.disk.atomic import write_text

    if arguments.json and arguments.what != "bill":
        raise WrongUsage(
            f"`rabbet export {arguments.what}` has no JSON form; a bill is JSON", remedy="rabbet export bill"
        )
    if arguments.to is None:
        context.show_text(text)
        return ExitCode.DONE
    path = path_named(arguments.to, context.machine.folder)
    write_text(path, text, below=context.project().folder)
    context.show(f"Wrote {arguments.to}.")
    return ExitCode.DONE


def _kernels(arguments: Namespace, context: Context) -> int:
    """List what was registered, wherever the current folder is, or remove what lost its environment."""
    from rabbet.cli.views.more.kernels import KernelsView
    from rabbet.tasks.more.kernels import kernels_here, take_lost_back

    back = arguments.back
    found = take_lost_back(context.machine) if back else kernels_here(context.machine)
    context.present(KernelsView(tuple(found), registered=not back), as_json=arguments.json)
    return ExitCode.DONE


def _kernel(arguments: Namespace, context: Context) -> int:
    """Register the environment, or take that back."""
    from rabbet.cli.views.more.kernels import KernelView
    from rabbet.tasks.more.kernels import register_kernel, take_kernel_back

    session = context.session(arguments.variant)
    act = take_kernel_back if arguments.back else register_kernel
    context.present(KernelView(act(session), registered=not arguments.back), as_json=arguments.json)
    return ExitCode.DONE


def _script(arguments: Namespace, context: Context) -> int:
    """Write a folder that runs a script anywhere."""
    if arguments.to is None or (arguments.script is None and context.place is None):
        raise WrongUsage("a script and a folder are needed", remedy="rabbet export script --help")
    from rabbet.cli.placed import carry_out_in
    from rabbet.cli.views.more.carry import ScriptFolderView
    from rabbet.tasks.more.script_folder import export_script

    def write(context: Context) -> int:
        place = Path(os.path.normpath(path_named(arguments.to, context.machine.folder)))
        carried = export_script(context.session(), place)
        context.present(ScriptFolderView(carried), as_json=arguments.json)
        return ExitCode.DONE

    if context.place is not None:
        return write(context)
    return carry_out_in(arguments.script, write, context, writing=False, locking=False)
