"""The libraries of the extra `team`, and the message when they are absent."""

from collections.abc import Iterator
from contextlib import contextmanager

from rabbet.errors import EnvironmentFailed

__all__ = ["needing_extra"]


@contextmanager
def needing_extra(what: str) -> Iterator[None]:
    """Raise `EnvironmentFailed` where a library is not installed, with the way to install it."""
    try:
        yield
    except ModuleNotFoundError as error:
        raise EnvironmentFailed(
            f"{what} needs {error.name}",
            because=["it comes with Rabbet's extra 'team', which is not installed"],
            note="`make install`, in Rabbet's own checkout, installs the program with this extra",
        ) from error
