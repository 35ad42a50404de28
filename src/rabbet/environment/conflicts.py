"""Two libraries that would write the same file of an environment."""

from collections.abc import Iterable, Mapping

from packaging.utils import NormalizedName

from rabbet.errors import IntegrityFailed

__all__ = ["refuse_conflicts"]


def refuse_conflicts(files: Mapping[NormalizedName, Iterable[tuple[str, str | None]]]) -> None:
    """Check the places and digests of each library's files before anything is installed.

    Files of the same content may be shared, as some libraries of one family do; those without a digest are
    Python's own by-products.
    Raises `IntegrityFailed`, naming both libraries.
    """
    owners: dict[str, tuple[NormalizedName, str]] = {}
    for name, placed in sorted(files.items()):
        for place, sha256 in placed:
            if sha256 is None:
                continue
            owner, content = owners.setdefault(place, (name, sha256))
            if content != sha256:
                raise IntegrityFailed(
                    f"{owner} and {name} can't be installed together",
                    because=[f"both bring {place}, each with other content"],
                    remedy=f"keep one of them, or a release without that file: rabbet explain {name}",
                )
