"""The JSON documents of `resolve`."""

from collections.abc import Callable, Sequence
from typing import ClassVar, TypeVar

from msgspec import Struct

from rabbet.core.lock.version_changes import Move
from rabbet.documents.drifting.rules import breach_document
from rabbet.tasks.resolving.resolve import LockVerdict, Resolved

__all__ = ["ResolvedDocument", "VerdictsDocument"]

Answer = TypeVar("Answer", Resolved, LockVerdict)


class ResolvedDocument(Struct, frozen=True):
    """The new locks: that of the declaration itself first, then those of its variants.

    It was `written` or not; what comes next is told unless the command is `going_on` to it.
    """

    schema: ClassVar[str] = "resolve"

    resolved: Sequence[Resolved]
    written: bool = True

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"written": self.written, **_with_variants(self.resolved, _document)}


class VerdictsDocument(Struct, frozen=True):
    """Whether locks are what the declaration asks for, and why not."""

    schema: ClassVar[str] = "resolve-verify"

    verdicts: Sequence[LockVerdict]

    def document(self) -> dict[str, object]:
        """The content of the JSON document of `--verify`."""
        return _with_variants(self.verdicts, _verdict_document)


def _with_variants(
    found: Sequence[Answer], document: Callable[[Answer], dict[str, object]]
) -> dict[str, object]:
    """The JSON document of all locks: that of the declaration itself, with those of its variants inside."""
    variants = {verdict.variant: document(verdict) for verdict in found if verdict.variant}
    return {**document(found[0]), "variants": variants}


def _document(resolved: Resolved) -> dict[str, object]:
    return {
        "file": resolved.file,
        "targets": [
            {"platform": part.platform, "python": str(part.python)}
            for target in resolved.targets
            for part in target.each
        ],
        "untouched": resolved.untouched,
        "libraries": [
            {
                "name": library.name,
                "version": str(library.version),
                "dependencies": list(library.dependencies),
                "yanked": library.yanked,
            }
            for library in resolved.lock.libraries
        ],
        "runtimes": [
            {
                "language": runtime.language,
                "version": str(runtime.version),
                "distributor": runtime.distributor or None,
                "catalogue": runtime.catalogue or None,
                "platforms": [archive.platform for archive in runtime.archives],
            }
            for runtime in resolved.lock.runtimes
        ],
        "moves": [_move(move) for move in resolved.moves],
        "passed_over": list(resolved.passed_over),
        "not_preferred": list(resolved.not_preferred),
        "also_known": list(resolved.new_sources),
        "unused_checkouts": list(resolved.unused_checkouts),
        "unhashed": list(resolved.unhashed),
        "edited": list(resolved.edited),
        "unread": resolved.unread or None,
        "left_out": list(resolved.lock.left_out),
        "unknown_extras": list(resolved.unknown_extras),
        "by_patch": list(resolved.by_patch),
        "told_here": list(resolved.told_here),
        "file_clash": resolved.file_clash,
        "no_longer_served": list(resolved.lost),
        "unused_corrections": list(resolved.unused_corrections),
        "broken_rules": [breach_document(breach) for breach in resolved.broken],
    }


def _verdict_document(verdict: LockVerdict) -> dict[str, object]:
    return {
        "file": verdict.file,
        "verified": not verdict.reasons,
        "reasons": list(verdict.reasons),
        "moves": [_move(move) for move in verdict.moves],
        "broken_rules": [breach_document(breach) for breach in verdict.broken],
    }


def _move(move: Move) -> dict[str, str | None]:
    return {
        "name": move.name,
        "before": None if move.before is None else str(move.before),
        "after": None if move.after is None else str(move.after),
        "reason": move.reason,
    }
