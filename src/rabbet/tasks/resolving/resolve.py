"""Settle every version: declaration and sources → a lock, and one more for each variant."""

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import cache
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import asdict, replace
from packaging.utils import NormalizedName
from packaging.version import InvalidVersion, Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, LockedLibrary
from rabbet.core.model.options import ResolveOptions
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.model.target import Target, targets_text
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.rules.breach import MOVING, Breach, refusing
from rabbet.disk.atomic import write_text
from rabbet.disk.text_file import read_text
from rabbet.errors import IntegrityFailed, NoRuntime, NotUnderstood, WrongUsage
from rabbet.formats.lock_text import merge_sides, read_locked_versions
from rabbet.formats.pylock import NewerLock, edited_by_hand, write_lock
from rabbet.resolving.request import ResolveRequest, ResolveResult
from rabbet.resolving.resolve_targets import resolve_targets
from rabbet.workspace.fetching.opening import OpenedSources
from rabbet.workspace.fetching.sources import Sources, open_sources
from rabbet.workspace.looking.result_cache import Inputs, UpToDate, inputs_of, remember_unchanged
from rabbet.workspace.preferred import forget_preferred, preferred_versions
from rabbet.workspace.rules.judging import CountedRules, counted_rules, judged_lock
from rabbet.workspace.rules.rule_sets import Look
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of, targets_for
from rabbet.workspace.session import Session
from rabbet.workspace.states.visits import note_visit

if TYPE_CHECKING:
    from rabbet.core.lock.version_changes import Move

__all__ = ["LockVerdict", "Resolved", "readable_text", "resolve", "up_to_date_lock", "verify", "write_locks"]


class Resolved(ResolveResult, frozen=True, kw_only=True):
    """The result of resolving, the lock before, and whether the file stayed unchanged.

    A `lasting` lock is one that resolving would leave alone from now on, without asking sources.
    `declaration` is what was resolved: for a `variant`, as that sees it. `new_pins` are libraries that
    the declaration pins by hand since the lock before, if it does so for a few. `unread` is what was
    wrong with a lock before that could not be read: the versions that it names were kept where they could
    be. `new_sources` tells of names that since the lock before another source knows as well. `merged`
    tells whether the file before was an unfinished merge. `edited` is what was changed by hand in the
    lock before. `broken` are rules that the new lock breaks. `lost` are targets that only the lock before
    served, though nobody changed what is to be served, and `serving_too` is the command that makes the lock
    serve both. `not_preferred` are versions that were preferred in vain. Builds were `asked_with` this
    machine's Python what they need.
    """

    variant: str | None
    file: str
    declaration: Declaration
    targets: tuple[Target, ...]
    untouched: bool = False
    lasting: bool = False
    merged: bool = False
    unread: str = ""
    new_pins: tuple[str, ...] = ()
    new_sources: tuple[str, ...] = ()
    edited: tuple[str, ...] = ()
    asked_with: str = ""
    file_clash: str | None = None
    lost: tuple[str, ...] = ()
    serving_too: str = ""
    not_preferred: tuple[str, ...] = ()
    broken: tuple[Breach, ...] = ()


class LockVerdict(Struct, frozen=True, kw_only=True):
    """Whether a lock is what the declaration asks for (then there are no reasons), and what would move.

    Reasons among them may be rules that it breaks (`broken`).
    `settled` is the lock that resolving would write. What differs is `noticed` by resolving where the two
    files and this machine tell it, and else only by asking the sources again.
    """

    variant: str | None
    file: str
    lock: Lock
    reasons: tuple[str, ...]
    moves: "tuple[Move, ...]"
    settled: Lock
    noticed: bool
    broken: tuple[Breach, ...] = ()


