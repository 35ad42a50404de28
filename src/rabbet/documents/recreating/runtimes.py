"""The JSON documents of `runtimes`, and of `explain` for a runtime."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from msgspec import Struct

from rabbet.errors import RabbetError
from rabbet.tasks.recreating.runtimes import RuntimesFound

if TYPE_CHECKING:
    from rabbet.store.obtained import Obtained
    from rabbet.workspace.runtimes.explaining import RuntimeExplained
    from rabbet.workspace.runtimes.obtaining import OfferedRuntime
    from rabbet.workspace.runtimes.publishing import Published

__all__ = [
    "AllPublishedDocument",
    "DiscardedDocument",
    "ObtainedDocument",
    "OffersDocument",
    "PublishedDocument",
    "RuntimeDocument",
    "RuntimesDocument",
]


class RuntimesDocument(Struct, frozen=True):
    """The runtimes of this machine, and what was refused."""

    schema: ClassVar[str] = "runtimes"

    found: RuntimesFound

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "declaration": str(self.found.declaration) if self.found.declaration else None,
            "runtimes": [
                {
                    "language": row.runtime.language,
                    "version": str(row.runtime.version),
                    "distributor": row.runtime.distributor,
                    "machine": row.architecture or None,
                    "executable": row.runtime.executable,
                    "projects": list(row.projects),
                    "chosen": row.chosen,
                    "passed_over": row.passed_over,
                }
                for row in self.found.rows
            ],
            "refused": [
                {"language": refusal.language, "executable": refusal.executable, "reason": refusal.reason}
                for refusal in self.found.refusals
            ],
            "missing": [str(error) for error in self.found.missing],
        }


class OffersDocument(Struct, frozen=True):
    """The versions that catalogues offer, one row each."""

    schema: ClassVar[str] = "runtimes-lookup"

    offers: "Sequence[OfferedRuntime]"

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"offers": [_offer_document(offer) for offer in self.offers]}


class ObtainedDocument(Struct, frozen=True):
    """A runtime that was obtained."""

    schema: ClassVar[str] = "runtimes-obtain"

    picked: "OfferedRuntime"
    program: Path

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {**_offer_document(self.picked), "executable": str(self.program)}


class DiscardedDocument(Struct, frozen=True):
    """Runtimes that were removed from the store."""

    schema: ClassVar[str] = "runtimes-discard"

    gone: "Sequence[Obtained]"

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "discarded": [
                {"language": obtained.language, "version": obtained.version} for obtained in self.gone
            ]
        }


class RuntimeDocument(Struct, frozen=True):
    """Why a runtime is in the lock, and what holds it back."""

    schema: ClassVar[str] = "explain-runtime"

    explained: "RuntimeExplained"

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        explained, runtime = self.explained, self.explained.runtime
        return {
            "language": runtime.language,
            "version": str(runtime.version),
            "asked": [str(asked) for asked in explained.asked],
            "here": [str(version) for version in explained.here],
            "catalogue": runtime.catalogue or None,
            "platforms": [archive.platform for archive in runtime.archives],
            "newest": str(explained.newest) if explained.newest else None,
            "held_back_by": [holder.who for holder in explained.holders],
            "unasked": explained.unasked or None,
        }


class PublishedDocument(Struct, frozen=True):
    """A runtime that was packed for others."""

    schema: ClassVar[str] = "runtimes-publish"

    done: "Published"

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        done = self.done
        return {
            "language": done.offer.language,
            "version": str(done.offer.version),
            "tried": done.tried,
            "platform": done.archive.platform,
            "platforms": [archive.platform for archive in done.offer.archives],
            "archive": done.archive.url,
            "sha256": done.archive.digest,
            "size": done.archive.size,
            "baseline": done.archive.baseline or None,
            "catalogue": str(done.catalogue),
            "obstacles": [
                {"place": obstacle.place, "reason": obstacle.reason} for obstacle in done.obstacles
            ],
        }


class AllPublishedDocument(Struct, frozen=True):
    """The outcome of each line of a file: published, or failed and why."""

    schema: ClassVar[str] = "runtimes-publish-each"

    done: Sequence["Published"]
    failed: Sequence[tuple[str, RabbetError]]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "published": [PublishedDocument(published).document() for published in self.done],
            "failed": [
                {"what": what, "message": str(error), "because": list(error.because)}
                for what, error in self.failed
            ],
        }


def _offer_document(offered: "OfferedRuntime") -> dict[str, object]:
    return {
        "language": offered.offer.language,
        "version": str(offered.offer.version),
        "distributor": offered.offer.distributor,
        "catalogue": offered.catalogue,
        "platforms": sorted(archive.platform for archive in offered.offer.archives),
        "url": offered.archive.url if offered.archive else None,
        "size": offered.archive.size if offered.archive else None,
        "reason": offered.reason or None,
    }
