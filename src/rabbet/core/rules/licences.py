"""Which licences are allowed: SPDX expressions (annex D of the specification), as PEP 639 uses them.

An expression is met by a choice that it leaves (`OR`) and by all that it joins (`AND`). An allowed expression
that is one licence allows it wherever it stands; a longer one allows just that, in any order.
"""

import re
from collections.abc import Iterable, Iterator
from typing import TypeAlias

from rabbet.core.limits import beyond

__all__ = ["canonical", "is_allowed"]

# A licence by its id, with its exception if it has one; or several, joined by `AND` or `OR`.
Expression: TypeAlias = "str | tuple[str, frozenset[Expression]]"
_TOKENS = re.compile(r"[()]|[^\s()]+")
_GNU = re.compile(r"(A?GPL|LGPL|GFDL)-[0-9.]+\Z")


def canonical(text: str) -> str | None:
    """An expression as the standard writes it; `None` for what is none."""
    if beyond(text):
        return None
    from packaging.licenses import (  # here: it holds the list of all licences
        InvalidLicenseExpression,
        canonicalize_license_expression,
    )

    try:
        return str(canonicalize_license_expression(text))
    except (InvalidLicenseExpression, ValueError, RecursionError, MemoryError):
        return None


def is_allowed(expression: str, allowed: Iterable[str]) -> bool:
    """Whether a canonical expression can be met with the allowed ones, which are canonical too."""
    return _met(_parsed(expression), frozenset(map(_parsed, allowed)))


def _met(asked: Expression, allowed: frozenset[Expression]) -> bool:
    if asked in allowed:
        return True
    if isinstance(asked, str):
        return any(other in allowed for other in _wider(asked))
    joint, parts = asked
    met = (_met(part, allowed) for part in parts)
    return any(met) if joint == "OR" else all(met)


def _wider(licence: str) -> Iterator[str]:
    """The licences that may stand for one: an exception permits more, and `or later` leaves a choice."""
    plain, _, exception = licence.partition(" WITH ")
    if exception:
        yield plain
        yield from (f"{other} WITH {exception}" for other in _wider(plain))
        yield from _wider(plain)
    elif plain.endswith("-or-later"):
        yield f"{plain.removesuffix('-or-later')}-only"
    elif plain.endswith("+"):
        yield plain[:-1]


def _parsed(expression: str) -> Expression:
    """A canonical expression, taken apart."""
    tokens = _TOKENS.findall(expression)
    tokens.reverse()
    return _alternatives(tokens)


def _alternatives(tokens: list[str]) -> Expression:
    """Parts joined by `OR`, which binds less than `AND`."""
    parts = [_together(tokens)]
    while tokens and tokens[-1] == "OR":
        tokens.pop()
        parts.append(_together(tokens))
    return _join("OR", parts)


def _together(tokens: list[str]) -> Expression:
    parts = [_single(tokens)]
    while tokens and tokens[-1] == "AND":
        tokens.pop()
        parts.append(_single(tokens))
    return _join("AND", parts)


def _single(tokens: list[str]) -> Expression:
    first = tokens.pop()
    if first == "(":
        inner = _alternatives(tokens)
        tokens.pop()  # the bracket that ends it
        return inner
    name = _today(first)
    if tokens and tokens[-1] == "WITH":
        tokens.pop()
        return f"{name} WITH {tokens.pop()}"
    return name


def _join(joint: str, parts: list[Expression]) -> Expression:
    """Several parts as one; those joined in the same way become one level, and what repeats goes."""
    flat: set[Expression] = set()
    for part in parts:
        flat |= part[1] if isinstance(part, tuple) and part[0] == joint else {part}
    return next(iter(flat)) if len(flat) == 1 else (joint, frozenset(flat))


def _today(licence: str) -> str:
    """A licence by its id of today: those of GNU say whether later versions count."""
    plain = licence.removesuffix("+")
    if _GNU.match(plain):
        return f"{plain}-or-later" if licence.endswith("+") else f"{plain}-only"
    return licence
