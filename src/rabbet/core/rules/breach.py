"""A rule that something locked or installed breaks, or comes near to breaking."""

from collections.abc import Iterable
from datetime import date
from enum import StrEnum

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.rules.model import Accepted

__all__ = ["MOVING", "Breach", "Rule", "Vulnerability", "refusing"]


class Rule(StrEnum):
    """The rules, as the declaration names them."""

    ADVISORIES = "advisories"
    LICENCES = "licences"
    AGE = "age"
    FROM = "from"


MOVING = frozenset({Rule.ADVISORIES, Rule.AGE, Rule.FROM})
"""The rules that leave the solver fewer releases: other releases may meet them."""


class Vulnerability(Struct, frozen=True, kw_only=True):
    """One vulnerability of one release, whatever number of records tell of it.

    The `score` is the highest of theirs, by their `vectors`; `None` where none tells it. It was
    `published` at a time in ISO form (empty where unknown), and is `mended` from a version on, if that is
    known. `accepted` is what the team said of it, which has `expired` or not.
    """

    id: str
    aliases: tuple[str, ...] = ()
    summary: str = ""
    published: str = ""
    score: float | None = None
    vectors: tuple[str, ...] = ()
    references: tuple[str, ...] = ()
    mended: Version | None = None
    accepted: Accepted | None = None
    expired: bool = False


class Breach(Struct, frozen=True, kw_only=True):
    """One rule and one library that breaks it: it is refused, or only noted.

    `places` are the places that state the rule. `told` says in words what is wrong, such as
    `its licence GPL-3.0-only is not allowed`.
    """

    rule: Rule
    name: NormalizedName
    version: Version
    refuses: bool
    told: str
    places: tuple[str, ...]
    vulnerability: Vulnerability | None = None

    @property
    def short(self) -> str:
        """What is wrong in a few words: of a vulnerability its id and severity."""
        known = self.vulnerability
        if known is None:
            return self.told
        return known.id if known.score is None else f"{known.id}, severity {known.score:.1f}"

    @property
    def what(self) -> str:
        """The advisory's id, or the rule's name."""
        return self.vulnerability.id if self.vulnerability else str(self.rule)


def refusing(breaches: Iterable[Breach]) -> tuple[Breach, ...]:
    """Those that are more than notes."""
    return tuple(breach for breach in breaches if breach.refuses)


def is_over(accepted: Accepted, today: date) -> bool:
    """Whether an acceptance counts no more."""
    return today > accepted.until
