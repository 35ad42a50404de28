"""What differs between two locks, and which change of the declaration brought it about."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from enum import StrEnum

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock, LockedFile, LockedLibrary, runtime_name
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text, specifiers_text

__all__ = ["DeclaredChange", "Difference", "DifferenceKind", "declared_changes", "differences"]


class DifferenceKind(StrEnum):
    """What became of a library."""

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
    """What differs between two declarations; nothing when one of them is unknown."""
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
    unexplained: str = "chosen anew",
) -> tuple[Difference, ...]:
    """Every runtime and every library that differs, sorted by name.

    `needs` gives what a library of the new lock requires, and the `declaration` what else was heeded. What
    neither explains is `unexplained`.
    """
    before, after = _by_name(old), _by_name(new)
    kinds = {name: _kind(before.get(name, ()), after.get(name, ())) for name in sorted({*before, *after})}
    differing = {name: kind for name, kind in kinds.items() if kind is not None}
    causes = {change.name: change for change in declared}
    return tuple(_runtime_differences(old, new, causes, unexplained)) + tuple(
        Difference(
            kind=kind,
            name=name,
            before=tuple(one.version for one in before.get(name, ())),
            after=tuple(one.version for one in after.get(name, ())),
            cause=(
                _requirer(name, before.get(name, ()), new, needs, declaration) if name not in causes else ""
            )
            or _cause(name, kind, differing, causes, after if name in after else before)
            or unexplained,
        )
        for name, kind in differing.items()
    )


def _runtime_differences(
    old: Lock, new: Lock, declared: Mapping[str, DeclaredChange], unexplained: str
) -> Iterator[Difference]:
    """Every runtime whose version differs, sorted by language."""
    before = {runtime_name(one.language): one.version for one in old.runtimes}
    after = {runtime_name(one.language): one.version for one in new.runtimes}
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
    for one in declaration.declared():
        section = f" ({one.section})" if one.section else ""
        texts.setdefault(one.need.name, []).append(need_text(one.need) + section)
    joined = {name: ", ".join(sorted(found)) for name, found in texts.items()}
    joined |= {f"limit {limit.name}": need_text(limit) for limit in declaration.limits}
    joined |= {f"without {name}": f"without {name}" for name in declaration.without}
    joined |= {
        f"correction of {correction.applies_to}": str(correction) for correction in declaration.corrections
    }
    joined |= {runtime_name(one.language): str(one) for one in declaration.runtimes}
    python = specifiers_text(declaration.python)
    return {**joined, "python": f"python{python}"} if python else joined


def _by_name(lock: Lock) -> Mapping[NormalizedName, tuple[LockedLibrary, ...]]:
    found: dict[NormalizedName, list[LockedLibrary]] = {}
    for library in lock.libraries:
        found.setdefault(library.name, []).append(library)
    return {
        name: tuple(sorted(entries, key=lambda one: one.version, reverse=True))
        for name, entries in found.items()
    }


def _kind(before: Sequence[LockedLibrary], after: Sequence[LockedLibrary]) -> DifferenceKind | None:
    if not before or not after:
        return DifferenceKind.ADDED if after else DifferenceKind.REMOVED
    old, new = [one.version for one in before], [one.version for one in after]
    if old != new:
        return DifferenceKind.RAISED if new > old else DifferenceKind.LOWERED
    old_content, new_content = _content(before), _content(after)
    known = old_content and new_content  # an inventory tells of no files
    return DifferenceKind.FILES if known and old_content != new_content else None


def _content(entries: Sequence[LockedLibrary]) -> set[object]:
    """The identity of an entry's content: digests of files, commits."""
    return {
        artifact.sha256 if isinstance(artifact, LockedFile) else artifact
        for entry in entries
        for artifact in entry.artifacts
    }


def _requirer(
    name: NormalizedName,
    before: Sequence[LockedLibrary],
    new: Lock,
    needs: Callable[[LockedLibrary], Iterable[Need]],
    declaration: Declaration,
) -> str:
    """Who asks for a library that was not there, or does not admit what it was; empty if nobody does."""
    if name in declaration.without:
        return f"{declaration.name} keeps it out"
    old = max((one.version for one in before), default=None)
    for limit in declaration.limits:
        admitted = old is None or limit.specifier.contains(old, prereleases=True)
        if limit.name == name and not admitted:
            return f"{declaration.name} sets the limit {need_text(limit, marker=False)}"
    for library in new.libraries:
        for need in needs(library) if name in library.dependencies else ():
            if need.name != name or not (need.specifier or old is None):
                continue
            if old is None or not need.specifier.contains(old, prereleases=True):
                return f"{library.name} {library.version} needs {need_text(need, marker=False)}"
    return ""


def _cause(
    name: NormalizedName,
    kind: DifferenceKind,
    differing: Mapping[NormalizedName, DifferenceKind],
    declared: Mapping[str, DeclaredChange],
    libraries: Mapping[NormalizedName, Sequence[LockedLibrary]],
) -> str:
    """Name the nearest cause; empty where none is known.

    That is the library's own declaration, else that of the nearest one that needs it, else the nearest one
    that differs itself.
    """
    if name in declared:
        return _text(declared[name])
    above = list(_above(name, libraries))
    for requirer in above:
        if requirer in declared:
            return f"needed by {requirer} ({_text(declared[requirer])})"
    for requirer in above:
        if requirer in differing:
            return f"needed by {requirer} ({differing[requirer]} too)"
    if "python" in declared:
        return _text(declared["python"])
    return "other files of the same release" if kind is DifferenceKind.FILES else ""


def _above(
    name: NormalizedName, libraries: Mapping[NormalizedName, Sequence[LockedLibrary]]
) -> Iterator[NormalizedName]:
    """Everyone who needs a library, the nearest first."""
    seen, level = {name}, [name]
    while level:
        level = sorted(
            name
            for name, entries in libraries.items()
            if name not in seen and any(not set(level).isdisjoint(entry.dependencies) for entry in entries)
        )
        seen |= set(level)
        yield from level


def _text(change: DeclaredChange) -> str:
    if not change.before:
        return f"declared: {change.after}"
    return f"declared: {change.before} → {change.after}" if change.after else f"retracted: {change.before}"
