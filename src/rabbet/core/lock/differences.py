"""Differences between two locks, each with the change of the declaration that caused it."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from enum import StrEnum
from typing import TypeVar

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.entries import key_entries
from rabbet.core.declaration.keys import KEYS
from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, LockedFile, LockedLibrary, runtime_name
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text, specifiers_text

__all__ = ["DeclaredChange", "Difference", "DifferenceKind", "declared_changes", "differences"]

_Value = TypeVar("_Value")
_NEAREST = 2


class DifferenceKind(StrEnum):
    """The kinds of differences between two locks."""

    ADDED = "added"
    REMOVED = "removed"
    RAISED = "raised"
    LOWERED = "lowered"
    FILES = "files"


class DeclaredChange(Struct, frozen=True, kw_only=True):
    """A declared requirement (or `python`) before and after; empty where there was or is none."""

    name: str
    before: str
    after: str


class Difference(Struct, frozen=True, kw_only=True):
    """One library that differs, and the nearest cause that the two locks and declarations show.

    A lock for several targets may hold several versions of it: then they are listed, the newest first.
    """

    kind: DifferenceKind
    name: NormalizedName
    before: tuple[Version, ...]
    after: tuple[Version, ...]
    cause: str


def declared_changes(old: Declaration | None, new: Declaration | None) -> tuple[DeclaredChange, ...]:
    """The differences between two declarations; empty when one of them is unknown."""
    if old is None or new is None:
        return ()
    before, after = _declared(old), _declared(new)
    changed = (
        DeclaredChange(name=name, before=before.get(name, ""), after=after.get(name, ""))
        for name in sorted({*before, *after})
    )
    return tuple(change for change in changed if change.before != change.after)


def differences(
    old: Lock,
    new: Lock,
    declared: tuple[DeclaredChange, ...],
    needs: Callable[[LockedLibrary], Iterable[Need]],
    declaration: Declaration,
    *,
    unexplained: str = "chosen again",
) -> tuple[Difference, ...]:
    """Every runtime and every library that differs, sorted by name.

    `needs` gives what a library of the new lock requires, and the `declaration` what else was heeded. What
    neither explains is `unexplained`.
    """
    before, after = _by_name(old), _by_name(new)
    kinds = {name: _kind(before.get(name, ()), after.get(name, ())) for name in sorted({*before, *after})}
    differing = {name: kind for name, kind in kinds.items() if kind is not None}
    causes = {change.name: change for change in declared}
    above_before, above_after = (
        (_Above(libraries, causes), _Above(libraries, differing)) for libraries in (before, after)
    )
    requirers = _Requirers(new, needs, declaration)
    return tuple(_runtime_differences(old, new, causes, unexplained)) + tuple(
        Difference(
            kind=kind,
            name=name,
            before=tuple(library.version for library in before.get(name, ())),
            after=tuple(library.version for library in after.get(name, ())),
            cause=(requirers.who_asks(name, before.get(name, ())) if name not in causes else "")
            or _cause(name, kind, differing, causes, above_after if name in after else above_before)
            or unexplained,
        )
        for name, kind in differing.items()
    )


def _runtime_differences(
    old: Lock, new: Lock, declared: Mapping[str, DeclaredChange], unexplained: str
) -> Iterator[Difference]:
    """Every runtime whose version differs, sorted by language."""
    before = {runtime_name(runtime.language): runtime.version for runtime in old.runtimes}
    after = {runtime_name(runtime.language): runtime.version for runtime in new.runtimes}
    for name in sorted({*before, *after}):
        was, is_now = before.get(name), after.get(name)
        if was == is_now:
            continue
        change = declared.get(name) or declared.get("python" if name == runtime_name("python") else "")
        if was is None or is_now is None:
            kind = DifferenceKind.REMOVED if is_now is None else DifferenceKind.ADDED
        else:
            kind = DifferenceKind.RAISED if is_now > was else DifferenceKind.LOWERED
        yield Difference(
            kind=kind,
            name=name,
            before=() if was is None else (was,),
            after=() if is_now is None else (is_now,),
            cause=_text(change) if change else unexplained,
        )


def _declared(declaration: Declaration) -> dict[str, str]:
    """All that is declared of each name, in one text."""
    texts: dict[str, list[str]] = {}
    for requirement in declaration.declared():
        section = f" ({requirement.section})" if requirement.section else ""
        texts.setdefault(requirement.need.name, []).append(need_text(requirement.need) + section)
    joined = {name: ", ".join(sorted(found)) for name, found in texts.items()}
    for key in KEYS:
        for entry in key_entries(declaration, key) if key.on_lock and key.entry else ():
            subject = f"{entry.what} {entry.name}".rstrip()
            joined[subject] = subject if entry.text == entry.name else entry.text
    joined |= {runtime_name(runtime.language): str(runtime) for runtime in declaration.runtimes}
    python = specifiers_text(declaration.python)
    return {**joined, "python": f"python{python}"} if python else joined


def _by_name(lock: Lock) -> Mapping[NormalizedName, tuple[LockedLibrary, ...]]:
    return {
        name: tuple(sorted(entries, key=lambda library: library.version, reverse=True))
        for name, entries in _grouped((library.name, library) for library in lock.libraries).items()
    }


def _kind(before: Sequence[LockedLibrary], after: Sequence[LockedLibrary]) -> DifferenceKind | None:
    if not before or not after:
        return DifferenceKind.ADDED if after else DifferenceKind.REMOVED
    old, new = [library.version for library in before], [library.version for library in after]
    if old != new:
        return DifferenceKind.RAISED if new > old else DifferenceKind.LOWERED
    old_content, new_content = _content(before), _content(after)
    known = old_content and new_content  # an inventory lists no files
    return DifferenceKind.FILES if known and old_content != new_content else None


def _content(entries: Sequence[LockedLibrary]) -> set[object]:
    """The identity of an entry's content: digests of files, commits."""
    return {
        artifact.sha256 if isinstance(artifact, LockedFile) else artifact
        for entry in entries
        for artifact in entry.artifacts
    }


