"""The inventory: what is really installed in one environment."""

from collections.abc import Mapping

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.cause import Installation, InterpreterChanged, Reason, ReasonWith
from rabbet.core.model.lock import Selection
from rabbet.core.model.release import Metadata

__all__ = ["Installed", "Inventory"]

_UNUSABLE = (Reason.INTERPRETER_GONE, Reason.INTERPRETER_REFUSED)


class Installed(Struct, frozen=True, kw_only=True):
    """One installed library.

    `folder` is its `.dist-info` folder's name. `metadata` is `None` when it can't be read. `wheel_sha256`
    is the hash of the wheel it was made from, where Rabbet installed it; `build` is the digest of what it
    was built from, if it was built on this machine. `tags` are those that its wheel had (PEP 425), which
    tell one file of a release from others; nobody reads them where Rabbet installed it. `altered` names
    the files whose content is not what `RECORD` says, `gone` those among them that are not there, `loose`
    those whose permissions alone are not as they should be. One that is not `recorded` has no record at
    all. An `unfinished` one was being changed by a run that was cut short. The `installation` is `None`
    where Rabbet itself installed it; of others, `start_up` are files that Python reads whenever it
    starts.
    """

    name: NormalizedName
    version: Version
    folder: str
    metadata: Metadata | None = None
    wheel_sha256: str | None = None
    build: str = ""
    tags: frozenset[str] = frozenset()
    recorded: bool = True
    altered: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    loose: tuple[str, ...] = ()
    unfinished: bool = False
    installation: Installation | None = None
    start_up: tuple[str, ...] = ()


class Inventory(Struct, frozen=True, kw_only=True):
    """All libraries of one environment by name, and the version of its runtime.

    `twins` are further copies of a library that is installed more than once. `strays` are files that nobody
    recorded, where Python would load or start them, by their places; `damage` is what is wrong with the
    environment's own files. `made_with` is the interpreter that Rabbet made it from, `runtimes` are the main
    programs of other languages that it links, by language. `trouble` is what became of the interpreter
    since the environment was made, if anything did. Rabbet has `put_there` these libraries for the groups and
    extras of a `selection` (`None` for all), as the lock with a `lock_stamp` wanted it; it is empty where
    nobody noted that. A deep look found modules of `unvouched` libraries that Python compiled itself.
    """

    python: Version
    implementation: str
    libraries: Mapping[NormalizedName, Installed]
    twins: tuple[Installed, ...] = ()
    strays: tuple[str, ...] = ()
    damage: tuple[ReasonWith, ...] = ()
    made_with: str = ""
    runtimes: Mapping[str, str] = field(default_factory=dict)
    trouble: ReasonWith | InterpreterChanged | None = None
    put_there: frozenset[NormalizedName] = frozenset()
    selection: Selection | None = None
    lock_stamp: str = ""
    unvouched: tuple[NormalizedName, ...] = ()

    @property
    def without_record(self) -> tuple[NormalizedName, ...]:
        """The libraries that have no record of their files."""
        everything = (*self.libraries.values(), *self.twins)
        return tuple(sorted({installed.name for installed in everything if not installed.recorded}))

    @property
    def is_usable(self) -> bool:
        """Whether the interpreter can still be run."""
        return self.trouble is None or self.trouble.reason not in _UNUSABLE

    @property
    def is_sound(self) -> bool:
        """Whether every file is as somebody recorded it."""
        everything = (*self.libraries.values(), *self.twins)
        altered = any(installed.altered or installed.unfinished for installed in everything)
        return not (altered or self.strays or self.damage)
