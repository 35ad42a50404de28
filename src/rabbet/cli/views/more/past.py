"""The view of `past`."""

from collections.abc import Iterator, Sequence

from rabbet.cli.context import Context
from rabbet.core.drift.since import RevisionChanges, VersionsChange
from rabbet.documents.amounts import count, day
from rabbet.documents.more.past import PastDocument

__all__ = ["PastView"]

_SHOWN_CHANGES = 3  # of one revision
_DIGITS = 10  # of a commit


class PastView(PastDocument, frozen=True):
    """The earlier revisions of the lock, `most` of them at most."""

    most: int | None

    def show(self, context: Context) -> None:
        """Print a row for each revision that changed something."""
        revisions = self.found.revisions[: self.most]
        if self.found.asked:
            headings: tuple[str, ...] = ("committed", "commit", "by", "before", "after")
            rows = [(*_which(revision), *_versions(revision.changes[0])) for revision in revisions]
        else:
            headings = ("committed", "commit", "by", "changed", "")
            rows = [
                (*_which(revision), str(len(revision.changes)), "; ".join(_few(revision.changes)))
                for revision in revisions
            ]
        context.show_table(headings, rows)
        context.show()
        hidden = len(self.found.revisions) - len(revisions)
        more = f", {len(revisions)} of them shown (--all for the rest)" if hidden else ""
        context.show(f"{self._outcome()}{more}.")

    def _outcome(self) -> str:
        found = self.found
        committed = sum(bool(changed.revision.commit) for changed in found.revisions)
        where = f"in {committed} of {count(found.revisions_read, 'revision')} in git"
        if committed < len(found.revisions):
            where += ", and once more since" if committed else ", and once since"
        if found.asked is None:
            return f"Versions changed {where}"
        now = f"locked as {', '.join(found.versions)}" if found.versions else "not locked"
        return f"{found.asked} is {now} today; that changed {where}"


def _which(changed: RevisionChanges) -> tuple[str, str, str]:
    revision = changed.revision
    if not revision.commit:
        return "not yet", "-", "-"
    return day(revision.when), revision.commit[:_DIGITS], revision.author


def _versions(change: VersionsChange) -> tuple[str, str]:
    return ", ".join(change.before) or "-", ", ".join(change.after) or "-"


def _few(changes: Sequence[VersionsChange]) -> Iterator[str]:
    """The first changes, and how many more there are."""
    for change in changes[:_SHOWN_CHANGES]:
        before, after = _versions(change)
        yield f"{change.name} {before} → {after}"
    if len(changes) > _SHOWN_CHANGES:
        yield f"{len(changes) - _SHOWN_CHANGES} more"
