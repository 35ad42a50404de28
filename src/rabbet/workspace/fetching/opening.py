"""A project's sources as they are first opened, and the questions that are sent before all else is ready.

This module imports little: what a command will need for certain is on the wire while the rest of it loads.
"""

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration
from rabbet.core.needs.names import library_name
from rabbet.disk.named import path_named
from rabbet.disk.text_file import read_text
from rabbet.formats.text.address import is_address, parse_address
from rabbet.net.http.client import HttpClient
from rabbet.net.http.credentials import Credentials
from rabbet.python.sources.asking.routing import Claim, Routing
from rabbet.python.sources.base import AskableSource
from rabbet.python.sources.opening import open_source, unsupported
from rabbet.workspace.known_sources import known_sources, users_origins
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.python.sources.kinds.team_builds import TeamBuilds

__all__ = ["OpenedSources", "asked_ahead", "open_claims", "open_client", "open_team_builds"]


class OpenedSources(NamedTuple):
    """The opened sources of a declaration, in order, with the names they claim, and their client."""

    declaration: Declaration
    client: HttpClient
    claims: tuple[Claim, ...]


def open_client(declaration: Declaration, machine: Machine) -> HttpClient:
    """A client that knows the credentials for what the declaration takes libraries from."""
    netrc_file = Path(machine.environ.get("NETRC") or machine.home / ".netrc")
    entries = (*declaration.sources, *declaration.team_builds)
    addresses = [address for entry in entries for address in (entry.url, *entry.mirrors)]
    addresses += [
        requirement.need.url for requirement in declaration.declared() if requirement.need.url is not None
    ]
    if declaration.rules is not None:
        addresses += [*declaration.rules.advisories, declaration.rules.shared]
    credentials = Credentials(addresses, users_origins(machine), machine.environ, netrc_file)
    return HttpClient(machine.wire, machine.environ, credentials, offline=machine.offline)


def open_claims(session: Session, declaration: Declaration, *, always: bool = False) -> OpenedSources:
    """Open a project's sources; it needs none if it declares no library, unless asked for one `always`.

    Raises `SourceFailed`.
    """
    client = open_client(declaration, session.machine)
    all_ = (declaration, *(declaration.varied(name) for name in declaration.variants))
    wanted = always or declaration.build_system or any(True for each in all_ for _ in each.declared())
    claims = [
        Claim(
            open_source(
                entry,
                project=session.project.folder,
                client=client,
                memory_of=session.machine.listings,
                refresh=session.machine.fresh_listings,
            ),
            entry.only,
        )
        for entry in (known_sources(declaration, session.machine) if wanted else ())
    ]
    return OpenedSources(declaration, client, tuple(claims))


def open_team_builds(session: Session) -> "list[TeamBuilds]":
    """The places of a project that hold wheels which teammates built; none where no network may be asked.

    A folder's path is relative to the project. Raises `SourceFailed` for an unsupported address.
    """
    declaration = session.declaration()
    if not declaration.team_builds:
        return []
    from rabbet.python.sources.kinds.team_builds import TeamBuilds  # here: few projects have one

    found, client = [], open_client(declaration, session.machine)
    for entry in declaration.team_builds:
        scheme = parse_address(entry.url).scheme if is_address(entry.url) else ""
        if scheme not in ("", "http", "https", "file"):
            raise unsupported(entry.name, scheme)
        folder = session.project.folder
        address = parse_address(entry.url).text if scheme else path_named(entry.url, folder).as_uri()
        if not (session.machine.offline and scheme.startswith("http")):
            found.append(TeamBuilds(entry.name, address.rstrip("/") + "/", client))
    return found


def asked_ahead(session: Session, *, anyway: bool) -> OpenedSources:
    """Open the sources, and ask their indexes for what is declared, and for what was locked before.

    Nothing is asked for where the lock was made from this very declaration, for then it may do as it is:
    unless it is to be looked at `anyway`. Raises `SourceFailed`, `NotUnderstood`, `WrongUsage`.
    """
    declaration = session.project.of(None).declaration()
    opened = open_claims(session, declaration)
    lock = _text_of_lock(session.project)
    seen = session.declaration() if session.project.variant else declaration
    fits = f'fingerprint = "{seen.fingerprint()}"' in lock
    if session.machine.offline or (fits and not anyway):
        return opened
    _ask(
        opened,
        declaration,
        (requirement.need.name for requirement in declaration.declared() if not requirement.need.url),
    )
    if lock:
        from rabbet.formats.lock_text import read_locked_versions

        _ask(opened, declaration, read_locked_versions(lock).versions)
    return opened


def _ask(opened: OpenedSources, declaration: Declaration, names: Iterable[NormalizedName]) -> None:
    """Ask for the listings of these libraries, where nothing but an index may be the first to have them."""
    elsewhere = {*declaration.local, library_name(declaration.name)}
    elsewhere |= {requirement.need.name for requirement in declaration.declared() if requirement.need.url}
    routing = Routing(opened.claims, {})
    for name in names:
        first = next(iter(routing.sources_of(name)), None)
        if name not in elsewhere and isinstance(first, AskableSource):
            first.ask_listing(name)


def _text_of_lock(project: Project) -> str:
    return read_text(project.lock_file) if project.lock_file.is_file() else ""
