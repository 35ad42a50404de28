"""What composes a project's environment: the fetcher of wheels, the install policy, the workshop."""

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from functools import cache, partial
from typing import TYPE_CHECKING

from rabbet.core.declaration.corrections import corrected
from rabbet.core.model.lock import LockedWheel, Needed, ToInstall, Unbuilt
from rabbet.core.model.runtime import PythonRuntime
from rabbet.net.git.remote_repository import RemoteRepository
from rabbet.python.compose.changes import EnvironmentSpec
from rabbet.python.compose.fetch import ArtifactFetcher
from rabbet.python.compose.make import wheels_for
from rabbet.python.compose.wheels import InstallPolicy
from rabbet.workspace.fetching.other_places import SourcePlaces
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.net.http.client import HttpClient
    from rabbet.python.builds.workshop import Workshop
    from rabbet.python.environment.put.install import InstallPlan
    from rabbet.python.sources.kinds.team_builds import TeamBuilds

__all__ = ["arriving", "fetcher_for", "install_policy_of", "workshop_for"]


def fetcher_for(session: Session) -> ArtifactFetcher:
    """The machine's store, and a client that knows the credentials for the project's sources."""

    def client() -> "HttpClient":
        from rabbet.workspace.fetching.opening import open_client  # here: mostly nothing has to be fetched

        return open_client(session.declaration(), session.machine)

    return ArtifactFetcher(
        store=session.machine.store,
        folder=session.project.folder,
        open_client=client,
        elsewhere=SourcePlaces(session),
        observer=session.observer,
    )


def install_policy_of(project: Project, *, own_lock: bool) -> InstallPolicy:
    """The requested libraries, and corrections of wheels if the lock is Rabbet's own."""
    declaration = project.declaration()
    return InstallPolicy(
        requested={requirement.need.name for requirement in declaration.declared()},
        correct=partial(corrected, declaration=declaration) if own_lock else None,
    )


@contextmanager
def arriving(
    session: Session,
    wanted: Iterable[ToInstall],
    spec: EnvironmentSpec,
    policy: InstallPolicy,
    *,
    compile_later: bool = False,
) -> "Iterator[tuple[list[Needed], Iterable[tuple[Needed, InstallPlan]]]]":
    """The wheels of what is wanted, each ready to be put into the environment; some are built first.

    Once all are put there, the store notes that its files were linked. Raises `SourceFailed`,
    `IntegrityFailed`, `BuildFailed`, `CannotWrite`.
    """
    libraries, fetcher = list(wanted), fetcher_for(session)
    wheels = [library for library in libraries if isinstance(library, Needed)]
    unbuilt = [library for library in libraries if isinstance(library, Unbuilt)]
    if unbuilt:
        from rabbet.python.builds.building import built  # here: few libraries have to be built

        wheels += built(unbuilt, workshop_for(session, spec.runtime))
    with wheels_for(spec, wheels, fetcher, policy, compile_later=compile_later) as ready:
        yield wheels, ready


def workshop_for(session: Session, runtime: PythonRuntime) -> "Workshop":
    """The workshop for builds of a project and its libraries on this machine."""
    from rabbet.python.builds.workshop import Workshop  # here: few libraries have to be built
    from rabbet.workspace.agreement import refuse_without_agreement

    def repository(url: str) -> RemoteRepository:
        from rabbet.workspace.fetching.sources import repository_at  # here: few libraries come from one

        return repository_at(url, session.declaration(), session.machine)

    @cache
    def team_builds() -> "list[TeamBuilds]":
        from rabbet.workspace.fetching.opening import open_team_builds

        return open_team_builds(session)

    def prebuilt(identity: str) -> LockedWheel | None:
        return next(filter(None, (build.wheel(identity) for build in team_builds())), None)

    return Workshop(
        fetcher=fetcher_for(session),
        runtime=runtime,
        environments=session.machine.environments(),
        repository=repository,
        commands=session.machine.helpers_environ()["PATH"],
        share_files=session.machine.shares_files(),
        seconds=session.machine.seconds_for_builds(),
        prebuilt=prebuilt,
        check_own=partial(refuse_without_agreement, session),
    )