def resolve(
    session: Session,
    options: ResolveOptions,
    *,
    writing: bool = True,
    opened: OpenedSources | None = None,
    rules: CountedRules | None = None,
) -> tuple[Resolved, ...]:
    """Write the locks that the declaration asks for: its own and one for each variant.

    Of a project that is a variant, only that one's. Nothing is written unless all of them have a solution,
    nor without `writing`.

    A lock that is up to date is left alone, byte for byte. Of one with the marks of an unfinished merge, the
    versions of both sides are kept where they can be. The sources may have been `opened` and asked before,
    and the `rules` that count looked up.

    Raises `NoSolution`, `SourceFailed`, `NoRuntime`, `NotUnderstood`, `CannotWrite`.
    """
    inputs = inputs_of(session)
    work = _ResolveRun(session, opened, rules)
    work.ask_build()
    earlier = {
        variant: work.earlier(variant, must_be_readable=not options.raise_all) for variant in work.variants
    }
    _check_raised([lock for locks in earlier.values() for lock in locks], options)
    resolved = [work.resolved(variant, locks, options) for variant, locks in earlier.items()]
    if writing:
        write_locks(session, resolved, inputs)
    return tuple(resolved)


def write_locks(session: Session, resolved: Sequence[Resolved], inputs: Inputs | None = None) -> None:
    """Write locks that were resolved; that they are up to date is noted for the `inputs` of that.

    Raises `IntegrityFailed`, `CannotWrite`.
    """
    changed = [result for result in resolved if not result.untouched]
    texts = {result.file: readable_text(result.lock, session.of(result.variant)) for result in changed}
    for file, text in texts.items():
        write_text(session.project.home / file, text)
    if session.project.variant is None:
        forget_preferred(session.project)
        if inputs is not None and all(result.lasting and not refusing(result.broken) for result in resolved):
            found = [up_to_date_lock(result) for result in resolved]
            remember_unchanged(session, inputs.with_locks(texts), found)
    for result in resolved:
        note_visit(session.of(result.variant))


def readable_text(lock: Lock, session: Session) -> str:
    """The text of a lock that the next command will be able to read; it finds it parsed.

    Raises `IntegrityFailed` for one that it could not, because of something that a source tells.
    """
    text = write_lock(lock)
    try:
        read = session.parsed_lock(text, session.project.lock_file.name)
    except NotUnderstood as error:
        raise IntegrityFailed(
            "what was resolved gives a lock that can't be read again, so nothing was written",
            because=error.because,
            note="please report it, with the releases that are named",
        ) from error
    if write_lock(read) != text:
        raise IntegrityFailed(
            "what was resolved gives a lock that is read as another one", note="please report it"
        )
    return text


def up_to_date_lock(found: Resolved) -> UpToDate:
    """In short what was found of a lock that is up to date."""
    return UpToDate(found.file, found.variant or "", len(found.lock.versions), targets_text(found.targets))


def verify(session: Session, opened: OpenedSources | None = None) -> tuple[LockVerdict, ...]:
    """Tell whether each lock is what resolving would leave as it is; nothing is written.

    Raises what `resolve` raises, and `NoLock`.
    """
    work = _ResolveRun(session, opened)
    work.ask_build()
    return tuple(work.verdict(variant) for variant in work.variants)


