"""The keys of `[tool.rabbet]`: one table for reading, editing, options, comparing and the reference.

A key in one of the usual shapes needs an entry here, and a field of the same name in `Declaration`.
"""

from enum import StrEnum
from typing import Literal, NamedTuple

__all__ = ["DISTRIBUTIONS", "KEYS", "Key", "Option", "Shape", "Verb", "key_of"]

Verb = Literal["declare", "retract"]
DISTRIBUTIONS = ("alpine", "debian", "fedora")


class Shape(StrEnum):
    """How a key is written, and so how it is read and edited."""

    NAMES = "a list of libraries"
    TEXTS = "a list of texts of a certain form"
    BOUNDS = "a list of libraries with versions"
    TABLE = "a table of texts by names"
    TEXT = "a text of a certain form"
    PLACES = "a list of tables with `name` and `url`"
    OWN = "a form of its own"


class Option(NamedTuple):
    """An option of `declare` or `retract`: what to show for a value of it, what it is for, what there is.

    One that shows two words takes them as a pair, such as a library and a folder; one that shows none takes
    no value.
    """

    shown: str | tuple[str, str]
    purpose: str
    choices: tuple[str, ...] = ()


class Key(NamedTuple):
    """One key: its name, its shape, and what it is for.

    One `entry` of it is called so where it is declared or compared, and so is the option that takes it;
    `listed` is another word for it where all that is declared is shown. What a lock holds may follow from it,
    unless it is not `on_lock`.
    """

    name: str
    shape: Shape
    purpose: str
    entry: str = ""
    listed: str = ""
    declare: Option | None = None
    retract: Option | None = None
    on_lock: bool = True

    @property
    def field(self) -> str:
        """The attribute of `Declaration` that holds it, where it has a usual shape or is not `on_lock`."""
        return self.name.replace("-", "_")

    @property
    def place(self) -> str:
        """Where it stands."""
        return f"tool.rabbet.{self.name}"

    def option(self, verb: Verb) -> Option | None:
        """The option of a command that changes it; `None` where there is none."""
        return self.declare if verb == "declare" else self.retract


KEYS = (
    Key("runtimes", Shape.OWN, 'languages and their constraints: a table, such as `node = ">=20"`'),
    Key(
        "limits",
        Shape.BOUNDS,
        "limit indirect dependencies, such as 'tallywax<2': a list of requirements",
        entry="limit",
        declare=Option("REQUIREMENT", "limit indirect dependencies, such as 'tallywax<2'"),
        retract=Option("LIBRARY", "limits"),
    ),
    Key(
        "without",
        Shape.NAMES,
        "libraries that must not come in: a list",
        entry="without",
        declare=Option("LIBRARY", "never install these libraries"),
        retract=Option("LIBRARY", "allow these libraries again"),
    ),
    Key(
        "corrections",
        Shape.OWN,
        "what releases say wrongly of their needs: tables by releases, such as `nectarplot==2.1`",
        entry="correction",
        retract=Option("RELEASES", "corrections of these releases, such as nectarplot==2.1"),
    ),
    Key(
        "targets",
        Shape.TEXTS,
        "platforms to lock for, such as `linux-x86_64`: a list",
        entry="target",
        declare=Option("PLATFORM", "lock for these platforms, too: macos-arm64"),
        retract=Option("PLATFORM", "platforms to lock for"),
    ),
    Key(
        "pythons",
        Shape.TEXTS,
        "versions of Python to lock for in place of the range, such as `3.13`: a list",
        entry="python",
        declare=Option("VERSION", "lock for these versions of Python: 3.13"),
        retract=Option("VERSION", "versions of Python to lock for"),
    ),
    Key(
        "baselines",
        Shape.TABLE,
        "the oldest `glibc`, `macos` and `musl` to lock for: a table",
        entry="baseline",
        declare=Option("LIBC", "the oldest system to lock for: glibc=2.34"),
        retract=Option("LIBC", "baselines, such as glibc"),
    ),
    Key(
        "newest",
        Shape.OWN,
        "`same`: all targets get the same versions where they can; else each its own newest",
        entry="newest",
        declare=Option(
            "WHICH",
            "the newest for each target, or the same for all",
            choices=("each", "same"),
        ),
    ),
    Key(
        "as-of",
        Shape.TEXT,
        "a date: releases that were uploaded later are not taken, such as `2026-05-01`",
        entry="as-of",
        declare=Option("DATE", "take no later release, such as 2026-05-01"),
        retract=Option("", "the date after which no release is taken"),
    ),
    Key(
        "variants",
        Shape.OWN,
        "variants of the project, with `runtimes` and `requirements` of their own: a table each",
    ),
    Key(
        "local",
        Shape.TABLE,
        "checkouts in place of releases: a table, library → folder",
        entry="local",
        listed="checkout",
        declare=Option(("LIBRARY", "FOLDER"), "use a checkout in place of a library's releases"),
        retract=Option("LIBRARY", "checkouts of these libraries"),
    ),
    Key(
        "build-from-source",
        Shape.NAMES,
        "libraries whose own build code may run: a list",
        entry="build-from-source",
        listed="build from source",
        declare=Option("LIBRARY", "allow building these, where they have no wheel"),
        retract=Option("LIBRARY", "libraries that may not be built here any more"),
    ),
    Key(
        "builds",
        Shape.OWN,
        "options for single builds, a table each: `variables`, `settings`, `needs` and `system`",
    ),
    Key(
        "editable",
        Shape.OWN,
        "`false` builds wheels of the project and of checkouts, instead of using them where they lie",
    ),
    Key(
        "system",
        Shape.OWN,
        'packages of distributions that the project needs: a table, such as `debian = ["libpq5"]`',
        entry="system",
        declare=Option("PACKAGE", "needed packages of the operating system: debian=libpq5"),
        retract=Option("PACKAGE", "packages of the operating system, such as debian=libpq5"),
        on_lock=False,
    ),
    Key(
        "sources",
        Shape.PLACES,
        "where libraries come from: tables with `name`, `url`, and `mirrors`, `only`, `fresh-for`, `builds`",
        entry="source",
        declare=Option("WHERE", "[NAME=]ADDRESS: an index, or a folder of wheels"),
        retract=Option("NAME", "sources, by their names"),
    ),
    Key(
        "catalogues",
        Shape.PLACES,
        "where to get runtimes: tables with `name` and `url`, or `registry`",
        entry="catalogue",
        declare=Option("WHERE", "[NAME=]ADDRESS: a catalogue of runtimes"),
        retract=Option("NAME", "catalogues of runtimes, by their names"),
    ),
    Key("languages", Shape.OWN, "languages that Rabbet does not know: a table each"),
    Key(
        "rules",
        Shape.OWN,
        "what a lock may hold: `advisories`, `stale-after`, `severity`, `accept`, `licences`, `age`, `from`,"
        " `stops`, `shared`; or the place of a file with rules",
        entry="accept",
        on_lock=False,
    ),
    Key(
        "census",
        Shape.OWN,
        'whether an inventory is sent after `recreate` (`every = "recreate"`), the `remote`,'
        " what to `leave-out`, what to `expect` of machines, and their `tags`",
        entry="census",
        on_lock=False,
    ),
)
"""All of them, in the order in which what is declared is shown."""

_BY_ENTRY = {key.entry: key for key in KEYS if key.entry}


def key_of(entry: str) -> Key:
    """The key with entries of this name. Raises `KeyError`."""
    return _BY_ENTRY[entry]
