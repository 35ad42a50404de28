"""The revisions of the project's lock in git, newest first."""

from collections.abc import Iterator

from rabbet.core.drift.since import LockRevision
from rabbet.formats.lock_text import read_locked_versions
from rabbet.net.git.revisions import contents, history
from rabbet.workspace.project import stamp_of
from rabbet.workspace.session import Session

__all__ = ["lock_history"]

MOST_REVISIONS = 1000  # that are looked at


def lock_history(session: Session, most: int = MOST_REVISIONS) -> Iterator[tuple[LockRevision, str]]:
    """Each revision, `most` of them, with the stamp of its text; none where the lock is not kept in git."""
    environ = session.machine.helpers_environ()
    blobs = history(session.project.folder, session.project.lock_file.name, environ, most)
    texts = (
        (blob, content.decode("utf-8", "replace"))
        for blob, content in contents(session.project.folder, (blob.blob for blob in blobs), environ)
    )
    read = {blob: (read_locked_versions(text), stamp_of(text)) for blob, text in texts}
    for version in blobs:
        if version.blob in read:
            locked, stamp = read[version.blob]
            revision = LockRevision(
                commit=version.commit,
                author=version.author,
                when=version.when,
                versions=locked.versions,
                conditional=locked.conditional,
            )
            yield revision, stamp
