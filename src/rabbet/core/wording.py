"""Requirements in the words and order that people use, without the secrets that addresses may hold."""

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet

from rabbet.core.shown_text import without_credentials

__all__ = ["renamed", "requirement_text", "specifiers_text"]

_OPERATORS = ("===", "==", "~=", ">=", ">", "!=", "<=", "<")


def specifiers_text(specifiers: SpecifierSet) -> str:
    """Such as `>=2,<4`."""
    ordered = sorted(specifiers, key=lambda one: (_OPERATORS.index(one.operator), one.version))
    return ",".join(str(one) for one in ordered)


def renamed(requirement: Requirement, name: str) -> Requirement:
    """The same requirement on a library of another name."""
    changed = Requirement(str(requirement))
    changed.name = name
    return changed


def requirement_text(requirement: Requirement, *, marker: bool = True, whole: bool = False) -> str:
    """Such as `combframe[fast]>=2,<4; os_name == "nt"`; without the marker where it has done its work.

    Only the `whole` text has the credentials that its address may hold.
    """
    extras = f"[{','.join(sorted(requirement.extras))}]" if requirement.extras else ""
    behind = f"; {requirement.marker}" if marker and requirement.marker else ""
    if requirement.url is not None:
        url = requirement.url if whole else without_credentials(requirement.url)
        return f"{requirement.name}{extras} @ {url}{' ' if behind else ''}{behind}"
    return f"{requirement.name}{extras}{specifiers_text(requirement.specifier)}{behind}"
