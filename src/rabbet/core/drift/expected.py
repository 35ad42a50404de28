"""The expected installation: the lock's part for one machine, and the project's own requirements."""

from collections import defaultdict
from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import Self

from msgspec import Struct
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import UNTOLD, Lock, LockedLibrary, LockedRuntime, Selection, ToInstall, Unbuilt
from rabbet.core.model.runtime import Runtime
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need

__all__ = ["Expectation", "OtherRuntime", "VersionOnly", "is_locked_version", "version_of"]


class VersionOnly(Struct, frozen=True):
    """A library as it is installed somewhere: its version counts, and none of its files is known."""

    locked: LockedLibrary


class OtherRuntime(Struct, frozen=True, kw_only=True):
    """A runtime of another language than Python: the locked version, and what this machine has for it.

    `chosen` is `None` when no installed runtime fits. It is `obtainable` if the lock names an archive of it.
    """

    language: str
    locked: Version | None
    chosen: Runtime | None
    obtainable: bool = False


class Expectation(Struct, frozen=True, kw_only=True, dict=True):
    """The installation expected on this machine, and the project's own requirements.

    `needed` is the part of the lock that this machine needs, `runtime` the one that the lock was made with,
    and `chosen` the version and the place of the interpreter that an environment made now would get. `others`
    are runtimes of other languages. Where nobody noted from which files an environment was made, their
    `origins_known` is false. `lock_stamp` is the lock's, and `everything` all groups and extras that it has.
    Libraries that are `bound_to_minor` serve one minor version of the interpreter alone. What `is_installed`
    somewhere may be expected too: that its own requirements are not met is no difference.

    It has a `__dict__`, for it keeps who depends on what.
    """

    project: str
    python: SpecifierSet
    needs: tuple[Need, ...]
    runtime: LockedRuntime | None
    needed: tuple[ToInstall | VersionOnly, ...]
    target: Target
    chosen: tuple[Version, str] | None = None
    origins_known: bool = True
    others: tuple[OtherRuntime, ...] = ()
    lock_stamp: str = ""
    everything: Selection | None = None
    is_installed: bool = False
    bound_to_minor: tuple[NormalizedName, ...] = ()

    @classmethod
    def of(
        cls,
        declaration: Declaration,
        lock: Lock,
        target: Target,
        selection: Selection,
        needed: tuple[ToInstall, ...],
        *,
        stamp: str,
    ) -> Self:
        """The expectation by a lock, for a target and sections; `needed` is the lock's part for them."""
        declared = declaration.declared()
        return cls(
            project=declaration.name,
            python=declaration.python,
            needs=tuple(
                requirement.need
                for requirement in declared
                if requirement.section is None or selection.holds(requirement.section)
            ),
            runtime=lock.python,
            needed=needed,
            target=target,
            lock_stamp=stamp,
            everything=lock.everything,
        )

    @cached_property
    def names(self) -> frozenset[NormalizedName]:
        """The libraries that are needed."""
        return frozenset(needed.locked.name for needed in self.needed)

    @cached_property
    def dependents(self) -> Mapping[NormalizedName, set[str]]:
        """Who needs each library by the lock."""
        found: defaultdict[NormalizedName, set[str]] = defaultdict(set)
        for needed in self.needed:
            for name in needed.locked.dependencies:
                found[name].add(needed.locked.name)
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

    def has_other_lock(self, inventory: Inventory) -> bool:
        """Whether an environment was made from another lock than this one."""
        return inventory.lock_stamp not in ("", self.lock_stamp)

    def pairs(self, inventory: Inventory) -> Iterator[tuple[ToInstall | VersionOnly, Installed]]:
        """The expected libraries that are installed."""
        for needed in self.needed:
            installed = inventory.libraries.get(needed.locked.name)
            if installed is not None:
                yield needed, installed


def version_of(item: ToInstall | VersionOnly) -> Version | None:
    """The version that is wanted, if it is known before it is built."""
    return None if item.locked.version == UNTOLD else item.locked.version


def is_locked_version(item: ToInstall | VersionOnly, installed: Installed) -> bool:
    """Whether the version is the locked one; that of sources which are being worked on changes with them."""
    return installed.version == item.locked.version or (isinstance(item, Unbuilt) and item.local)
