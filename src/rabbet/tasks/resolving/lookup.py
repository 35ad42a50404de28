"""The releases of one library that the sources offer."""

from msgspec import Struct
from packaging.version import Version

from rabbet.core.model.target import Target
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.shown_text import some_of
from rabbet.core.solve.problem.provider import Policy
from rabbet.errors import NoSolution
from rabbet.python.choosing.release_overview import Offer, offers_of
from rabbet.resolving.request import declared_moment
from rabbet.workspace.fetching.sources import open_sources
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of, targets_for
from rabbet.workspace.session import Session

__all__ = ["LookedUp", "lookup"]

_MOST_WITHIN = 20  # libraries that are named for a part of their name


class LookedUp(Struct, frozen=True, kw_only=True):
    """The releases that match what was asked for, the newest first, and the newest of all in the source."""

    asked: Need
    source: str
    targets: tuple[Target, ...]
    offers: tuple[Offer, ...]
    newest: Version | None


def lookup(session: Session, asked: Need) -> LookedUp:
    """List the releases of a library, or those of some versions.

    Raises `NoSolution`, with near names, for one that no source knows; `SourceFailed`, `NoRuntime`.
    """
    name, declaration = asked.name, session.declaration()
    lock = session.lock() if session.project.lock_file.exists() else None
    targets = targets_for(declaration, chosen_runtime(declaration, pythons_of(session), lock))
    sources = open_sources(session, declaration, always=True)
    with sources.catalogue(declaration, targets[0], Policy()) as catalogue:
        session.observer.stage("reading the listing")
        listing = catalogue.listing(name)
        if listing is None:
            known = [library_name(known) for known in catalogue.routing.names()]
            near, within = near_names(name, known), sorted(known for known in known if name in known)
            told = [f"near names: {', '.join(near)}"] if near else []
            if within:
                told.append(f"with '{name}' in their names: {some_of(within, _MOST_WITHIN)}")
            found = (near or within)[:1]
            raise NoSolution(
                f"no source knows a library named '{name}'",
                because=[*told, *catalogue.routing.why_not_elsewhere(name)],
                note="" if found else "check its spelling",
                remedy=f"rabbet lookup {found[0]}" if found else "",
            )
    each = tuple(part for target in targets for part in target.each)
    needs = [requirement.need for requirement in declaration.declared()]
    offers = offers_of(
        listing,
        each,
        needs=[need for need in needs if need.name == name],
        locked=[library.version for library in lock.libraries if library.name == name] if lock else [],
        policy=Policy(
            as_of=declared_moment(declaration),
            may_build=declaration.build_from_source,
            narrowing=sources.narrowing(),
        ),
    )
    return LookedUp(
        asked=asked,
        source=listing.source,
        targets=each,
        offers=tuple(offer for offer in offers if asked.specifier.contains(offer.version, prereleases=True)),
        newest=offers[0].version if offers else None,
    )