class _Requirers:
    """Who of the new lock asks for a library that was not there, or does not admit what it was."""

    def __init__(
        self, new: Lock, needs: Callable[[LockedLibrary], Iterable[Need]], declaration: Declaration
    ) -> None:
        self._needs = needs
        self._declaration = declaration
        self._limits = _grouped((limit.name, limit) for limit in declaration.limits)
        self._requirers = _grouped(
            (name, library) for library in new.libraries for name in library.dependencies
        )

    def who_asks(self, name: NormalizedName, before: Sequence[LockedLibrary]) -> str:
        """The one that asks, with what it asks for; empty if nobody does."""
        declared_by = self._declaration.name
        if name in self._declaration.without:
            return f"{declared_by} keeps it out"
        old = max((library.version for library in before), default=None)
        for limit in self._limits.get(name, ()):
            if not (old is None or limit.specifier.contains(old, prereleases=True)):
                return f"{declared_by} sets the limit {need_text(limit, marker=False)}"
        for library in self._requirers.get(name, ()):
            for need in self._needs(library):
                if need.name != name or not (need.specifier or old is None):
                    continue
                if old is None or not need.specifier.contains(old, prereleases=True):
                    return f"{library.name} {library.version} needs {need_text(need, marker=False)}"
        return ""


class _Above:
    """For every library of a lock: the nearest of some others that needs it, directly or through more."""

    def __init__(
        self, libraries: Mapping[NormalizedName, Sequence[LockedLibrary]], others: Iterable[str]
    ) -> None:
        self._libraries = libraries
        self._nearest: dict[NormalizedName, list[NormalizedName]] = {name: [] for name in libraries}
        level = [(name, name) for name in libraries.keys() & set(others)]
        while level:
            level = [*self._next_level(sorted(level))]

    def nearest(self, name: NormalizedName) -> NormalizedName | None:
        """The nearest other one; of several that are equally near, the first by name."""
        return next((other for other in self._nearest.get(name, ()) if other != name), None)

    def _next_level(
        self, level: Iterable[tuple[NormalizedName, NormalizedName]]
    ) -> Iterator[tuple[NormalizedName, NormalizedName]]:
        """Give the libraries of this level those above them; what these need makes up the next one."""
        for other, name in level:
            nearest = self._nearest.get(name)
            # Two are enough: one of them may be the library itself, and then the second counts.
            if nearest is None or other in nearest or len(nearest) == _NEAREST:
                continue
            nearest.append(other)
            for library in self._libraries[name]:
                yield from ((other, needed) for needed in library.dependencies)


def _cause(
    name: NormalizedName,
    kind: DifferenceKind,
    kinds: Mapping[NormalizedName, DifferenceKind],
    declared: Mapping[str, DeclaredChange],
    above: tuple[_Above, _Above],
) -> str:
    """The nearest cause; empty when unknown.

    That is the library's own declaration, else that of the nearest one that needs it, else the nearest one
    that differs itself; `above` knows these two.
    """
    if name in declared:
        return _text(declared[name])
    with_change, differing = (layer.nearest(name) for layer in above)
    if with_change is not None:
        return f"needed by {with_change} ({_text(declared[with_change])})"
    if differing is not None:
        return f"needed by {differing} ({kinds[differing]} too)"
    if "python" in declared:
        return _text(declared["python"])
    return "other files of the same release" if kind is DifferenceKind.FILES else ""


def _grouped(pairs: Iterable[tuple[NormalizedName, _Value]]) -> Mapping[NormalizedName, Sequence[_Value]]:
    found: dict[NormalizedName, list[_Value]] = {}
    for name, value in pairs:
        found.setdefault(name, []).append(value)
    return found


def _text(change: DeclaredChange) -> str:
    if not change.before:
        return f"declared: {change.after}"
    return f"declared: {change.before} → {change.after}" if change.after else f"retracted: {change.before}"
