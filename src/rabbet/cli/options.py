"""Options that several commands share, so that each means the same everywhere."""

from argparse import ArgumentParser

__all__ = ["add_group", "add_json", "add_offline", "add_quiet"]


def add_json(parser: ArgumentParser) -> None:
    """`--json`."""
    parser.add_argument("--json", action="store_true", help="print one JSON document in place of text")


def add_quiet(parser: ArgumentParser) -> None:
    """`--quiet`."""
    parser.add_argument("--quiet", action="store_true", help="show no progress")


def add_offline(parser: ArgumentParser) -> None:
    """`--offline`."""
    parser.add_argument("--offline", action="store_true", help="ask no network, use the store alone")


def add_group(parser: ArgumentParser, purpose: str) -> None:
    """`--group NAME`."""
    parser.add_argument("--group", metavar="NAME", help=purpose)
