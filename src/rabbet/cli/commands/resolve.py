"""Settle every version, write the lock.

Chooses the newest releases that meet every requirement on this machine, and writes them with their files and
hashes into pylock.toml. What is locked already stays where the declaration allows it.
"""

from argparse import ArgumentParser, Namespace
from collections.abc import Mapping, Sequence

from packaging.utils import NormalizedName, canonicalize_name

from rabbet.cli.context import Context
from rabbet.cli.options import add_json, add_quiet
from rabbet.cli.style import count, table
from rabbet.core.model.declaration import Declaration
from rabbet.errors import ExitCode
from rabbet.tasks.resolve import Move, Resolved, resolve

_SHOWN_REQUIRERS = 2


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument(
        "--raise",
        dest="raised",
        metavar="NAME",
        nargs="+",
        default=[],
        help="let these move to newer releases",
    )
    parser.add_argument(
        "--raise-all", action="store_true", help="let everything move, the runtime too; no old lock is needed"
    )
    add_json(parser)
    add_quiet(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Resolve and tell what moved."""
    project = context.project()
    resolved = resolve(
        project,
        context.machine,
        context.observer,
        raised=arguments.raised,
        raise_all=arguments.raise_all,
    )
    if arguments.json:
        context.show_json("resolve", _document(resolved))
    else:
        _show(resolved, project.declaration(), context)
    return ExitCode.DONE


def _show(resolved: Resolved, declaration: Declaration, context: Context) -> None:
    locked = count(len(resolved.lock.libraries), "library")
    if resolved.untouched:
        context.show(f"pylock.toml is up to date: {locked} for {resolved.target}. Next: rabbet recreate")
        return
    if resolved.moves:
        asked = _asked_by(resolved, declaration)
        rows = [
            (move.name, _text(move.before), _text(move.after), asked.get(move.name, ""))
            for move in resolved.moves
        ]
        for line in table(("library", "before", "locked", "asked for by"), rows, context.style):
            context.show(line)
        context.show()
    moved = "" if resolved.moves else ", no version moved"
    context.show(f"Locked {locked} for {resolved.target}{moved}. Next: rabbet recreate")


def _text(version: object) -> str:
    return "-" if version is None else str(version)


def _asked_by(resolved: Resolved, declaration: Declaration) -> Mapping[NormalizedName, str]:
    """For each locked library: the declaration (with the group), else the libraries that need it."""
    asked: dict[NormalizedName, str] = {}
    for library in resolved.lock.libraries:
        needed_by = [one.name for one in resolved.lock.libraries if library.name in one.dependencies]
        asked[library.name] = _some(needed_by)
    for one in declaration.declared():
        name = canonicalize_name(one.requirement.name)
        if one.group is None:
            asked[name] = declaration.name
        elif asked.get(name) != declaration.name:
            asked[name] = f"{declaration.name}, group {one.group}"
    return asked


def _some(names: Sequence[str]) -> str:
    more = len(names) - _SHOWN_REQUIRERS
    return ", ".join(names[:_SHOWN_REQUIRERS]) + (f" and {more} more" if more > 0 else "")


def _document(resolved: Resolved) -> dict[str, object]:
    return {
        "target": {"platform": resolved.target.platform, "python": str(resolved.target.python)},
        "untouched": resolved.untouched,
        "libraries": [
            {"name": one.name, "version": str(one.version), "dependencies": list(one.dependencies)}
            for one in resolved.lock.libraries
        ],
        "moves": [_move(move) for move in resolved.moves],
    }


def _move(move: Move) -> dict[str, str | None]:
    return {
        "name": move.name,
        "before": None if move.before is None else str(move.before),
        "after": None if move.after is None else str(move.after),
    }
