"""Scores of CVSS vectors (versions 3.0, 3.1 and 4.0), by the formulas of the standards."""

from collections.abc import Iterable

__all__ = ["score_of"]

_LONGEST = 400  # characters: a vector with all metrics of version 4.0 has 250
_TEMPORAL = ("E", "RL", "RC")
_ENVIRONMENTAL = ("CR", "IR", "AR", "MAV", "MAC", "MPR", "MUI", "MS", "MC", "MI", "MA")


def score_of(vectors: Iterable[str]) -> float | None:
    """The highest score among these vectors; `None` where none can be read.

    Of version 3 it is the base score, or that with the temporal and environmental metrics that it holds.
    """
    return max((score for score in map(_score, vectors) if score is not None), default=None)


def _score(vector: str) -> float | None:
    if len(vector) > _LONGEST or not vector.startswith(("CVSS:3.0/", "CVSS:3.1/", "CVSS:4.0/")):
        return None
    from cvss import CVSS3, CVSS4, CVSSError  # here: most libraries have no advisory

    try:
        if vector.startswith("CVSS:4"):
            return float(CVSS4(vector).base_score)
        base, temporal, environmental = CVSS3(vector).scores()
    except (CVSSError, ValueError, KeyError, ArithmeticError):
        return None
    held = {metric.partition(":")[0] for metric in vector.split("/") if not metric.endswith(":X")}
    if held & set(_ENVIRONMENTAL):
        return float(environmental)
    return float(temporal if held & set(_TEMPORAL) else base)
