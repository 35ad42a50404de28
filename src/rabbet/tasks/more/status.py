"""Where a project stands, for somebody who comes back to it: by its files and the store alone."""

import contextlib
from collections.abc import Iterable, Iterator
from enum import StrEnum
from pathlib import Path

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import InvalidVersion, Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.drift.checks.project import SystemLook
from rabbet.core.model.lock import Lock
from rabbet.disk.text_file import read_text
from rabbet.errors import EnvironmentFailed, NotUnderstood, SourceFailed
from rabbet.formats.lock_text import read_locked_versions
from rabbet.formats.pylock import edited_by_hand
from rabbet.formats.text.address import is_address, parse_address
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.python.environment.place.install_state import InstallState, own_install_state
from rabbet.python.environment.place.layout import interpreter_in
from rabbet.python.sources.kinds.pages import Pages
from rabbet.workspace.known_sources import known_sources
from rabbet.workspace.looking.result_cache import recall_findings, recall_fit
from rabbet.workspace.looking.system_look import system_look
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import stamp_of
from rabbet.workspace.rules.stopping import RulesState, rules_state
from rabbet.workspace.session import Session
from rabbet.workspace.states.sending import Sending, sending
from rabbet.workspace.states.visits import SinceVisit, since_visit

__all__ = [
    "Behind",
    "Environment",
    "EnvironmentState",
    "LinkedRuntime",
    "Locked",
    "Status",
    "VariantStatus",
    "indexes_of",
    "status",
]

_MOST_LISTINGS = 40  # of declared libraries, whose listings are looked at: it has to be quick


class EnvironmentState(StrEnum):
    """How an environment stands to the lock."""

    FITS = "fits"
    OTHER_LOCK = "made from another lock"
    DIFFERS = "differs from the lock"
    UNCHECKED = "made from this lock, not checked since"
    FOREIGN = "not made by this user's Rabbet"
    BROKEN = "broken: its interpreter is gone"


class Locked(Struct, frozen=True, kw_only=True):
    """The lock: its file, since when it lies here so (seconds), its libraries; whether it is out of date.

    `wrong` says why it can't be read, and what was `edited` by hand is named.
    """

    file: str
    since: float
    libraries: int
    outdated: bool
    wrong: str = ""
    edited: tuple[str, ...] = ()

    @property
    def sound(self) -> bool:
        """Whether it is what the declaration asks for, as far as the two files tell."""
        return not (self.wrong or self.edited or self.outdated)


class Environment(Struct, frozen=True, kw_only=True):
    """The environment: its folder, when it was made (seconds), its Python if that is known, and its fit.

    So many `findings` has a look at what is there now given. It holds these groups and extras (`None`: all of
    the lock's).
    """

    root: Path
    since: float
    python: Version | None
    fit: EnvironmentState
    findings: int = 0
    chosen: tuple[str, ...] | None = None


class LinkedRuntime(Struct, frozen=True, kw_only=True):
    """A locked runtime of another language, and its program that the environment links (empty: none)."""

    language: str
    version: Version
    linked: str

    @property
    def there(self) -> bool:
        """Whether that program is still there."""
        return bool(self.linked) and Path(self.linked).exists()


class VariantStatus(Struct, frozen=True, kw_only=True):
    """A variant of the project: its lock and its environment."""

    name: str
    locked: Locked | None
    environment: Environment | None


class Behind(Struct, frozen=True, kw_only=True):
    """A declared library that is locked at an older release than the newest that the store has heard of."""

    name: NormalizedName
    locked: Version
    newest: Version


class Status(Struct, frozen=True, kw_only=True):
    """The state of a project, what its lock breaks of `rules`, and the next command that makes sense."""

    declaration: Declaration
    folder: Path
    variant: str | None
    locked: Locked | None
    environment: Environment | None
    behind: tuple[Behind, ...] = field(default=())
    sending: Sending = field(default_factory=Sending)
    since: SinceVisit | None = None
    runtimes: tuple[LinkedRuntime, ...] = ()
    system: SystemLook = field(default_factory=SystemLook)
    variants: tuple[VariantStatus, ...] = ()
    rules: RulesState | None = None

    @property
    def following(self) -> str:
        """The next command, without the program's name."""
        if self.locked is None or not self.locked.sound:
            return "resolve"
        if self.environment is None or self.environment.fit in (
            EnvironmentState.OTHER_LOCK,
            EnvironmentState.BROKEN,
        ):
            return "recreate"
        return "run" if self.environment.fit is EnvironmentState.FITS else "drift"


