"""The JSON documents of `export kernel` and `export kernels`."""

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct

from rabbet.tasks.more.kernels import KnownKernel

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
    """All kernels that were registered."""

    schema: ClassVar[str] = "export-kernels"

    found: Sequence[KnownKernel]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"kernels": [{**_row(known), "there": known.there} for known in self.found]}


def _row(known: KnownKernel) -> dict[str, object]:
    kernel = known.kernel
    return {
        "folder": str(known.folder),
        "title": kernel.title,
        "environment": str(kernel.environment),
        "project": kernel.project,
    }
