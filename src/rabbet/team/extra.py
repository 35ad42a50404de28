"""The libraries of the extra `team`, and the message when they are absent."""

from collections.abc import Iterator
from contextlib import contextmanager

from rabbet.errors import EnvironmentFailed

__all__ = ["needing_extra"]


@contextmanager
def needing_extra(what: str) -> Iterator[None]:
    """Tell of a library that is not installed as `EnvironmentFailed`, with the command that installs it."""
    try:
        yield
    except ModuleNotFoundError as error:
        raise EnvironmentFailed(
            f"{what} needs {error.name}",
            because=["it comes with Rabbet's extra 'team', which is not installed"],
            remedy="python3 -m pip install 'rabbet[team]'",
        ) from error