class _ResolveRun:
    """One run: the declaration, and its sources, which are opened when they are first needed."""

    def __init__(
        self, session: Session, opened: OpenedSources | None = None, rules: CountedRules | None = None
    ) -> None:
        self._session = session
        session.refuse_unknown_variant()
        self._declaration = session.project.of(None).declaration()
        if opened is not None and opened.declaration != self._declaration:
            opened = None  # it was edited since its sources were asked
        self._preferred = preferred_versions(session.project)
        self._unread: dict[str | None, str] = {}
        self._rules: Callable[[], CountedRules | None] = cache(lambda: rules or _current_rules(session))
        self._sources: Callable[[], Sources] = cache(
            lambda: open_sources(session, self._declaration, opened=opened, rules=self._rules)
        )

    def ask_build(self) -> None:
        """Ask the project's build for what the declaration leaves to it, unless that is known.

        Raises `BuildFailed`, and what solving its requirements raises.
        """
        if not self._declaration.by_build:
            return
        from rabbet.workspace.told import is_told_again

        if not is_told_again(self._session.project.folder, self._session.project.own_locks):
            return
        from rabbet.formats.project.told import told_by
        from rabbet.python.builds.folder_state import needs_state
        from rabbet.resolving.resolve_targets import own_metadata

        self._session.observer.stage("asking the project's own build what it needs")
        folder = self._session.project.folder
        earlier = self.earlier(None, must_be_readable=False)
        metadata = own_metadata(self._request(None, self._question(None, ()), earlier), ResolveOptions())
        told = told_by(metadata, needs_state(str(folder)))
        self._declaration = self._session.project.declaration_with(told)

    @property
    def variants(self) -> tuple[str | None, ...]:
        """The declaration itself (`None`) and its variants, or the one that is asked for."""
        if self._session.project.variant is not None:
            return (self._session.project.variant,)
        return (None, *sorted(self._declaration.variants))

    def earlier(self, variant: str | None, *, must_be_readable: bool) -> tuple[Lock, ...]:
        """The lock before, if there is one; two for an unfinished merge, ours first."""
        path = self._session.project.of(variant).lock_file
        text = read_text(path) if path.exists() else ""
        try:
            sides = merge_sides(text, path.name) if text else ()
        except NotUnderstood:  # marks that make no pairs: whose side a line is on nobody can say
            return (_named_in(text),) if must_be_readable else ()
        try:
            if len(sides) == 1:
                return (self._session.parsed_lock(sides[0], path.name),)
            return tuple(self._side(side, path.name) for side in sides)
        except NewerLock:
            if must_be_readable:
                raise
            return ()
        except NotUnderstood as error:
            self._unread[variant] = error.because[0] if error.because else str(error)
            return (_named_in(text),) if must_be_readable else ()

    def _side(self, text: str, file: str) -> Lock:
        """One side of an unfinished merge: git may have put it together so that it is no lock any more.

        Then it is the versions that its entries name, which is all that resolving takes from it.
        """
        try:
            return self._session.parsed_lock(text, file)
        except NotUnderstood:
            return _named_in(text)

    def resolved(self, variant: str | None, earlier: Sequence[Lock], options: ResolveOptions) -> Resolved:
        """Settle one variant; nothing is written."""
        declaration, runtime, targets = self._question(variant, earlier if options.keeps else ())
        file = self._session.project.of(variant).lock_file.name
        before = earlier[0] if len(earlier) == 1 else None
        edited = edited_by_hand(before) if before is not None else ()
        earlier = [_without_edited(before, edited)] if before is not None else earlier
        refresh = self._session.machine.fresh_listings
        at_once = options.plain and not (edited or self._preferred.libraries or refresh)
        if before is not None and at_once and self._is_up_to_date(before, declaration, targets):
            return Resolved(
                variant=variant,
                file=file,
                declaration=declaration,
                lock=before,
                targets=_served(before, targets),
                untouched=True,
                lasting=True,
                broken=self._broken(before),
            )
        request = self._request(variant, (declaration, runtime, targets), earlier)
        if options.mend and before is not None:
            refused = refusing(self._broken(before))
            broken = {breach.name: breach.short for breach in refused if breach.rule in MOVING}
            request = replace(request, broken=broken)
        settled = resolve_targets(request, options)
        from rabbet.python.choosing.serving import serving_too  # here: until now, answers were on their way
        from rabbet.resolving.file_clashes import file_clash

        return Resolved(
            **asdict(settled),
            variant=variant,
            file=file,
            declaration=declaration,
            targets=_served(settled.lock, targets),
            untouched=before is not None and not edited and _same(before, settled.lock),
            lasting=self._is_up_to_date(settled.lock, declaration, targets),
            broken=self._broken(settled.lock),
            merged=len(earlier) > 1,
            unread=self._unread.get(variant, ""),
            new_pins=_new_pins(earlier, settled.lock),
            new_sources=tuple(
                f"{name} is taken from '{settled.taken_from[name]}', and '{others[0]}' knows that name too"
                for name, others in settled.also_known.items()
                if not any(name in lock.also_known for lock in earlier)
            ),
            edited=edited,
            asked_with=str(runtime),
            file_clash=file_clash(self._session, settled.lock, declaration, runtime),
            lost=(lost := _lost(before, declaration, settled.lock)),
            serving_too=serving_too(before, targets[0], declaration) if lost and before else "",
            not_preferred=tuple(_not_preferred(self._preferred.libraries, settled.lock))
            if options.keeps
            else (),
        )

    def verdict(self, variant: str | None) -> LockVerdict:
        """Compare one lock with what settling again gives."""
        from rabbet.python.choosing.serving import serves

        before = self._session.of(variant).lock()
        declaration, runtime, targets = self._question(variant, [before])
        edited = edited_by_hand(before)
        earlier = [_without_edited(before, edited)]
        settled = resolve_targets(
            self._request(variant, (declaration, runtime, targets), earlier), ResolveOptions()
        )
        reasons = [f"edited by hand since it was resolved: {', '.join(edited)}"] if edited else []
        if before.fingerprint != declaration.fingerprint():
            reasons.append("the declaration changed since the lock was made")
        unserved = () if before.is_for(targets) else targets
        reasons += [f"the lock does not cover {target}" for target in unserved if not serves(before, target)]
        reasons += [_would_move(move) for move in settled.moves]
        reasons += _yanked_since(before, settled.lock)
        broken = self._broken(before)
        reasons += [
            f"{breach.name} {breach.version} breaks a rule: {breach.told}" for breach in refusing(broken)
        ]
        if not reasons and not _same(before, settled.lock):
            reasons.append("its files or other entries are not what resolving would write")
        return LockVerdict(
            variant=variant,
            file=self._session.project.of(variant).lock_file.name,
            lock=before,
            reasons=tuple(reasons),
            moves=settled.moves,
            settled=settled.lock,
            noticed=bool(edited) or not self._is_up_to_date(before, declaration, targets),
            broken=broken,
        )

    def _is_up_to_date(self, lock: Lock, declaration: Declaration, targets: Sequence[Target]) -> bool:
        """Whether resolving would leave a lock as it is, by the declaration, the targets and the rules."""
        rules = self._rules()
        noted = rules.noted if rules is not None else ()
        return lock.rules == noted and _up_to_date(lock, declaration, targets)

    def _broken(self, lock: Lock) -> tuple[Breach, ...]:
        """The rules that a lock breaks."""
        rules = self._rules()
        return () if rules is None else judged_lock(self._session, rules, lock)

    def _question(
        self, variant: str | None, earlier: Sequence[Lock]
    ) -> tuple[Declaration, PythonRuntime, tuple[Target, ...]]:
        """The declaration, the interpreter on this machine, and the targets."""
        declaration = self._declaration.varied(variant) if variant else self._declaration
        purpose = f" for the variant {variant}" if variant else ""
        self._session.observer.stage(f"looking for a runtime{purpose}")
        found, before = pythons_of(self._session), earlier[0] if earlier else None
        try:
            runtime = chosen_runtime(declaration, found, before, like=self._preferred.python)
        except NoRuntime as error:
            from rabbet.workspace.runtimes.obtaining import with_way_to_obtain

            need = Need(library_name("python"), declaration.python)
            session = self._session
            raise with_way_to_obtain(error, need, session.project, session.machine) from error
        return declaration, runtime, targets_for(declaration, runtime)

    def _request(
        self,
        variant: str | None,
        question: tuple[Declaration, PythonRuntime, tuple[Target, ...]],
        earlier: Sequence[Lock],
    ) -> ResolveRequest:
        declaration, runtime, targets = question
        return ResolveRequest(
            declaration=declaration,
            variant=variant,
            sources=self._sources(),
            runtime=runtime,
            targets=targets,
            earlier=tuple(earlier),
            preferred=self._preferred.libraries,
        )


