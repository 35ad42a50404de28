"""The answer of solving: a solution for one target, or a refutation."""

from collections.abc import Iterator, Mapping

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.model.release import Candidate
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, Part
from rabbet.core.solve.problem.incompatibility import Incompatibility, Learned
from rabbet.core.solve.problem.problem import Problem

__all__ = ["Refutation", "Solution"]


class Solution(Struct, frozen=True, kw_only=True):
    """The chosen releases, and the requirements of each chosen part that count on the target."""

    target: Target
    chosen: Mapping[NormalizedName, Candidate]
    needs: Mapping[Part, tuple[Need, ...]]


class Refutation(Struct, frozen=True):
    """The proof that there is no solution: an incompatibility without terms and what it was derived from."""

    problem: Problem
    root: Incompatibility

    def stated(self) -> Iterator[Incompatibility]:
        """The stated incompatibilities from which it was derived, each once."""
        seen: set[int] = set()
        waiting = [self.root]
        while waiting:
            incompatibility = waiting.pop()
            if id(incompatibility) not in seen:
                seen.add(id(incompatibility))
                if isinstance(incompatibility.cause, Learned):
                    waiting += [incompatibility.cause.right, incompatibility.cause.left]
                else:
                    yield incompatibility
