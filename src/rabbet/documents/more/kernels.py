"""The JSON documents of `export kernel` and `export kernels`."""

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct

from rabbet.exports.kernel import KnownKernel

__all__ = ["KernelDocument", "KernelsDocument"]


class KernelDocument(Struct, frozen=True):
    """A kernel, and whether it is registered now."""

    schema: ClassVar[str] = "export-kernel"

    known: KnownKernel
    registered: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {**_row(self.known), "registered": self.registered}


class KernelsDocument(Struct, frozen=True):
    """All kernels that were registered, or those that are not `registered` any more."""

    schema: ClassVar[str] = "export-kernels"

    found: Sequence[KnownKernel]
    registered: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        rows = [{**_row(known), "there": known.there, "registered": self.registered} for known in self.found]
        return {"kernels": rows}


def _row(known: KnownKernel) -> dict[str, object]:
    kernel = known.kernel
    return {
        "folder": str(known.folder),
        "title": kernel.title,
        "environment": str(kernel.environment),
        "project": kernel.project,
    }
