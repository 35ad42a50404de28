"""A project's sources, opened once for a command, and asked for one target after the other."""

from collections.abc import Callable, Collection, Iterable, Mapping
from contextlib import AbstractContextManager
from functools import partial
from typing import Protocol, TypeGuard

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.corrections import corrected
from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import OWN_FOLDER, Artifact, Lock, LockedCheckout, LockedCommit
from rabbet.core.model.release import Candidate, Metadata
from rabbet.core.model.target import Target
from rabbet.core.needs.names import library_name
from rabbet.core.solve.problem.provider import Narrowing, Policy
from rabbet.formats.text.address import Address, parse_address
from rabbet.formats.text.requirement import is_file, is_repository
from rabbet.net.git.remote_repository import RemoteRepository
from rabbet.net.http.client import HttpClient
from rabbet.python.sources.asking.catalogue import Catalogue, opened_catalogue
from rabbet.python.sources.asking.release_reader import ReleaseReader
from rabbet.python.sources.asking.routing import Claim, Routing
from rabbet.python.sources.base import Source
from rabbet.python.sources.files.file_reader import FileReader
from rabbet.python.sources.kinds.direct import DirectSource, direct_addresses
from rabbet.python.sources.kinds.trees import CheckoutSource, RepositorySource, reference_to
from rabbet.workspace.fetching.opening import OpenedSources, open_claims
from rabbet.workspace.machine import Machine
from rabbet.workspace.rules.judging import CountedRules, counted_rules
from rabbet.workspace.rules.narrowing import RulesNarrowing
from rabbet.workspace.rules.rule_sets import Look
from rabbet.workspace.session import Session

__all__ = ["BuildAnswers", "Sources", "open_sources", "repository_at"]


class BuildAnswers(Protocol):
    """Metadata that only builds provide."""

    def of_release(self, candidate: Candidate, artifact: Artifact) -> Metadata:
        """The metadata of a release that is a source archive. Raises what building raises."""

    def of_tree(self, name: NormalizedName, tree: LockedCommit | LockedCheckout) -> Metadata | None:
        """The metadata of a commit or a checkout; `None` where it may not be built. Raises as above."""


class Sources(Struct, frozen=True, kw_only=True):
    """The sources in their order, each with the names it claims; what they read is read once.

    `rules` are those that count for the project.
    """

    opened: tuple[Claim, ...]
    client: HttpClient
    session: Session
    rules: CountedRules | None = None

    def narrowing(
        self, spared: Mapping[NormalizedName, Collection[Version]] | None = None
    ) -> Narrowing | None:
        """What rules leave of releases, but for versions that are `spared`; `None` where none are stated."""
        return None if self.rules is None else RulesNarrowing(self.rules, spared or {})

    def catalogue(
        self,
        declaration: Declaration,
        target: Target,
        policy: Policy,
        earlier: Iterable[Lock] = (),
        builds: "BuildAnswers | None" = None,
    ) -> AbstractContextManager[Catalogue]:
        """All of them for one target, before them checkouts and addresses that the declaration itself names.

        What is taken from a repository stays at the commit that an `earlier` lock has. Without `builds`, what
        only a build could tell is not known.
        """
        kept = {
            library.name: library.tree
            for lock in earlier
            for library in lock.libraries
            if _is_commit(library.tree)
        }

        locked_from = {
            library.name: library.index for lock in earlier for library in lock.libraries if library.index
        }

        def routes(target: Target) -> Routing:
            return Routing([*self._declared(declaration, target, kept, builds), *self.opened], locked_from)

        reader = ReleaseReader(self.session.machine.metadata, partial(corrected, declaration=declaration))
        told = builds.of_release if builds else None
        return opened_catalogue(target, routes, reader, policy, self.session.observer.waiting, told)

    def _declared(
        self,
        declaration: Declaration,
        target: Target,
        kept: Mapping[NormalizedName, LockedCommit],
        builds: "BuildAnswers | None",
    ) -> list[Claim]:
        """Checkouts and addresses that the declaration names, as far as they count for a target.

        Where others require the project itself, that is what they get.
        """
        addresses = direct_addresses(
            requirement.need
            for requirement in declaration.declared()
            if target.admits(requirement.need.marker)
        )
        files = {name: address for name, address in addresses.items() if is_file(address)}
        repositories = {name: address for name, address in addresses.items() if name not in files}
        told = builds.of_tree if builds else None
        itself = {library_name(declaration.name): OWN_FOLDER} if declaration.build_system else {}
        own: list[Source] = [
            CheckoutSource(
                {**itself, **declaration.local},
                self.session.project.folder,
                told,
                editable=declaration.editable,
            ),
            DirectSource(files, FileReader(self.client)),
            RepositorySource(
                repositories, kept, self._repository, offline=self.session.machine.offline, told_by_build=told
            ),
        ]
        claims = [Claim(source, tuple(source.names())) for source in own]
        return [claim for claim in claims if claim.only]

    def _repository(self, address: Address) -> RemoteRepository:
        return opened_repository(address, self.session.machine)


def open_sources(
    session: Session,
    declaration: Declaration,
    *,
    always: bool = False,
    opened: OpenedSources | None = None,
    rules: Callable[[], CountedRules | None] | None = None,
) -> Sources:
    """Open a project's sources as `open_claims` does, unless that was done before.

    `rules` gives those that count, where a command looked them up before. Raises `SourceFailed`.
    """
    found = opened or open_claims(session, declaration, always=always)
    counted = counted_rules(session, Look()) if rules is None else rules()
    return Sources(opened=found.claims, client=found.client, session=session, rules=counted)


def opened_repository(address: Address, machine: Machine) -> RemoteRepository:
    """A repository, and what was fetched of it before."""
    return RemoteRepository(
        address.text,
        machine.store.repositories,
        machine.helpers_environ(),
        credentials=address.credentials if address.is_private else "",
    )


def repository_at(url: str, declaration: Declaration, machine: Machine) -> RemoteRepository:
    """The repository with this address in the lock, with the credentials that the declaration holds for it.

    Raises `SourceFailed` where it would have to be asked, and may not be.
    """
    declared = (
        requirement.need.url for requirement in declaration.declared() if requirement.need.url is not None
    )
    references = [reference_to(requirement) for requirement in declared if is_repository(requirement)]
    address = next(
        (reference.address for reference in references if reference.address.text == url), parse_address(url)
    )
    return opened_repository(address, machine)


def _is_commit(tree: LockedCommit | LockedCheckout | None) -> TypeGuard[LockedCommit]:
    return isinstance(tree, LockedCommit)