def _current_rules(session: Session) -> CountedRules | None:
    """The rules that count, with what changed of them. Raises `SourceFailed` for records that are too old."""
    rules = counted_rules(session, Look(anew=True))
    if rules is not None:
        rules.records.refuse_old()
    return rules


def _named_in(text: str) -> Lock:
    """The versions that the entries of a lock's text name, where it can't be read as a whole."""
    found = []
    for name, versions in sorted(read_locked_versions(text).versions.items()):
        for version in sorted(versions):
            with suppress(InvalidVersion):
                found.append(LockedLibrary(name=name, version=Version(version)))
    return Lock(requires_python=None, environments=(), groups=(), libraries=tuple(found), fingerprint=None)


def _not_preferred(preferred: Mapping[NormalizedName, Version], lock: Lock) -> Iterator[str]:
    """The versions that were preferred, and that nothing needs or something does not allow."""
    locked: dict[NormalizedName, set[Version]] = {}
    for library in lock.libraries:
        locked.setdefault(library.name, set()).add(library.version)
    for name, version in sorted(preferred.items()):
        versions = locked.get(name, set())
        if not versions:
            yield f"{name} {version}: nothing needs it"
        elif version not in versions:
            yield f"{name} {version}: locked is {', '.join(str(locked) for locked in sorted(versions))}"


