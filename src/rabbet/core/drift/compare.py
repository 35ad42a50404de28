"""What is wanted × what is installed → every difference, once: findings and the plan both follow from these.

Each check is a function that finds differences of its own kind; a new kind is a new check in `CHECKS`.
"""

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.drift.module_names import is_start_up
from rabbet.core.drift.origin import other_file, other_origin
from rabbet.core.model.finding import ENVIRONMENT, RUNTIME, Finding, Kind, Reason, Unmet, Weight
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import UNTOLD, LockedRuntime, Needed, Selection, ToInstall, Unbuilt
from rabbet.core.model.runtime import Runtime
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, Part
from rabbet.core.needs.walk import walk

__all__ = ["OtherRuntime", "Wanted", "compare", "in_order"]

_WEIGHTS = list(Weight)
_CAUSED = (Kind.SURPLUS, Kind.VERSION, Kind.ORIGIN, Kind.BUILD)  # what somebody has installed
_FOR_ANY_MINOR = ("none", "abi3")  # ABI tags of files that serve several minor versions of Python
_SHOWN_NAMES = 5


class OtherRuntime(Struct, frozen=True, kw_only=True):
    """A runtime of another language than Python: the locked version, and what this machine has for it.

    Where it has nothing that fits, nothing is `chosen`; it is `obtainable` if the lock says where it can be
    had.
    """

    language: str
    locked: Version | None
    chosen: Runtime | None
    obtainable: bool = False


class Wanted(Struct, frozen=True, kw_only=True, dict=True):
    """What should be installed on this machine, and what the project itself requires.

    `needed` is the part of the lock that this machine needs, `runtime` the one that the lock was made with,
    and `chosen` the version and the place of the interpreter that an environment made now would get. `others`
    are runtimes of other languages. Where nobody noted from which files an environment was made, their
    `origins_known` is false. `lock_stamp` is the lock's, and `everything` all groups and extras that it has.
    It has a `__dict__`, for it keeps who depends on what.
    """

    project: str
    python: SpecifierSet
    needs: tuple[Need, ...]
    runtime: LockedRuntime | None
    needed: tuple[ToInstall, ...]
    target: Target
    chosen: tuple[Version, str] | None = None
    origins_known: bool = True
    others: tuple["OtherRuntime", ...] = ()
    lock_stamp: str = ""
    everything: Selection | None = None

    @cached_property
    def names(self) -> frozenset[NormalizedName]:
        """The libraries that are needed."""
        return frozenset(one.locked.name for one in self.needed)

    @cached_property
    def dependents(self) -> Mapping[NormalizedName, set[str]]:
        """Who needs each library by the lock."""
        found: defaultdict[NormalizedName, set[str]] = defaultdict(set)
        for one in self.needed:
            for name in one.locked.dependencies:
                found[name].add(one.locked.name)
        return found

    def path_to(self, name: NormalizedName) -> tuple[str, ...]:
        """The shortest way by which a library is locked, from a declared one on; empty if it is that."""
        declared = {need.name for need in self.needs}
        waiting: list[tuple[str, ...]] = [(name,)]
        seen = {str(name)}
        while waiting:
            path = waiting.pop(0)
            if path[0] in declared:
                return path[:-1]
            for above in sorted(self.dependents.get(NormalizedName(path[0]), set()) - seen):
                seen.add(above)
                waiting.append((above, *path))
        return ()


def compare(wanted: Wanted, inventory: Inventory) -> tuple[Finding, ...]:
    """Every difference between what is wanted here and what is installed, the weightiest first."""
    unmet = tuple(_unmet(wanted, inventory))
    found = [finding for check in CHECKS for finding in check(wanted, inventory)]
    found = [_with_requirements(finding, unmet) for finding in found]
    moved = {finding.name for finding in found if finding.kind is Kind.VERSION}
    needed_by, other_lock = _needed_by(wanted, inventory, moved), _is_of_other_lock(wanted, inventory)
    found = [_with_cause(finding, inventory, needed_by, other_lock=other_lock) for finding in found]
    found += _stale(wanted, inventory, [finding.name for finding in found if finding.left_over])
    found += _untold(unmet, {finding.name for finding in found})
    return in_order(found)


