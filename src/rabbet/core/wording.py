"""Requirements in the words and order that people use: lower bounds before upper ones."""

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet

__all__ = ["requirement_text", "specifiers_text"]

_OPERATORS = ("===", "==", "~=", ">=", ">", "!=", "<=", "<")


def specifiers_text(specifiers: SpecifierSet) -> str:
    """Such as `>=2,<4`."""
    ordered = sorted(specifiers, key=lambda one: (_OPERATORS.index(one.operator), one.version))
    return ",".join(str(one) for one in ordered)


def requirement_text(requirement: Requirement, *, marker: bool = True) -> str:
    """Such as `combframe[fast]>=2,<4; os_name == "nt"`; without the marker where it has done its work."""
    extras = f"[{','.join(sorted(requirement.extras))}]" if requirement.extras else ""
    behind = f"; {requirement.marker}" if marker and requirement.marker else ""
    if requirement.url is not None:
        return f"{requirement.name}{extras} @ {requirement.url}{' ' if behind else ''}{behind}"
    return f"{requirement.name}{extras}{specifiers_text(requirement.specifier)}{behind}"
