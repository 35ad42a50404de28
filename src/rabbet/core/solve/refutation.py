"""The refutation: that there is no solution, and the facts from which that was derived."""

from collections.abc import Iterator

from msgspec import Struct

from rabbet.core.solve.incompatibility import Incompatibility, Learned
from rabbet.core.solve.problem import Problem

__all__ = ["Refutation"]


class Refutation(Struct, frozen=True):
    """The proof that there is no solution: an incompatibility without terms and what it was derived from."""

    problem: Problem
    root: Incompatibility

    def stated(self) -> Iterator[Incompatibility]:
        """The stated incompatibilities from which it was derived, each once."""
        seen: set[int] = set()
        waiting = [self.root]
        while waiting:
            one = waiting.pop()
            if id(one) not in seen:
                seen.add(id(one))
                if isinstance(one.cause, Learned):
                    waiting += [one.cause.right, one.cause.left]
                else:
                    yield one
