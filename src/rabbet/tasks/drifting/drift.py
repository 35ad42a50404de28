"""The task of `drift`: compare what is installed here with the lock."""

import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from rabbet.core.drift.checks.project import Surroundings
from rabbet.core.drift.since import NearestRevision, nearest_revision
from rabbet.core.drift.stories import Story, stories
from rabbet.core.model.cause import Reason, Shadow
from rabbet.core.model.finding import Finding, Kind, Weight
from rabbet.core.model.lock import Unbuilt
from rabbet.core.model.options import RecreateOptions
from rabbet.core.needs.names import library_name
from rabbet.disk.named import path_named
from rabbet.errors import SourceFailed, WrongUsage
from rabbet.exports.kernel import kernels_folder, lost_kernels
from rabbet.exports.marked import stale_files
from rabbet.formats.pylock import edited_by_hand
from rabbet.python.environment.look.foreign import library_folders
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.workspace.looking.comparison import (
    Comparison,
    compared,
    compared_elsewhere,
    compared_with_state,
    question,
)
from rabbet.workspace.looking.result_cache import inputs_of, remember_findings, remember_fit
from rabbet.workspace.looking.shadows import folders_in_front, is_isolated, owner_of, shadows, users_site
from rabbet.workspace.looking.system_look import system_look
from rabbet.workspace.rules.judging import counted_rules, judged_installed
from rabbet.workspace.rules.rule_sets import KNOWN
from rabbet.workspace.session import Session
from rabbet.workspace.states.lock_history import lock_history
from rabbet.workspace.states.states import read_state

__all__ = ["Drift", "drift", "drift_against", "drift_elsewhere"]

_OF_VERSIONS = (Kind.MISSING, Kind.SURPLUS, Kind.VERSION)


class Drift(Struct, frozen=True, kw_only=True):
    """All findings, and how many libraries were compared, for the project or a variant of it.

    `since` is the earlier revision of the lock that what is installed fits better than the lock of today.
    `elsewhere` is where that is, if not in the project's own environment. `against` is the state that stands
    in for the lock of today; it is no lock where it is `installed_there`.
    """

    findings: tuple[Finding, ...]
    compared: int
    variant: str | None = None
    since: NearestRevision | None = None
    elsewhere: str = ""
    against: str = ""
    installed_there: bool = False

    @property
    def differs(self) -> bool:
        """Whether anything weighs more than a note."""
        return any(finding.weight is not Weight.NOTE for finding in self.findings)

    @property
    def may_be_mended(self) -> bool:
        """Whether commands mend it: those that make the project's environment match the lock of today."""
        return not (self.elsewhere or self.against)

    @property
    def stories(self) -> tuple[Story, ...]:
        """The findings that one deed brought about, told together."""
        return stories(self.findings)


def drift(session: Session, *, deep: bool = False) -> Drift:
    """Compare without running anything of the environment; a `deep` look takes the lock's hashes alone.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed`; a deep look what fetching raises too.
    """
    session.observer.stage("comparing the environment with the lock")
    inputs = inputs_of(session)
    asked = question(session, RecreateOptions())
    found = compared(asked, session, deep=deep)
    if asked.install_state is not None and found.inventory.is_sound:
        remember_fit(session, inputs, found.state, None)
    around = Surroundings(
        outdated=asked.outdated,
        edited=tuple(edited_by_hand(asked.lock)),
        stale=tuple(stale_files(session.project.folder, asked.lock_stamp)),
        lost_kernels=tuple(_lost_kernels(session)),
        shadows=tuple(_shadows(session, found)),
        made_here=asked.install_state is not None,
        system=system_look(asked.declaration, session.machine.environ),
    )
    around = _judged(session, found, around, session.project.environment)
    findings = tuple(_with_sharers(finding, session) for finding in found.findings(around))
    state = found.state if asked.editable else ""  # what a wheel was built from is looked at each time
    of_environment = [finding for finding in findings if finding.kind not in (Kind.SYSTEM, Kind.RULE)]
    weighty = any(finding.weight is not Weight.NOTE for finding in of_environment)
    remember_findings(
        session,
        inputs,
        state,
        len(of_environment) if weighty else 0,
        None if findings or asked.declaration.system else len(asked.needed),
    )
    return Drift(
        findings=findings,
        compared=len(asked.needed),
        variant=session.project.variant,
        since=_since(session, found, findings),
    )


