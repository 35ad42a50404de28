"""The base of all JSON documents."""

from collections.abc import Mapping
from typing import ClassVar, Protocol

__all__ = ["Document", "with_schema"]


class Document(Protocol):
    """A command's result, in the form for programs.

    The `schema` is the name of the document, of which each has a shape of its own (`docs/schemas`).
    """

    schema: ClassVar[str]

    def document(self) -> Mapping[str, object]:
        """The content of the document, without its name."""


def with_schema(found: Document) -> dict[str, object]:
    """The whole document, which names its shape."""
    return {"schema": f"rabbet.{found.schema}/1", **found.document()}