def _without_edited(lock: Lock, edited: Collection[str]) -> Lock:
    """A lock whose hand-edited entries say nothing of where they come from; versions stay if they can."""
    libraries = (
        replace(library, index=None, artifacts=())
        if f"{library.name} {library.version}" in edited
        else library
        for library in lock.libraries
    )
    return replace(lock, libraries=tuple(libraries)) if edited else lock


def _served(lock: Lock, targets: Sequence[Target]) -> tuple[Target, ...]:
    """Those of the targets for which there is a solution."""
    return tuple(target for target in targets if target.environment in lock.environments)


def _same(before: Lock, after: Lock) -> bool:
    """Whether two locks are written alike."""
    return before.fingerprint == after.fingerprint and write_lock(before) == write_lock(after)


def _lost(before: Lock | None, declaration: Declaration, after: Lock) -> tuple[str, ...]:
    """The targets that only the lock before served, where the declaration leaves that to the machine."""
    if before is None or declaration.targets or declaration.pythons:
        return ()
    gone = set(before.environments) - set(after.environments)
    if not gone:
        return ()
    from rabbet.python.choosing.serving import places_of

    places = places_of(before)
    return tuple(
        f"{places[target][0]} with Python {places[target][1]}" for target in sorted(gone) if target in places
    )


def _new_pins(earlier: Sequence[Lock], lock: Lock) -> tuple[str, ...]:
    """Libraries pinned by hand since the earlier lock, unless all are."""
    if len(lock.pins) == len(lock.libraries):
        return ()
    return tuple(name for name in lock.pins if not any(name in before.pins for before in earlier))


def _yanked_since(before: Lock, after: Lock) -> list[str]:
    """Releases that stay because they are pinned, and were yanked since the lock was made."""
    known = {(library.name, library.version) for library in before.libraries if library.yanked is None}
    return [
        f"{library.name} {library.version} was yanked since the lock was made:"
        f" {library.yanked or 'no reason is given'}"
        for library in after.libraries
        if library.yanked is not None and (library.name, library.version) in known
    ]


def _would_move(move: "Move") -> str:
    if move.before is None:
        return f"{move.name} {move.after} is missing from the lock: {move.reason}"
    if move.after is None:
        return f"{move.name} {move.before} is in the lock, and no longer needed"
    return f"{move.name} {move.before} would become {move.after}: {move.reason}"


def _check_raised(earlier: Sequence[Lock], options: ResolveOptions) -> None:
    known: set[str] = {library.name for lock in earlier for library in lock.libraries}
    known |= {library.name for lock in earlier for build in lock.builds for library in build.libraries}
    known |= {runtime.language for lock in earlier for runtime in lock.runtimes} - {"python"}
    unknown = sorted(set(options.raised) - known)
    if unknown:
        told = " and ".join(f"'{name}'" for name in unknown)
        told += " is not in the lock, so it" if len(unknown) == 1 else " are not in the lock, so they"
        near = [f"near {name}: {', '.join(found)}" for name in unknown if (found := near_names(name, known))]
        first = near_names(unknown[0], known)[:1]
        raise WrongUsage(
            f"{told} can't be raised",
            because=near,
            meant=(unknown[0], first[0]) if first else None,
            remedy="rabbet resolve",
        )


def _up_to_date(lock: Lock, declaration: Declaration, targets: Sequence[Target]) -> bool:
    unchanged = lock.fingerprint == declaration.fingerprint() and lock.is_for(targets)
    return unchanged and not declaration.local  # what a checkout needs may have changed inside it
