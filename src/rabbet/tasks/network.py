"""The HTTP client of a project: with the credentials for its sources."""

from pathlib import Path

from rabbet.core.model.declaration import Declaration, SourceEntry
from rabbet.sources.credentials import Credentials
from rabbet.sources.http import HttpClient
from rabbet.tasks.machine import Machine
from rabbet.tasks.settings import users_source

__all__ = ["open_client"]


def open_client(declaration: Declaration, machine: Machine) -> HttpClient:
    """A client that knows the credentials for the declared sources, or for the user's."""
    entries = declaration.sources
    if not entries:
        address = users_source(machine)
        entries = (SourceEntry(name="default", url=address),) if address else ()
    netrc_file = Path(machine.environ.get("NETRC") or machine.home / ".netrc")
    addresses = [one.requirement.url for one in declaration.declared() if one.requirement.url is not None]
    credentials = Credentials(entries, machine.environ, netrc_file, addresses=addresses)
    return HttpClient(machine.environ, credentials, offline=machine.offline)
