"""Metadata that a project's build told, kept in one line of its lock and read without the rest.

    told = { name = "hives", requires-python = ">=3.8", requires = ["skepio"], extras = [], state = "…" }

Who has the lock needs no build to know what the project needs.
"""

import json
import re
from collections.abc import Iterable, Mapping

from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.utils import NormalizedName

from rabbet.core.limits import MOST_NEEDS
from rabbet.core.model.build import Told
from rabbet.core.model.release import Metadata
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.needs.need import Need
from rabbet.errors import NotUnderstood
from rabbet.formats.text.requirement import parse_requirement
from rabbet.formats.text.toml import Table, parse_toml

__all__ = ["needs_by_extra", "read_told", "told_by", "told_in", "told_line"]

_LINE = re.compile(r"^told = \{.*\}$", re.MULTILINE)
_QUOTED = re.compile(r"\"[^\"]*\"|'[^']*'")
_GROUP = re.compile(r"\([^()]*\)")
_EXTRA = r"""extra == ["']{}["']"""


def told_by(metadata: Metadata, state: str) -> Told:
    """The metadata a build told, taken from that of the wheel that it would make."""
    return Told(
        name=metadata.name,
        python=str(metadata.requires_python),
        requires=tuple(sorted(str(need) for need in metadata.needs)),
        extras=tuple(sorted(metadata.extras)),
        state=state,
    )


def told_line(told: Told) -> str:
    """The line of the lock."""
    fields = {
        "name": told.name,
        "requires-python": told.python,
        "requires": list(told.requires),
        "extras": list(told.extras),
        "state": told.state,
    }
    written = (f"{key} = {json.dumps(value, ensure_ascii=False)}" for key, value in fields.items())
    return f"told = {{ {', '.join(written)} }}"


def told_in(lock: str, where: str) -> Told | None:
    """Read it from a lock's text. Raises `NotUnderstood` for a line that can't be read."""
    line = _LINE.search(lock)
    if line is None:
        return None
    document = parse_toml(line.group(), where)
    told = read_told(document)
    document.problems.raise_if_any()
    return told


def read_told(settings: Table) -> Told | None:
    """The entry among Rabbet's own; what is wrong with it is noted."""
    if "told" not in settings:
        return None
    entry = settings.table("told", "name", "requires-python", "requires", "extras", "state")
    told = Told(
        name=library_name(entry.required("name") or "unnamed"),
        python=entry.text("requires-python") or "",
        requires=tuple(entry.texts("requires")),
        extras=tuple(library_name(extra) for extra in entry.texts("extras")),
        state=entry.text("state") or "",
    )
    if not is_name(told.name):
        entry.problems.add(entry.place("name"), "is not a name")
    if len(told.requires) > MOST_NEEDS:
        entry.problems.add(
            entry.place("requires"), f"are {len(told.requires)}, and at most {MOST_NEEDS} are read"
        )
    try:
        SpecifierSet(told.python)
        needs_by_extra(told)
    except (NotUnderstood, InvalidSpecifier) as error:
        entry.problems.add(entry.place("requires"), str(error))
    return told


def needs_by_extra(told: Told) -> tuple[tuple[Need, ...], Mapping[NormalizedName, tuple[Need, ...]]]:
    """The project's own requirements, and those that each of its extras adds.

    Raises `NotUnderstood` for a condition on an extra that is not one of several which all have to hold.
    """
    own: list[Need] = []
    extras: dict[NormalizedName, list[Need]] = {extra: [] for extra in told.extras}
    for text in told.requires:
        need = parse_requirement(text)
        if "extra" not in str(need.marker or ""):
            own.append(need)
            continue
        extra, without = _parted(str(need.marker), told.extras)
        plain = text.partition(";")[0].strip()
        extras[extra].append(parse_requirement(f"{plain} ; {without}" if without else plain))
    return tuple(own), {extra: tuple(needs) for extra, needs in extras.items()}


def _parted(marker: str, extras: Iterable[NormalizedName]) -> tuple[NormalizedName, str]:
    """The extra that a marker asks for, and the rest of the marker. Raises `NotUnderstood`."""
    alternative = " or " in _outside_of_groups(marker)  # `and` binds more closely (PEP 508)
    for extra in extras if not alternative else ():
        named = _EXTRA.format("[-_.]+".join(re.escape(part) for part in extra.split("-")))
        found = re.fullmatch(rf"(?:(.*) and )?{named}(?: and (.*))?", marker, re.IGNORECASE)
        rest = [word for word in (found.group(1), found.group(2)) if word] if found else ["extra"]
        if not any("extra" in word or "(" in _outside_of_groups(word) for word in rest):
            return extra, " and ".join(rest)
    raise NotUnderstood(f"its build tells a requirement where {marker}, which no extra alone can stand for")


def _outside_of_groups(marker: str) -> str:
    """A marker without its quoted texts, and without what stands in parentheses."""
    left, groups = _QUOTED.sub("", marker), 1
    while groups:
        left, groups = _GROUP.subn("", left)
    return left
