"""Declared requirements, judged by the releases that pass and fail."""

from collections.abc import Mapping, Sequence
from enum import StrEnum

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.culprit.mixture import StateChange, bounds_without
from rabbet.core.declaration.model import Declared
from rabbet.core.prove.bounds import Edge

__all__ = ["LibraryBounds", "Verdict", "admits", "bounded", "judged"]


class Verdict(StrEnum):
    """What was found of one end of a requirement."""

    TRUE = "true"
    WIDER = "wider"  # it is true, and releases beyond it pass as well
    FALSE = "false"  # releases that it admits fail
    OPEN = "open"  # nothing is declared, and nothing fails


class LibraryBounds(Struct, frozen=True, kw_only=True):
    """A declared library: the releases that pass, from `oldest` to `newest`, and those beside them that fail.

    `needs` are its requirements with true bounds in place of the declared ones; empty where these are true.
    """

    name: NormalizedName
    declared: tuple[Declared, ...]
    locked: Version
    oldest: Version
    newest: Version
    below: Version | None
    above: Version | None
    lower: Verdict
    upper: Verdict
    needs: tuple[Declared, ...] = ()


def admits(requirements: Sequence[Declared], version: Version) -> bool:
    """Whether all requirements on a library admit a release."""
    return all(requirement.need.specifier.contains(version, prereleases=True) for requirement in requirements)


def judged(
    name: NormalizedName,
    requirements: tuple[Declared, ...],
    locked: Version,
    edges: Mapping[tuple[NormalizedName, bool], Edge],
    releases: Sequence[Version],
) -> LibraryBounds:
    """What the edges say of the declared bounds."""
    lower, upper = edges[name, False], edges[name, True]
    oldest, newest = lower.passing or locked, upper.passing or locked
    admitted = [version for version in releases if admits(requirements, version)]
    clauses = [clause.operator for requirement in requirements for clause in requirement.need.specifier]
    below = _verdict(
        false=lower.failing is not None and admits(requirements, lower.failing),
        wider=bool(admitted) and oldest < admitted[0],
        bound=any(operator not in ("<", "<=", "!=") for operator in clauses),
    )
    above = _verdict(
        false=upper.failing is not None and admits(requirements, upper.failing),
        wider=bool(admitted) and newest > admitted[-1],
        bound=any(operator not in (">", ">=", "!=") for operator in clauses),
    )
    change = upper.failing and StateChange(name=name, good=str(newest), bad=str(upper.failing))
    needs = tuple(
        bounded(
            requirement,
            lower=f">={oldest.public}" if below is Verdict.FALSE else "",
            upper=next(bounds_without(change)) if change and above is Verdict.FALSE else "",
        )
        for requirement in requirements
    )
    return LibraryBounds(
        name=name,
        declared=requirements,
        locked=locked,
        oldest=oldest,
        newest=newest,
        below=lower.failing,
        above=upper.failing,
        lower=below,
        upper=above,
        needs=needs if Verdict.FALSE in (below, above) else (),
    )


def _verdict(*, false: bool, wider: bool, bound: bool) -> Verdict:
    if false:
        return Verdict.FALSE
    if bound:
        return Verdict.WIDER if wider else Verdict.TRUE
    return Verdict.OPEN


def bounded(requirement: Declared, *, lower: str = "", upper: str = "") -> Declared:
    """A requirement with other bounds in place of its own."""
    replaced = ((">", ">=") if lower else ()) + (("<", "<=") if upper else ())
    kept = [str(clause) for clause in requirement.need.specifier if clause.operator not in replaced]
    specifier = SpecifierSet(",".join([*kept, *filter(None, (lower, upper))]))
    return replace(requirement, need=replace(requirement.need, specifier=specifier))
