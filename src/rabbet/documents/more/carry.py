"""The JSON documents of `carry`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.tasks.more.carry import Carried, CarriedBuilds

__all__ = ["CarriedBuildsDocument", "CarryDocument"]


class CarryDocument(Struct, frozen=True):
    """How much there is, what could not come along, and what to do with it."""

    schema: ClassVar[str] = "carry"

    carried: Carried

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        carried, written = self.carried, self.carried.written
        return {
            "place": str(carried.place),
            "targets": list(carried.targets),
            "files": written.files,
            "new": written.new,
            "gone": written.gone,
            "size": written.size,
            "notes": list(carried.notes),
        }


class CarriedBuildsDocument(Struct, frozen=True):
    """Which wheels that were built here lie in the place now, and how teammates get them."""

    schema: ClassVar[str] = "carry-built"

    carried: CarriedBuilds

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        carried = self.carried
        return {
            "place": str(carried.place),
            "built": [
                {
                    "name": wheel.name,
                    "version": wheel.version,
                    "filename": wheel.filename,
                    "sha256": wheel.sha256,
                }
                for wheel in carried.wheels
            ],
            "new": carried.new,
            "others": carried.others,
            "not_built": list(carried.not_built),
        }
