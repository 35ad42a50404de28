"""What releases the sources offer of one library."""

import difflib
from dataclasses import dataclass

from packaging.requirements import Requirement
from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import Version

from rabbet.core.lock.offers import Offer, offers_of
from rabbet.core.model.target import Target
from rabbet.core.solve.policy import Policy
from rabbet.core.targets import target_of
from rabbet.errors import NoSolution
from rabbet.tasks.catalogue import open_sources
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project
from rabbet.tasks.runtime import chosen_runtime

__all__ = ["LookedUp", "lookup"]


@dataclass(frozen=True, slots=True, kw_only=True)
class LookedUp:
    """All releases, the newest first, from the source that the library comes from."""

    name: NormalizedName
    source: str
    target: Target
    offers: tuple[Offer, ...]


def lookup(project: Project, machine: Machine, observer: Observer, name: str) -> LookedUp:
    """List the releases of a library.

    Raises `NoSolution`, with near names, for one that no source knows; `SourceFailed`, `NoRuntime`.
    """
    declaration = project.declaration()
    lock = project.lock() if project.lock_file.exists() else None
    target = target_of(chosen_runtime(declaration, machine, lock))
    wanted = canonicalize_name(name)
    sources = open_sources(project, machine, declaration, always=True)
    with sources.catalogue(declaration, target, Policy(), observer) as catalogue:
        observer.stage("reading the listing")
        listing = catalogue.listing(wanted)
        if listing is None:
            near = difflib.get_close_matches(wanted, catalogue.all_names(), n=3)
            raise NoSolution(
                f"no source knows a library named '{wanted}'",
                because=[f"near names: {', '.join(near)}"] if near else [],
                remedy=f"rabbet lookup {near[0]}" if near else "check its spelling",
            )
    locked: Version | None = lock.versions.get(wanted) if lock else None
    requirements: list[Requirement] = [one.requirement for one in declaration.declared()]
    mine = [
        one for one in requirements if canonicalize_name(one.name) == wanted and target.admits(one.marker)
    ]
    return LookedUp(
        name=wanted,
        source=listing.source,
        target=target,
        offers=offers_of(listing, target, requirements=mine, locked=locked),
    )
