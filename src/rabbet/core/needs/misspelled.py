"""Requirements in other spellings than PEP 508's → what they mean."""

import re

from packaging.requirements import InvalidRequirement

from rabbet.core.needs.need import Need

__all__ = ["corrected"]

_NAME = re.compile(r"\s*([A-Za-z0-9](?:[A-Za-z0-9._-]*[A-Za-z0-9])?)\s*(\[[^\]]*\])?")
_OPERATORS = {
    "": "==",
    "=": "==",
    "==": "==",
    "===": "===",
    ":": "==",
    "@": "==",
    "=>": ">=",
    ">=": ">=",
    ">==": ">=",
    "=<": "<=",
    "<=": "<=",
    "<==": "<=",
    "~=": "~=",
    "~>": "~=",
    "=~": "~=",
    "!": "!=",
    "!=": "!=",
    "<>": "!=",
    ">": ">",
    "<": "<",
}
_CLAUSE = re.compile(r"([=<>!~^@:\s]*)v?([0-9][0-9A-Za-z.+!*_-]*|)\Z")
_SIGNS = str.maketrans({"≥": ">=", "≤": "<=", "≠": "!=", "“": "", "”": "", "‘": "", "’": "", '"': ""})
_LONGEST = 200  # characters: nobody types more by mistake


def corrected(text: str) -> str | None:
    """What a requirement that can't be read was meant to say; `None` where that is not clear.

    Understood are `name=2`, `name 2`, `name@2`, `name=>2`, `name^2`, `name~2`, and a bound without a version.
    """
    if len(text) > _LONGEST or "/" in text or "\\" in text:
        return None
    plain, semicolon, marker = text.partition(";")
    plain = plain.translate(_SIGNS).strip("' ")
    named = _NAME.match(plain)
    if named is None:
        return None
    clauses = [_clause(part) for part in plain[named.end() :].strip(" ,").split(",")]
    if any(clause is None for clause in clauses):
        return None
    bounds = ",".join(clause for clause in clauses if clause)
    meant = f"{named[1]}{named[2] or ''}{bounds}{semicolon}{marker}"
    try:
        Need.parse(meant)
    except (InvalidRequirement, ValueError):
        return None
    return meant if meant != text else None


def _clause(text: str) -> str | None:
    """One bound; empty where a version is missing, `None` where it is not clear."""
    found = _CLAUSE.match(text.strip())
    if found is None:
        return None
    operator, version = re.sub(r"\s", "", found[1]), found[2]
    if not version:
        return "" if operator in _OPERATORS else None
    if operator in ("^", "~"):
        return _within(version, at_most=1 if operator == "~" else None)
    known = _OPERATORS.get(operator)
    return None if known is None else known + version


def _within(version: str, at_most: int | None) -> str | None:
    """From a version up to the next one that may be incompatible: the first number that is not 0 is raised.

    With `at_most`, the number at that place is raised, if the version has it.
    """
    if not re.fullmatch(r"\d{1,6}(\.\d{1,6})*", version):
        return None
    numbers = [int(part) for part in version.split(".")]
    place = next((place for place, number in enumerate(numbers) if number), len(numbers) - 1)
    if at_most is not None:
        place = min(at_most, len(numbers) - 1)
    following = [*numbers[:place], numbers[place] + 1]
    return f">={version},<{'.'.join(map(str, following))}"