def _judged(session: Session, found: Comparison, around: Surroundings, root: Path) -> Surroundings:
    """The surroundings with what rules say of the libraries that are installed in a folder."""
    try:
        rules = counted_rules(session, KNOWN)
    except SourceFailed as error:
        return replace(around, rules_unknown=("; ".join([str(error), *error.because]),))
    if rules is None:
        return around
    broken = judged_installed(session, rules, session.lock(), found.inventory, root)
    return replace(around, broken=broken, rules_unknown=rules.records.too_old)


def _lost_kernels(session: Session) -> list[str]:
    machine = session.machine
    return lost_kernels(kernels_folder(machine.environ, machine.home), session.project.folder)


def drift_elsewhere(session: Session, place: str, *, deep: bool = False) -> Drift:
    """Compare what is installed in another place, made by any tool, with the lock.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed` where no libraries are installed there;
    a deep look what fetching raises too.
    """
    session.observer.stage(f"comparing {place} with the lock")
    asked = question(session, RecreateOptions())
    path = path_named(place, session.machine.folder)
    found = compared_elsewhere(asked, path, session, deep=deep)
    around = Surroundings(shadows=tuple(_shadows(session, found, path)))
    findings = found.findings(_judged(session, found, around, path))
    return Drift(
        findings=findings,
        compared=len(asked.needed),
        variant=session.project.variant,
        since=_since(session, found, findings),
        elsewhere=place,
    )


def drift_against(session: Session, named: str, *, deep: bool = False) -> Drift:
    """Compare the project's environment with another state than its lock.

    Raises what reading the state raises, `NoRuntime`, `EnvironmentFailed`; a deep look `WrongUsage` where
    the state is not a lock, and what fetching raises too.
    """
    session.observer.stage(f"comparing the environment with {named}")
    state = read_state(session, named)
    if deep and state.installed:
        raise WrongUsage(
            f"--deep compares files with the hashes of a lock, and {named} is not one",
            remedy="rabbet drift --deep",
        )
    found = compared_with_state(session, state, deep=deep)
    return Drift(
        findings=found.findings(Surroundings(shadows=tuple(_shadows(session, found)))),
        compared=len(found.expected.needed),
        variant=session.project.variant,
        against=state.name,
        installed_there=state.installed,
    )


def _since(session: Session, found: Comparison, findings: Iterable[Finding]) -> NearestRevision | None:
    """The revision of the lock in git that fits better, if versions differ."""
    of_versions = (
        finding
        for finding in findings
        if finding.kind in _OF_VERSIONS and finding.reason is not Reason.YANKED
    )
    differing = {finding.name for finding in of_versions if not finding.files}
    if not differing:
        return None
    needed = found.expected.needed
    local = {library.locked.name for library in needed if isinstance(library, Unbuilt) and library.local}
    installed = {
        name: str(library.version) for name, library in found.inventory.libraries.items() if name not in local
    }
    revisions = (revision for revision, _ in lock_history(session))
    return nearest_revision(installed, revisions, len(differing))


def _shadows(session: Session, found: Comparison, elsewhere: Path | None = None) -> Iterator[Shadow]:
    """Modules of libraries that Python would take from elsewhere, but for those of the project itself."""
    project = session.project
    folders = folders_in_front(project.folder, session.machine.environ.get("PYTHONPATH", ""))
    inventory, root = found.inventory, elsewhere or project.environment
    if not is_isolated(root):
        folders.append(users_site(session.machine.home, inventory.python))
    own = library_name(found.expected.project)
    for site in library_folders(root):
        owners = {library.folder: library for library in inventory.libraries.values()}
        for module, file in shadows(folders, site):
            owner = owners.get(owner_of(module, site))
            if owner is not None and owner.name != own:
                inside = file.is_relative_to(project.folder)
                yield Shadow(
                    library=owner.name,
                    version=owner.version,
                    module=module,
                    file=str(file.relative_to(project.folder) if inside else file),
                    project=inside,
                )


def _with_sharers(finding: Finding, session: Session) -> Finding:
    """Add to a finding the other environments that share the altered file as a hard link."""
    if finding.kind is not Kind.ALTERED or not finding.files:
        return finding
    site = read_configuration(session.project.environment).site_packages
    place = os.path.normpath(f"{site}/{finding.files[0]}")
    with suppress(OSError):
        altered = os.lstat(session.project.environment / place)
        sharers = [
            str(root)
            for root in session.machine.environments().known()
            if root != session.project.environment and _is_same(root / place, altered)
        ]
        return replace(finding, shared_with=tuple(sharers))
    return finding


def _is_same(path: Path, other: os.stat_result) -> bool:
    try:
        return os.path.samestat(os.lstat(path), other)
    except OSError:
        return False
