"""What to say of a declaration without a solution: why, and which changes help."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

from packaging.utils import canonicalize_name

from rabbet.core.model.declaration import Declaration
from rabbet.core.model.target import Target
from rabbet.core.near_names import near_names
from rabbet.core.targets import target_of
from rabbet.errors import NoSolution
from rabbet.runtimes.choose import newest_first
from rabbet.sources.catalogue import Catalogue
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.runtime import found_runtimes

if TYPE_CHECKING:
    from rabbet.core.solve.solver import Refutation

__all__ = ["Unsolved", "no_solution"]

_MOST_OTHER_TARGETS = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class Unsolved:
    """A declaration, or a variant of it, without a solution for a target; the catalogue that was asked."""

    declaration: Declaration
    variant: str | None
    refutation: "Refutation"
    catalogue: Catalogue
    target: Target


def no_solution(unsolved: Unsolved, machine: Machine, observer: Observer) -> NoSolution:
    """The error with the reasons, and with changes that were tried and help."""
    from rabbet.core.solve.prose import explained

    catalogue, target, declaration = unsolved.catalogue, unsolved.target, unsolved.declaration
    for one in declaration.declared():
        name = canonicalize_name(one.requirement.name)
        if target.admits(one.requirement.marker) and not catalogue.candidates(name).known:
            near = near_names(name, catalogue.all_names())
            because = [f"near names: {', '.join(near)}"] if near else []
            if unsolved.variant:
                return NoSolution(
                    f"no source knows a library named '{name}'",
                    because=because,
                    remedy=_by_hand(unsolved.variant),
                )
            where = f" --{one.section.kind} {one.section.name}" if one.section else ""
            swap = f"rabbet retract{where} {name} && rabbet declare{where} "
            return NoSolution(
                f"no source knows a library named '{name}'",
                because=because,
                remedy=swap + near[0] if near else "check its spelling",
            )
    observer.stage("looking for what would help")
    remedies = [_by_hand(unsolved.variant)] if unsolved.variant else _remedies(unsolved, machine)
    explanation = explained(unsolved.refutation, declaration.name)
    where = f" for {target}" if declaration.targets or declaration.pythons else ""
    where += f" in the variant {unsolved.variant}" if unsolved.variant else ""
    return NoSolution(
        f"no set of releases meets all requirements{where}: they clash on {explanation.clash}",
        because=explanation.sentences,
        remedy=remedies[0] if remedies else "loosen one of these requirements with: rabbet declare",
        or_else=remedies[1:],
    )


def _by_hand(variant: str) -> str:
    """What to do about a variant: no command edits one, so none is suggested."""
    return f"change tool.rabbet.variants.{variant} in pyproject.toml"


def _remedies(unsolved: Unsolved, machine: Machine) -> list[str]:
    """Commands that were tried and help, the smallest changes first."""
    from rabbet.core.solve.suggest import suggestions
    from rabbet.tasks.advice import command_for

    catalogue, target, declaration = unsolved.catalogue, unsolved.target, unsolved.declaration
    others = ((other, catalogue.for_target(other)) for other in _other_targets(declaration, target, machine))
    found = suggestions(unsolved.refutation, list(declaration.declared()), catalogue, target, others)
    return [command_for(one) for one in found]


def _other_targets(declaration: Declaration, target: Target, machine: Machine) -> list[Target]:
    """The same machine with its other runtimes, those that the declaration allows first.

    There are none where the declaration itself names what is to be served.
    """
    if declaration.targets or declaration.pythons:
        return []
    runtimes = {one.version.release[:2]: one for one in reversed(newest_first(found_runtimes(machine)))}
    others = [one for minor, one in runtimes.items() if minor != target.python.release[:2]]
    allowed = [one for one in others if declaration.python.contains(one.version, prereleases=True)]
    rest = [one for one in others if one not in allowed]
    return [target_of(one) for one in [*newest_first(allowed), *newest_first(rest)]][:_MOST_OTHER_TARGETS]
