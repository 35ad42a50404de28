"""A trial: what is wished for, and what it comes to."""

from typing import NamedTuple

from rabbet.core.progress import Observer
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project

__all__ = ["Here", "Tried", "Wish"]


class Here(NamedTuple):
    """Where something is tried: for which project, on which machine; and who is told of it."""

    project: Project
    machine: Machine
    observer: Observer


class Wish(NamedTuple):
    """What is to be tried: requirements, and places of what is nowhere published."""

    requirements: tuple[str, ...]
    places: tuple[str, ...] = ()


class Tried(NamedTuple):
    """What a trial brings, as names and versions, and what it changes of what is locked: name, before, after.

    `keeping` is the command that makes it last, empty where everything is locked already.
    """

    brought: list[tuple[str, str]]
    changed: list[tuple[str, str, str]]
    keeping: str
