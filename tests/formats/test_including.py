"""Extras and groups that include each other: held against a slow reading, and bounded."""

import unittest
from collections.abc import Callable, Iterator
from itertools import product

from hypothesis import given
from hypothesis import strategies as st
from packaging.markers import Marker

from rabbet.core.needs.need import Need
from rabbet.errors import NotUnderstood
from rabbet.formats.project.pyproject import read_declaration

EXTRAS = ("wax", "comb", "hive")
MARKERS = ("", 'os_name == "posix"', 'os_name == "nt"', 'python_version < "3.12"', 'python_version >= "3.12"')
ENVIRONMENTS = [
    {"os_name": system, "python_version": version}
    for system, version in product(("posix", "nt"), ("3.11", "3.12"))
]
entries = st.tuples(
    st.sampled_from([*(f"p[{extra}]" for extra in EXTRAS), "skepio", "tallywax"]), st.sampled_from(MARKERS)
)
extras = st.fixed_dictionaries({extra: st.lists(entries, max_size=4) for extra in EXTRAS})
Entries = list[tuple[str, str]]


def counts(marker: str | Marker | None, environment: dict[str, str]) -> bool:
    """Whether it holds there."""
    return not marker or Marker(str(marker)).evaluate(environment)


def wanted(
    entries: Entries,
    extras: dict[str, Entries],
    environment: dict[str, str],
    seen: frozenset[str] = frozenset(),
) -> Iterator[str]:
    """The libraries that are required in an environment: every way is followed, as far as it is new."""
    for name, marker in entries:
        if not counts(marker, environment):
            continue
        extra = name.removeprefix("p[").removesuffix("]")
        if extra == name:
            yield name
        elif extra not in seen:
            yield from wanted(extras[extra], extras, environment, seen | {extra})


def text_of(entries: Entries) -> str:
    """As an array."""
    return "[" + ", ".join(repr(f"{name}; {marker}" if marker else name) for name, marker in entries) + "]"


def extras_text(count: int, entry: Callable[[int], list[str]]) -> str:
    """So many extras, named x0, x1 and so on."""
    lines = (f"x{number} = {entry(number)!r}" for number in range(count))
    return "\n".join(
        ['[project]\nname = "p"\ndependencies = ["p[x0]"]\n[project.optional-dependencies]', *lines]
    )


def groups_text(count: int, entry: Callable[[int], str]) -> str:
    """So many groups, named x0, x1 and so on."""
    return "\n".join(["[dependency-groups]", *(f"x{number} = [{entry(number)}]" for number in range(count))])


def tables_text(count: int, heading: str) -> str:
    """So many tables of a kind."""
    return "\n".join(heading.format(number) for number in range(count))


def all_before(number: int) -> str:
    """What such a group holds."""
    return ", ".join(['"skepio"', *(f'{{include-group = "x{other}"}}' for other in range(number))])


def a_large_one(number: int) -> str:
    """What such a group holds; the first one is large."""
    return '{include-group = "x0"}' if number else ", ".join(f'"a{other}"' for other in range(900))


# text → whether it is refused; a reader that follows every way never ends
AMOUNTS = {
    "22 extras that include each other": (
        extras_text(22, lambda one: [*(f"p[x{other}]" for other in range(22)), f"lib{one}"]),
        False,
    ),
    "22 extras that do so under markers of their own": (
        extras_text(
            22, lambda one: [f"p[x{other}]; python_version > '3.{one * 22 + other}'" for other in range(22)]
        ),
        True,
    ),
    "extras inside extras, 2000 deep": (extras_text(2000, lambda one: [f"p[x{(one + 1) % 2000}]"]), True),
    "40 groups that include all before them": (groups_text(40, all_before), False),
    "a thousand groups that include a large one": (groups_text(1000, a_large_one), True),
    "30,000 groups": (groups_text(30_000, lambda _: ""), True),
    "30,000 requirements": (
        "[project]\ndependencies = " + repr([f"a{number}" for number in range(30_000)]),
        True,
    ),
    "100,000 build requirements": ("[build-system]\nrequires = " + repr(["a"] * 100_000), True),
    "30,000 sources": (tables_text(30_000, '[[tool.rabbet.sources]]\nname = "s{}"\nurl = "./s"'), True),
    "1000 sources": (tables_text(1000, '[[tool.rabbet.sources]]\nname = "s{}"\nurl = "./s"'), True),
    "1000 variants": (tables_text(1000, "[tool.rabbet.variants.v{}]"), True),
}


class Including(unittest.TestCase):
    """Of what a declaration holds."""

    @given(extras)
    def test_extras(self, extras: dict[str, Entries]) -> None:
        """In every environment they hold what following every way finds."""
        text = '[project]\nname = "p"\n[project.optional-dependencies]\n'
        text += "\n".join(f"{name} = {text_of(entries)}" for name, entries in extras.items())
        found = read_declaration(text, folder_name="x").extras
        for (extra, entries), environment in product(extras.items(), ENVIRONMENTS):
            needs: tuple[Need, ...] = found[extra]
            told = {need.name for need in needs if counts(need.marker, environment)}
            self.assertEqual(told, set(wanted(entries, extras, environment)), (extra, environment, text))

    def test_amounts(self) -> None:
        """Whatever includes what, reading ends; what is too much is refused."""
        for title, (text, refused) in AMOUNTS.items():
            with self.subTest(title):
                try:
                    read_declaration(text, folder_name="x")
                    ended = False
                except NotUnderstood:
                    ended = True
                self.assertEqual(ended, refused)
