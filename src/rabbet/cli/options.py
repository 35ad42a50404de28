"""Options that several commands share, so that each means the same everywhere."""

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rabbet.core.model.declaration import Section

__all__ = ["add_ask_anew", "add_json", "add_offline", "add_quiet", "add_section", "add_variant", "section_of"]


def add_json(parser: ArgumentParser) -> None:
    """`--json`."""
    parser.add_argument("--json", action="store_true", help="print one JSON document in place of text")


def add_quiet(parser: ArgumentParser) -> None:
    """`--quiet`."""
    parser.add_argument("--quiet", action="store_true", help="show no progress")


def add_offline(parser: ArgumentParser) -> None:
    """`--offline`."""
    parser.add_argument("--offline", action="store_true", help="ask no network, use the store alone")


def add_ask_anew(parser: ArgumentParser) -> None:
    """`--ask-anew`."""
    parser.add_argument(
        "--ask-anew", action="store_true", help="ask sources again for listings that are said to be fresh"
    )


def add_variant(parser: ArgumentParser) -> None:
    """`--variant NAME`."""
    parser.add_argument(
        "--variant", metavar="NAME", help="a variant of the project, with its own environment"
    )


def add_section(parser: ArgumentParser, purpose: str) -> None:
    """`--group NAME` or `--extra NAME`."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--group", metavar="NAME", help=f"{purpose} this dependency group, such as checks")
    which.add_argument("--extra", metavar="NAME", help=f"{purpose} this extra: optional dependencies")


def section_of(arguments: Namespace) -> "Section | None":
    """The section that was named, if one was."""
    from packaging.utils import canonicalize_name

    from rabbet.core.model.declaration import Section

    if arguments.extra:
        return Section("extra", canonicalize_name(arguments.extra))
    return Section("group", canonicalize_name(arguments.group)) if arguments.group else None
