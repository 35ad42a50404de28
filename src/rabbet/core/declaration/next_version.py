"""The version after this one, in one of three steps."""

from typing import Literal, TypeAlias, get_args

from packaging.version import Version

__all__ = ["STEPS", "NextStep", "next_version"]

NextStep: TypeAlias = Literal["next-patch", "next-minor", "next-major"]
STEPS: tuple[NextStep, ...] = get_args(NextStep)


def next_version(version: Version, step: NextStep) -> Version:
    """The lowest version above this one that could be the next patch, minor or major release.

    All numbers behind the one that is raised are 0, and a pre-release is followed by its release. It has as
    many numbers as before, or more where the step needs them.
    """
    place = {"next-major": 0, "next-minor": 1, "next-patch": 2}[step]
    numbers = [*version.release, *[0] * (place + 1 - len(version.release))]
    begun = [*numbers[: place + 1], *[0] * (len(numbers) - place - 1)]
    if _written(version.epoch, begun) <= version:
        begun[place] += 1
    return _written(version.epoch, begun)


def _written(epoch: int, numbers: list[int]) -> Version:
    return Version((f"{epoch}!" if epoch else "") + ".".join(map(str, numbers)))