def status(session: Session) -> Status:
    """Look at the declaration, the lock and the environment; nothing is run, and no network asked.

    Raises `NotUnderstood`.
    """
    declaration = session.declaration()
    text = read_text(session.project.lock_file) if session.project.lock_file.is_file() else None
    locked = _locked(session, text, declaration) if text is not None else None
    readable = text is not None and locked is not None and not locked.wrong
    return Status(
        declaration=declaration,
        folder=session.project.folder,
        variant=session.project.variant,
        locked=locked,
        environment=_environment(session, text),
        behind=tuple(_behind(text, declaration, session.machine)) if text is not None else (),
        sending=sending(session),
        since=since_visit(session, text) if text is not None else None,
        runtimes=tuple(_runtimes(session, session.lock())) if readable else (),
        system=system_look(declaration, session.machine.environ),
        variants=tuple(_variant(session.of(name), name) for name in sorted(declaration.variants)),
        rules=rules_state(session),
    )


def _variant(session: Session, name: str) -> VariantStatus:
    text = read_text(session.project.lock_file) if session.project.lock_file.is_file() else None
    return VariantStatus(
        name=name,
        locked=_locked(session, text, session.declaration()) if text is not None else None,
        environment=_environment(session, text),
    )


def _runtimes(session: Session, lock: Lock) -> Iterator[LinkedRuntime]:
    """The locked runtimes of other languages than Python."""
    others = [runtime for runtime in lock.runtimes if runtime.language != "python"]
    if others:
        made = own_install_state(session.project.environment, session.machine.environments())
        linked = made.runtimes if made else {}
        for other in others:
            program = linked.get(other.language, "")
            yield LinkedRuntime(language=other.language, version=other.version, linked=program)


def _locked(session: Session, text: str, declaration: Declaration) -> Locked:
    path = session.project.lock_file
    found = Locked(
        file=path.name,
        since=path.stat().st_mtime,
        libraries=len(read_locked_versions(text).names),
        outdated=f'fingerprint = "{declaration.fingerprint()}"' not in text,
    )
    try:
        lock = session.parsed_lock(text, path.name)
    except NotUnderstood as error:
        return replace(found, wrong=error.because[0] if error.because else str(error))
    return replace(found, outdated=lock.fingerprint != declaration.fingerprint(), edited=edited_by_hand(lock))


def _environment(session: Session, lock: str | None) -> Environment | None:
    """The state of the environment's place."""
    root = session.project.environment
    if not root.exists():
        return None
    try:
        python: Version | None = read_configuration(root).python
    except EnvironmentFailed:
        python = None
    made = own_install_state(root, session.machine.environments())
    fit, findings = _fit(session, made, lock), 0
    if fit is EnvironmentState.UNCHECKED:
        looked = recall_findings(session)
        if looked is not None:
            fit, findings = EnvironmentState.DIFFERS if looked else EnvironmentState.FITS, looked
    return Environment(
        root=root,
        since=root.stat().st_ctime,
        python=python,
        fit=fit,
        findings=findings,
        chosen=tuple(sorted({*(made.groups or ()), *(made.extras or ())}))
        if made and not (made.groups is None and made.extras is None)
        else None,
    )


def _fit(session: Session, install_state: InstallState | None, lock: str | None) -> EnvironmentState:
    if install_state is None:
        return EnvironmentState.FOREIGN
    if not interpreter_in(session.project.environment).exists():
        return EnvironmentState.BROKEN
    if lock is None or install_state.lock != stamp_of(lock):
        return EnvironmentState.OTHER_LOCK
    return EnvironmentState.FITS if recall_fit(session) is not None else EnvironmentState.UNCHECKED


def _behind(lock: str, declaration: Declaration, machine: Machine) -> Iterator[Behind]:
    """Declared libraries of which listings that were read before hold newer releases than the locked one."""
    versions = read_locked_versions(lock).versions
    names = dict.fromkeys(
        requirement.need.name for requirement in declaration.declared() if requirement.need.url is None
    )
    indexes = list(indexes_of(declaration, machine))
    for name in list(names)[:_MOST_LISTINGS]:
        with contextlib.suppress(InvalidVersion, ValueError):
            newest, locked = _newest(name, indexes), max(map(Version, versions.get(name, ())))
            if newest is not None and newest > locked and name not in declaration.local:
                yield Behind(name=name, locked=locked, newest=newest)


def indexes_of(declaration: Declaration, machine: Machine) -> Iterator[tuple[str, Pages]]:
    """The indexes that the project takes from, with what is kept of each."""
    with contextlib.suppress(SourceFailed):
        for entry in known_sources(declaration, machine):
            if is_address(entry.url) and parse_address(entry.url).scheme in ("http", "https"):
                address = parse_address(entry.url).text
                yield address.rstrip("/"), Pages(machine.listings(address))


def _newest(name: NormalizedName, indexes: Iterable[tuple[str, Pages]]) -> Version | None:
    """The newest release in the first index that is known to have the library."""
    for address, pages in indexes:
        page = pages.recall(f"{address}/{name}/")
        if page is not None:
            with contextlib.suppress(msgspec.MsgspecError, IndexError):
                return page.newest()
    return None
