"""The view of `envs`."""

from collections.abc import Sequence
from pathlib import Path

from rabbet.cli.context import Context
from rabbet.documents.amounts import count, day, size_text
from rabbet.documents.recreating.envs import EnvironmentsDocument, state_text
from rabbet.tasks.recreating.envs import KnownEnvironment

__all__ = ["EnvironmentsView", "path_labels"]

_NARROW, _LEAST = 72, 20  # characters: of a terminal, and of a path in it


class EnvironmentsView(EnvironmentsDocument, frozen=True):
    """The environments of this machine, one row each."""

    def show(self, context: Context) -> None:
        """Print one row an environment; in a narrow terminal, what tells them apart comes first."""
        width = context.style.width
        narrow = 0 < width < _NARROW
        headings = ["environment", "python", "used", "own", "shared", "state"]
        most = max(_LEAST, width - (42 if narrow else 59)) if width else 0
        roots = [
            Path(environment.place) if environment.place else environment.root for environment in self.found
        ]
        labels = path_labels(roots, context.machine.home, most)
        rows = [
            [
                label,
                str(environment.python or "-"),
                day(environment.used) if environment.used else "-",
                size_text(environment.size.own),
                size_text(environment.size.shared),
                _state(environment),
            ]
            for label, environment in zip(labels, self.found, strict=True)
        ]
        if rows:
            shown = [0, 2, 3, 5] if narrow else range(len(headings))
            context.show_table([headings[i] for i in shown], [[row[i] for i in shown] for row in rows])
            context.show()
        context.show(_outcome(self.found))


def _outcome(found: Sequence[KnownEnvironment]) -> str:
    fitting = sum(environment.unfit is None for environment in found)
    counted = f"{count(len(found), 'environment')} on this machine"
    if not found:
        return f"{counted}."
    if all(environment.checked for environment in found):
        return f"{counted}; as locked: {fitting}."
    return f"{counted}; made from the present lock: {fitting}. To compare the files too: rabbet envs --check"


def _state(environment: KnownEnvironment) -> str:
    """How it stands to its lock, what was chosen if that is not all, and whether it is active."""
    parts = [state_text(environment)]
    if environment.groups is not None and environment.extras is not None:
        parts.append(f"with {', '.join((*environment.extras, *environment.groups)) or 'no groups'}")
    return ", ".join([*parts, *(["active"] if environment.active else [])])


def path_labels(roots: Sequence[Path], home: Path, most: int) -> list[str]:
    """Where environments lie, in `most` characters (0: in as many as it takes), so that no two look alike.

    Of a longer path the last folders are shown, as many as no other one has; those in the middle give way,
    unless two would look alike then.
    """
    whole = [f"~/{root.relative_to(home)}" if home in root.parents else str(root) for root in roots]
    if not most:
        return whole
    tails = [_tail(root, [other for other in roots if other != root]) for root in roots]
    short = [
        path if len(path) <= most else _shortened(path, tail, most)
        for path, tail in zip(whole, tails, strict=True)
    ]
    return [label if short.count(label) == 1 else tail for label, tail in zip(short, tails, strict=True)]


def _tail(root: Path, others: Sequence[Path]) -> str:
    """The last folders of a path, the project's at least, as many as tell it from the others."""
    number = 2
    while any(other.parts[-number:] == root.parts[-number:] for other in others):
        number += 1
    return "/".join(root.parts[-number:])


def _shortened(path: str, tail: str, most: int) -> str:
    if len(tail) < most:
        return f"…{path[len(path) - most + 1 :]}"
    first = tail.partition("/")[0][: most // 2]
    return f"{first}…{tail[len(tail) - (most - len(first) - 1) :]}"
