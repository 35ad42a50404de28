"""The rules that count for a project, what is locked or installed and breaks one, and what would mend it."""

from collections.abc import Iterable, Sequence
from datetime import date

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.declaration.edit import Edit
from rabbet.core.graph.graph import build_graph, paths_to
from rabbet.core.lock.version_changes import Move
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import Lock
from rabbet.core.model.options import ResolveOptions
from rabbet.core.rules.breach import MOVING, Breach, refusing
from rabbet.errors import EnvironmentFailed, NoRuntime, NoSolution, RabbetError, SourceFailed
from rabbet.python.choosing.targets import target_of
from rabbet.python.environment.look.inspect import take_inventory
from rabbet.python.environment.place.install_state import own_install_state
from rabbet.tasks.resolving.explain import remembered_needs
from rabbet.tasks.resolving.resolve import resolve
from rabbet.workspace.rules.judging import CountedRules, counted_rules, judged_installed, judged_lock
from rabbet.workspace.rules.rule_sets import Look
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of
from rabbet.workspace.session import Session

__all__ = ["BrokenRule", "RulesReport", "edit_to_accept", "rules"]


class BrokenRule(Struct, frozen=True, kw_only=True):
    """A breach, whether the release is locked and installed, and who brought it.

    It was `brought` along this way: from what the project declares to the library itself.
    """

    breach: Breach
    locked: bool
    installed: bool
    brought: tuple[str, ...] = ()


class RulesReport(Struct, frozen=True, kw_only=True):
    """The rules that count (`None`: none are stated), and what breaks them, what is refused first.

    So many libraries of the lock and of the environment were `judged`; `has_lock` and `has_environment` tell
    whether there are such. `moves` are the fewest that meet the rules again. There may be `no_solution`; or
    `stuck` says why it is not known. The lock may not tell yet when releases were uploaded (`lacks_ages`).
    """

    counted: CountedRules | None
    broken: tuple[BrokenRule, ...] = ()
    judged: int = 0
    has_lock: bool = False
    has_environment: bool = False
    variant: str | None = None
    moves: tuple[Move, ...] = ()
    stuck: str = ""
    no_solution: bool = False
    lacks_ages: bool = False

    @property
    def refuses(self) -> bool:
        """Whether anything is more than a note, or can't be told."""
        too_old = self.counted is not None and bool(self.counted.records.too_old)
        return too_old or self.lacks_ages or any(found.breach.refuses for found in self.broken)


def rules(session: Session) -> RulesReport:
    """Judge what is locked and what is installed by the rules that count here.

    Raises `NotUnderstood`, and `SourceFailed` where shared rules or records can't be had.
    """
    session.refuse_unknown_variant()
    counted = counted_rules(session, Look(anew=True))
    if counted is None:
        return RulesReport(counted=None, variant=session.project.variant)
    session.observer.stage("judging what is locked and installed")
    lock = session.lock() if session.project.lock_file.is_file() else None
    inventory = _inventory(session)
    in_lock = judged_lock(session, counted, lock) if lock else ()
    there = (
        judged_installed(session, counted, lock, inventory, session.project.environment) if inventory else ()
    )
    broken = _joined(session, lock, in_lock, there, inventory)
    mended = _mending(session, counted, in_lock)
    releases = {(library.name, library.version) for library in lock.libraries} if lock else set()
    releases |= {(one.name, one.version) for one in inventory.libraries.values()} if inventory else set()
    return RulesReport(
        counted=counted,
        broken=broken,
        judged=len(releases),
        has_lock=lock is not None,
        has_environment=inventory is not None,
        variant=session.project.variant,
        moves=() if isinstance(mended, RabbetError) else mended,
        stuck="; ".join([str(mended), *mended.because]) if isinstance(mended, SourceFailed) else "",
        no_solution=isinstance(mended, NoSolution),
        lacks_ages=lock is not None and counted.lacks_ages(lock),
    )


def _inventory(session: Session) -> Inventory | None:
    """What is installed, by its metadata alone; `None` where there is no environment that can be read."""
    root = session.project.environment
    if not root.exists():
        return None
    try:
        state = own_install_state(root, session.machine.environments())
        return take_inventory(root, state, sound=True)
    except EnvironmentFailed:
        return None


def _joined(
    session: Session,
    lock: Lock | None,
    in_lock: Iterable[Breach],
    there: Iterable[Breach],
    inventory: Inventory | None,
) -> tuple[BrokenRule, ...]:
    """Each breach once, with where it is."""
    locked = {(breach.name, breach.version, breach.rule, breach.what): breach for breach in in_lock}
    present = {(breach.name, breach.version, breach.rule, breach.what): breach for breach in there}
    installed = {(one.name, one.version) for one in inventory.libraries.values()} if inventory else set()
    both = {**present, **locked}
    ways = _ways(session, lock, {breach.name for breach in both.values()})
    found = [
        BrokenRule(
            breach=breach,
            locked=key in locked,
            installed=key in present or (breach.name, breach.version) in installed,
            brought=ways.get(breach.name, ()) if key in locked else (),
        )
        for key, breach in both.items()
    ]
    return tuple(sorted(found, key=lambda one: (not one.breach.refuses, one.breach.name, one.breach.what)))


def _ways(
    session: Session, lock: Lock | None, names: Iterable[NormalizedName]
) -> dict[NormalizedName, tuple[str, ...]]:
    """How each library came into the lock: the shortest way from what is declared."""
    if lock is None:
        return {}
    declaration = session.declaration()
    try:
        target = target_of(chosen_runtime(declaration, pythons_of(session), lock))
    except NoRuntime:
        return {}
    graph = build_graph(declaration, lock, target, remembered_needs(session.machine.metadata, declaration))
    found: dict[NormalizedName, tuple[str, ...]] = {}
    for name in names:
        paths = paths_to(graph, name)
        if paths:
            found[name] = tuple(ask.name for ask in min(paths, key=len))
    return found


def _mending(
    session: Session, counted: CountedRules, broken: Sequence[Breach]
) -> tuple[Move, ...] | NoSolution | SourceFailed:
    """The fewest moves of the lock that meet the rules again; or why there are none, or none is known."""
    if not any(breach.rule in MOVING for breach in refusing(broken)):
        return ()
    session.observer.stage("looking for the fewest moves that meet the rules")
    try:
        resolved = resolve(session.silent(), ResolveOptions(mend=True), writing=False, rules=counted)
    except (NoSolution, SourceFailed) as error:
        return error
    return next(result.moves for result in resolved if result.variant == session.project.variant)


def edit_to_accept(name: str, reason: str, until: date) -> Edit:
    """The edit of the declaration that accepts an advisory."""
    return Edit(verb="declare", what="accept", name=name, value=f"{until} {reason}")
