"""The lock entries of chosen releases, asked for by several threads."""

from collections.abc import Iterable
from concurrent.futures import Future

from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.model.lock import Artifact, LockedFile
from rabbet.core.model.release import Candidate, ListedFile, SourceTree
from rabbet.core.moment import is_moment
from rabbet.python.sources.asking.routing import Routing
from rabbet.work.pools import Asking

__all__ = ["also_known", "locked_artifacts"]


def locked_artifacts(
    chosen: Iterable[Candidate], routing: Routing, asking: Asking, *, timed: bool = False
) -> dict[NormalizedName, list[Artifact]]:
    """The artifacts to lock for each release, in the same order; `timed` ones note when they were uploaded.

    Raises `SourceFailed`, `IntegrityFailed`.
    """
    releases = list(chosen)

    def ask(file: ListedFile) -> "Future[Artifact]":
        lock = routing.file_source(file.source).locked
        if file.sha256 is None or file.size is None:
            return asking.begin(lock, file)
        known: Future[Artifact] = Future()
        known.set_result(lock(file))  # all is known of it, and nobody is asked
        return known

    asked = {release.name: [ask(file) for file in release.files] for release in releases}
    what = "sizes and hashes of files"
    return {
        candidate.name: [candidate.offered.locked]
        if isinstance(candidate.offered, SourceTree)
        else [
            _timed(asking.awaited(answer, what), file if timed else None)
            for file, answer in zip(candidate.files, asked[candidate.name], strict=True)
        ]
        for candidate in releases
    }


def _timed(artifact: Artifact, file: ListedFile | None) -> Artifact:
    """An artifact with the moment when its file was uploaded, if the source tells it."""
    uploaded = file.uploaded if file is not None and is_moment(file.uploaded or "") else None
    return replace(artifact, uploaded=uploaded) if uploaded and isinstance(artifact, LockedFile) else artifact


def also_known(
    chosen: Iterable[Candidate], routing: Routing, asking: Asking
) -> dict[NormalizedName, tuple[str, ...]]:
    """Which chosen libraries later sources know too: somebody else may publish under such a name."""
    asked = {
        candidate.name: [
            (source.name, asking.begin(source.listing, candidate.name))
            for source in routing.sources_after(candidate)
        ]
        for candidate in chosen
    }
    known = {
        name: tuple(
            source
            for source, listing in found
            if asking.awaited(listing, f"the listing of {name}") is not None
        )
        for name, found in asked.items()
    }
    return {name: sources for name, sources in known.items() if sources}
