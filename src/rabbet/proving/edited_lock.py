"""The lock that an edited declaration would get; nothing is written."""

from collections.abc import Iterable, Sequence

from rabbet.core.declaration.edit import Edit
from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock
from rabbet.core.model.options import ResolveOptions
from rabbet.core.model.target import Target
from rabbet.disk.text_file import read_text
from rabbet.errors import NoLock, NotUnderstood
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.project.pyproject_edit import apply
from rabbet.resolving.request import ResolveRequest
from rabbet.resolving.resolve_targets import resolve_targets
from rabbet.workspace.fetching.sources import open_sources
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of, targets_for
from rabbet.workspace.session import Session

__all__ = ["EditedLocks"]


class EditedLocks:
    """Resolves a project's declaration with edits, as often as is wanted."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._text = read_text(session.project.declaration_file, by_hand=True)

    def declaration(self, edits: Iterable[Edit]) -> Declaration:
        """The declaration with these edits, as the session's variant sees it. Raises `NotUnderstood`."""
        project = self._session.project
        edited, _ = apply(self._text, edits)
        told = self._session.declaration().told
        name = project.fallback_name
        whole = read_declaration(edited, folder_name=name, has_setup=told is not None, told=told)
        return whole.varied(project.variant) if project.variant else whole

    def lock(
        self,
        edits: Iterable[Edit],
        options: ResolveOptions | None = None,
        *,
        earlier: Sequence[Lock] | None = None,
        targets: Sequence[Target] | None = None,
    ) -> tuple[Lock, Declaration]:
        """The lock that it would get, and itself. Raises what resolving raises.

        Versions of `earlier` locks are kept, the project's own unless others are given. It is for all targets
        of the project, or for these.
        """
        session, declaration = self._session, self.declaration(edits)
        before = tuple(self._present() if earlier is None else earlier)
        runtime = chosen_runtime(declaration, pythons_of(session), before[0] if before else None)
        request = ResolveRequest(
            declaration=declaration,
            variant=session.project.variant,
            sources=open_sources(session, declaration),
            runtime=runtime,
            targets=tuple(targets or targets_for(declaration, runtime)),
            earlier=before,
            written=False,
        )
        return resolve_targets(request, options or ResolveOptions()).lock, declaration

    def _present(self) -> tuple[Lock, ...]:
        try:
            return (self._session.lock(),)
        except (NoLock, NotUnderstood):
            return ()
