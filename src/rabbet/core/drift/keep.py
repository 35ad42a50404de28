"""The other way round: what is installed was wanted, so the declaration and the next lock shall follow."""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import Specifier, SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.edit import Edit
from rabbet.core.declaration.model import Declared, Section
from rabbet.core.drift.mends import is_by_hand
from rabbet.core.drift.stories import Story
from rabbet.core.model.finding import Finding
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text

__all__ = ["Keep", "keep", "loosened", "lower_bound"]

_LOWER = (">=", ">", "==", "===", "~=")  # the operators that set a lower bound, among other things


class Keep(Struct, frozen=True, kw_only=True):
    """Edits of the declaration, and the versions that the next lock should prefer."""

    edits: tuple[Edit, ...]
    preferred: Mapping[NormalizedName, Version]


def keep(
    names: Collection[NormalizedName],
    findings: Iterable[Finding],
    stories: Iterable[Story],
    declared: Sequence[Declared],
    section: Section | None = None,
) -> Keep:
    """The edits that keep these libraries as they are installed.

    What nothing requires yet is declared, in the `section` if one is given, with a lower bound alone; what is
    declared with bounds that shut it out gets wider ones. What came along with it is preferred too, and left
    to the library that needs it.
    """
    by_hand = {finding.name: finding for finding in findings if is_by_hand(finding)}
    along = [
        library.name
        for story in stories
        if story.cause.name in names
        for library in (*story.along, *story.guessed)
        if library.name in by_hand
    ]
    wanted = [by_hand[name] for name in names if name in by_hand]
    preferred: dict[NormalizedName, Version] = {}
    for finding in (*(by_hand[name] for name in along), *wanted):
        if finding.installed is not None:
            preferred[NormalizedName(finding.name)] = finding.installed
    edits = [edit for finding in wanted for edit in _edits(finding, preferred, declared, section)]
    return Keep(edits=tuple(edits), preferred=preferred)


def _edits(
    finding: Finding, kept: Collection[str], declared: Sequence[Declared], section: Section | None
) -> Iterator[Edit]:
    version = finding.installed
    if version is None:
        return
    places = [requirement for requirement in declared if requirement.need.name == finding.name]
    for place in places:
        if place.need.url is None and not place.need.specifier.contains(version, prereleases=True):
            wider = need_text(loosened(place.need, version), whole=True)
            yield Edit(verb="declare", what="library", value=wider, section=place.section, exactly=True)
    needed_by = finding.by_hand.needed_by if finding.by_hand else ()
    if not places and finding.locked is None and not set(needed_by).intersection(kept):
        value = f"{finding.name}{lower_bound(version)}"
        yield Edit(verb="declare", what="library", value=value, section=section)


def loosened(need: Need, version: Version) -> Need:
    """A requirement that admits this version: the bounds that shut it out are left out.

    Where one of these was a lower bound, the version's own takes its place.
    """
    admitting = [clause for clause in need.specifier if clause.contains(version, prereleases=True)]
    lost = [clause for clause in need.specifier if clause not in admitting]
    bounds = SpecifierSet(",".join(str(clause) for clause in admitting))
    if any(clause.operator in _LOWER for clause in lost) and not any(
        _is_lower(clause) for clause in admitting
    ):
        bounds &= lower_bound(version)
    return replace(need, specifier=bounds)


def _is_lower(specifier: Specifier) -> bool:
    return specifier.operator in _LOWER


def lower_bound(version: Version) -> SpecifierSet:
    """At least this version, in its first two numbers where these say enough: `>=2.1` for 2.1.3."""
    enough = Version(".".join(str(number) for number in version.release[:2]))
    if version < enough or version.epoch:
        enough = Version(version.public)  # a pre-release comes before what its numbers say
    return SpecifierSet(f">={enough}")