def in_order(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """The weightiest first, then by name and kind."""
    return tuple(sorted(findings, key=lambda one: (_WEIGHTS.index(one.weight), one.name, one.kind)))


def _runtime(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:
    """An interpreter that is gone, was changed, no longer serves, or is another one than would be taken.

    That another machine made the lock with another version is worth a note, where the lock serves this one
    too.
    """
    locked = wanted.runtime.version if wanted.runtime else None
    there = inventory.python
    if inventory.trouble:
        yield Finding(
            kind=Kind.RUNTIME,
            name=RUNTIME,
            locked=locked,
            installed=there if inventory.usable else None,
            weight=Weight.DIFFERS if inventory.usable else Weight.BREAKS,
            breaks=() if inventory.usable else (wanted.project,),
            told=inventory.trouble,
        )
        return
    same = there.release[:2] == wanted.target.python.release[:2]
    alike = inventory.implementation == wanted.target.markers["implementation_name"]
    allowed = alike and wanted.python.contains(there, prereleases=True)
    breaks: tuple[str, ...] = () if allowed else (wanted.project,)
    breaks += () if same else _bound_to_minor(wanted)
    other = inventory.made_with and wanted.chosen not in (None, (there, inventory.made_with))
    differs = other or not same
    noted = locked is not None and locked != there
    if noted or differs or breaks:
        yield Finding(
            kind=Kind.RUNTIME,
            name=RUNTIME,
            locked=locked,
            installed=there,
            weight=Weight.BREAKS if breaks else Weight.DIFFERS if differs else Weight.NOTE,
            breaks=breaks,
            told=f"it was made with Python {there} of {inventory.made_with}" if other else "",
        )


def _bound_to_minor(wanted: Wanted) -> tuple[str, ...]:
    """The locked libraries whose compiled modules serve one minor version of Python alone, by PEP 425."""
    files = {one.locked.name: one.artifact.filename for one in wanted.needed if isinstance(one, Needed)}
    return tuple(name for name, file in sorted(files.items()) if _is_bound_to_minor(file))


def _is_bound_to_minor(filename: str) -> bool:
    parts = filename.split("-")
    return len(parts) > 2 and not set(parts[-2].split(".")).intersection(_FOR_ANY_MINOR)


def _other_runtimes(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:
    """Runtimes of other languages that are not on this machine, or are other ones than would be taken.

    That the version is another one than was locked is worth a note, for the declaration allows it.
    """
    for other in wanted.others if wanted.origins_known else ():
        chosen, linked = other.chosen, inventory.runtimes.get(other.language)
        if chosen is None:
            told = "no runtime on this machine is one that the project allows"
        elif linked != chosen.executable:
            told = f"linked is {linked}" if linked else "it is not linked"
        elif chosen.version != other.locked:
            told = ""
        else:
            continue
        yield Finding(
            kind=Kind.RUNTIME,
            name=other.language,
            locked=other.locked,
            installed=chosen.version if chosen else None,
            weight=Weight.BREAKS if chosen is None else Weight.DIFFERS if told else Weight.NOTE,
            breaks=() if chosen else (wanted.project,),
            reason=Reason.OBTAINABLE if other.obtainable and chosen is None else None,
            told=told,
        )
    for language in sorted({*inventory.runtimes} - {other.language for other in wanted.others}):
        yield Finding(
            kind=Kind.RUNTIME, name=language, weight=Weight.DIFFERS, told="it is linked, and not declared"
        )


def _missing(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:
    for one in wanted.needed:
        name = one.locked.name
        if name not in inventory.libraries:
            was_there = name in inventory.put_there
            yield Finding(
                kind=Kind.MISSING,
                name=name,
                locked=_version(one),
                weight=Weight.BREAKS,
                breaks=tuple(sorted(wanted.dependents.get(name, ()))),
                reason=Reason.REMOVED if was_there else None,
                comes_with=wanted.path_to(name),
                left_over=_is_of_other_lock(wanted, inventory) and not was_there,
            )


def _surplus(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:
    """Libraries that nobody wants, and second copies of those that are wanted."""
    extra = [one for name, one in inventory.libraries.items() if name not in wanted.names]
    for one in [*extra, *inventory.twins]:
        yield Finding(
            kind=Kind.SURPLUS,
            name=one.name,
            installed=one.version,
            weight=Weight.DIFFERS,
            reason=Reason.SECOND_COPY if one in inventory.twins else None,
        )


def _versions(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:
    for one, installed in _both(wanted, inventory):
        if not _is_locked_version(one, installed):
            yield Finding(
                kind=Kind.VERSION,
                name=installed.name,
                locked=_version(one),
                installed=installed.version,
                weight=Weight.DIFFERS,
                comes_with=wanted.path_to(installed.name),
            )


def _files(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:
    """What became of a library's files: some are gone, some are altered."""
    for one, installed in _both(wanted, inventory):
        if not _is_locked_version(one, installed):
            continue
        altered = tuple(file for file in installed.altered if file not in installed.gone)
        for kind, files in ((Kind.MISSING, installed.gone), (Kind.ALTERED, altered)):
            unfinished = kind is Kind.ALTERED and installed.unfinished
            loose = kind is Kind.ALTERED and bool(files) and set(files) <= set(installed.loose)
            if files or unfinished:
                yield Finding(
                    kind=kind,
                    name=installed.name,
                    locked=_version(one),
                    installed=installed.version,
                    weight=Weight.BREAKS,
                    breaks=(installed.name,),
                    files=files,
                    reason=Reason.UNFINISHED
                    if unfinished and not files
                    else Reason.PERMISSIONS
                    if loose
                    else None,
                )


def _origins(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:
    """The locked version, made from another file: of the same release, or one that is not locked.

    What is built here has to be built from the locked sources, as the lock says.
    """
    differing = other_origin if wanted.origins_known else other_file
    for one, installed in _both(wanted, inventory):
        kind = differing(one, installed)
        whole = not (installed.altered or installed.unfinished)
        if whole and kind is not None and _is_locked_version(one, installed):
            yield Finding(
                kind=kind,
                name=installed.name,
                locked=_version(one),
                installed=installed.version,
                weight=Weight.DIFFERS,
                reason=Reason.BUILT_OTHERWISE if isinstance(one, Unbuilt) and installed.build else None,
            )


def _version(one: ToInstall) -> Version | None:
    """The version that is wanted, if it is known before it is built."""
    return None if one.locked.version == UNTOLD else one.locked.version


def _is_locked_version(one: ToInstall, installed: Installed) -> bool:
    """Whether the version is the locked one; that of sources which are being worked on changes with them."""
    return installed.version == one.locked.version or (isinstance(one, Unbuilt) and one.local)


def _environment(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:
    """What was altered of the environment itself, and what nobody put into it."""
    for damage in inventory.damage:
        yield Finding(
            kind=Kind.ALTERED, name=ENVIRONMENT, weight=Weight.BREAKS, breaks=(wanted.project,), told=damage
        )
    everybody = (*inventory.libraries.values(), *inventory.twins)
    without = sorted({one.name for one in everybody if not one.recorded})
    for place in inventory.strays:
        hook = is_start_up(place)
        yield Finding(
            kind=Kind.SURPLUS,
            name=ENVIRONMENT,
            weight=Weight.NOTE if without and not hook else Weight.DIFFERS,
            files=(place,),
            reason=Reason.START_UP if hook else Reason.UNRECORDED,
        )
    unrecorded = "without a record of their files, so nobody can check these"
    compiled = "Python compiled modules of these itself, so nobody can check these modules"
    unchecked = (
        (without, Weight.NOTE, Reason.NO_RECORD, unrecorded),
        (inventory.unvouched, Weight.DIFFERS, Reason.COMPILED_LATER, compiled),
    )
    for names, weight, reason, told in unchecked:
        if names:
            shown = ", ".join(names[:_SHOWN_NAMES]) + (", …" if len(names) > _SHOWN_NAMES else "")
            yield Finding(
                kind=Kind.ALTERED,
                name=ENVIRONMENT,
                weight=weight,
                told=f"{told}: {shown}",
                reason=reason,
            )


def _unknown(wanted: Wanted, inventory: Inventory) -> Iterator[Finding]:  # noqa: ARG001 - as all checks
    """Libraries that no longer say what they are and need."""
    for one in (*inventory.libraries.values(), *inventory.twins):
        if one.metadata is None and not one.altered:
            yield Finding(
                kind=Kind.ALTERED,
                name=one.name,
                installed=one.version,
                weight=Weight.BREAKS,
                breaks=(one.name,),
                reason=Reason.NO_METADATA,
            )


def _is_of_other_lock(wanted: Wanted, inventory: Inventory) -> bool:
    return inventory.lock_stamp not in ("", wanted.lock_stamp)


def _stale(wanted: Wanted, inventory: Inventory, left_over: Sequence[str]) -> Iterator[Finding]:
    """The environment was made from another lock than today's, or for a part of its groups and extras."""
    if _is_of_other_lock(wanted, inventory):
        yield Finding(
            kind=Kind.STALE,
            name=ENVIRONMENT,
            weight=Weight.DIFFERS if left_over else Weight.NOTE,
            reason=Reason.OTHER_LOCK,
        )
    chosen, all_of_them = inventory.selection, wanted.everything
    if chosen is not None and all_of_them is not None and chosen != all_of_them:
        yield Finding(
            kind=Kind.STALE,
            name=ENVIRONMENT,
            weight=Weight.NOTE,
            told=f"it was made for {_sections(chosen)}; the lock has {_sections(all_of_them)}",
            reason=Reason.OTHER_SECTIONS,
        )


def _sections(selection: Selection) -> str:
    named = [f"group {name}" for name in sorted(selection.groups)]
    named += [f"extra {name}" for name in sorted(selection.extras)]
    return ", ".join(named) or "no groups and extras"


CHECKS: Sequence[Callable[[Wanted, Inventory], Iterable[Finding]]] = (
    _runtime,
    _other_runtimes,
    _missing,
    _surplus,
    _versions,
    _files,
    _origins,
    _environment,
    _unknown,
)


def _both(wanted: Wanted, inventory: Inventory) -> Iterator[tuple[ToInstall, Installed]]:
    """What is wanted and there."""
    for one in wanted.needed:
        installed = inventory.libraries.get(one.locked.name)
        if installed is not None:
            yield one, installed


def _with_requirements(finding: Finding, unmet: Iterable[Unmet]) -> Finding:
    """Add to a finding who is broken by it, and its own unmet requirements."""
    if finding.kind not in (Kind.MISSING, Kind.VERSION, Kind.SURPLUS) or finding.files:
        return finding
    asking = {one.requirer for one in unmet if one.need.name == finding.name}
    own = tuple(one for one in unmet if one.requirer == finding.name)
    breaks = {*finding.breaks, *asking, *([finding.name] if own else [])}
    weight = Weight.BREAKS if breaks else finding.weight
    return replace(finding, weight=weight, breaks=tuple(sorted(breaks)), unmet=own)


def _with_cause(
    finding: Finding, inventory: Inventory, needed_by: Mapping[str, set[str]], *, other_lock: bool
) -> Finding:
    """Add to a finding about something that is installed how that came in, and who needs it.

    What Rabbet itself put there is left over from another lock, if the environment was made from one.
    """
    installed = inventory.libraries.get(NormalizedName(finding.name))
    if installed is None or finding.kind not in _CAUSED or finding.files:
        return finding
    if installed.installation is None:
        return replace(finding, left_over=other_lock)
    return replace(
        finding,
        installation=installed.installation,
        needed_by=tuple(sorted(needed_by.get(finding.name, set()) - {finding.name})),
        start_up=installed.start_up,
    )


def _needed_by(wanted: Wanted, inventory: Inventory, moved: Collection[str]) -> Mapping[str, set[str]]:
    """Who brought each library: those that are not locked, or are there in another version, count.

    What is as locked brought nothing.
    """
    found: defaultdict[str, set[str]] = defaultdict(set)
    for other in inventory.libraries.values():
        if other.metadata is not None and (other.name not in wanted.names or other.name in moved):
            for need in other.metadata.needs:
                if wanted.target.admits(need.marker):
                    found[need.name].add(other.name)
    return found


def _untold(unmet: Iterable[Unmet], told: set[str]) -> Iterator[Finding]:
    """Findings for unmet requirements that no other finding covers: the lock itself does not meet them."""
    for one in unmet:
        name = one.need.name
        if name not in told and one.requirer not in told:
            yield Finding(
                kind=Kind.VERSION if one.installed else Kind.MISSING,
                name=name,
                installed=one.installed,
                weight=Weight.BREAKS,
                breaks=(one.requirer,),
                unmet=(one,),
            )


def _unmet(wanted: Wanted, inventory: Inventory) -> Iterator[Unmet]:
    """All requirements of what is installed, and of the project, that are not met."""
    for requirer, need in _needs(wanted, inventory.libraries):
        installed = inventory.libraries.get(need.name)
        if installed is None or not need.specifier.contains(installed.version, prereleases=True):
            yield Unmet(requirer=requirer, need=need, installed=installed.version if installed else None)


def _needs(wanted: Wanted, libraries: Mapping[NormalizedName, Installed]) -> Iterator[tuple[str, Need]]:
    """All requirements that count here: the project's, and those of everything installed with its extras."""

    def needs_of(part: Part) -> Iterator[Need]:
        name, extra = part
        metadata = libraries[name].metadata if name in libraries else None
        for need in metadata.needs if metadata else ():
            if wanted.target.admits(need.marker, extra):
                yield need

    own = ((None, need) for need in wanted.needs if wanted.target.admits(need.marker))
    for requirer, need in walk(own, needs_of, ((name, "") for name in libraries)):
        yield (wanted.project if requirer is None else requirer[0]), need
