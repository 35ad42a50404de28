"""The JSON document of `lookup`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.needs.wording import specifiers_text
from rabbet.tasks.resolving.lookup import LookedUp

__all__ = ["LookupDocument"]


class LookupDocument(Struct, frozen=True):
    """The releases of a library."""

    schema: ClassVar[str] = "lookup"

    found: LookedUp

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = self.found
        return {
            "name": found.asked.name,
            "versions": specifiers_text(found.asked.specifier) or None,
            "source": found.source,
            "targets": [str(target) for target in found.targets],
            "releases": [
                {
                    "version": str(offer.version),
                    "uploaded": offer.uploaded or None,
                    "python": offer.python or None,
                    "systems": list(offer.systems),
                    "yanked": offer.yanked,
                    "targets": [str(target) for target in offer.serves],
                    "refused": offer.refused or None,
                    "baseline": offer.baseline or None,
                    "allowed": offer.allowed,
                    "locked": offer.locked,
                }
                for offer in found.offers
            ],
        }
