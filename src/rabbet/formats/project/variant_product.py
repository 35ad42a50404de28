"""Variants by combination: `[tool.rabbet.variants.every]` lists versions, each combination is a variant."""

import re
from collections.abc import Iterator, Mapping
from itertools import islice, product
from math import prod
from typing import NamedTuple

from rabbet.core.limits import MOST_VARIANTS
from rabbet.formats.text.toml import Table

__all__ = ["EVERY", "variant_tables"]

EVERY = "every"
_OPERATORS = {"<=": "to", ">=": "from", "<": "below", ">": "above", "!=": "not", "~=": "", "==": "", "=": ""}
_OPERATOR = re.compile("|".join(map(re.escape, _OPERATORS)))
_LONGEST = 100  # characters of a variant's name


class _Choice(NamedTuple):
    """One of the versions of a language or a library, and how it is called in a variant's name."""

    kind: str
    name: str
    versions: str

    @property
    def label(self) -> str:
        """Such as `python3-11` or `nectarplot-below2`; a dot may not stand in the name of a lock's file."""
        versions = _OPERATOR.sub(lambda found: f"-{_OPERATORS[found[0]]}", self.versions)
        return re.sub(r"[^\w]+", "-", f"{self.name} {versions}").replace("_", "-").strip("-")


def variant_tables(variants: Table) -> Iterator[tuple[str, Table]]:
    """Each variant's name and table: those that are written, then the combinations of `every`.

    What is wrong is noted among the table's problems: names that are there twice or too long, and too many.
    """
    written = [key for key in variants if key != EVERY]
    for key in written:
        yield key, variants.table(key)
    if EVERY not in variants:
        return
    place, problems = variants.place(EVERY), variants.problems
    lists = list(_lists(variants.table(EVERY, "runtimes", "libraries")))
    number = prod(map(len, lists)) if lists else 0
    if number + len(written) > MOST_VARIANTS:
        problems.add(place, f"makes {number} variants; with the others, at most {MOST_VARIANTS} are read")
    known = set(written)
    for combination in islice(product(*lists) if lists else (), MOST_VARIANTS - len(written)):
        name = "_".join(choice.label for choice in combination)
        if name in known:
            problems.add(place, f"two combinations, or one and a variant, have the name '{name[:60]}'")
        elif len(name) > _LONGEST:
            problems.add(place, f"'{name[:60]}…' is longer than a variant's name may be")
        else:
            known.add(name)
            yield name, Table(_content(combination), problems, f"{place} ({name})")


def _lists(every: Table) -> Iterator[list[_Choice]]:
    """The listed versions of each language and library, in the order in which they are written."""
    for kind in ("runtimes", "libraries"):
        table = every.table(kind)
        for name in table:
            versions = table.texts(name)
            if table.get(name, object, None) == []:
                table.problems.add(table.place(name), "must be a list of versions, such as ['<2', '>=2']")
            yield [_Choice(kind, name, text) for text in versions]


def _content(combination: tuple[_Choice, ...]) -> Mapping[str, object]:
    """A combination as a variant that is written in full."""
    libraries = [choice for choice in combination if choice.kind == "libraries"]
    return {
        "runtimes": {choice.name: choice.versions for choice in combination if choice.kind == "runtimes"},
        "requirements": [f"{choice.name}{choice.versions}" for choice in libraries],
    }
