"""Which versions changed between a lock and the next solution, and why."""

from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec import Struct
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, runtime_name
from rabbet.core.model.release import Rejected
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text, specifiers_text
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.problem.provider import Provider

__all__ = ["Move", "build_moves", "explained_moves", "runtime_moves"]


class Move(Struct, frozen=True, kw_only=True):
    """One library's version before and after; `None` where it was not, or is no longer, chosen."""

    name: NormalizedName
    before: Version | None
    after: Version | None
    reason: str


def explained_moves(
    before: Mapping[NormalizedName, Version],
    solution: Solution,
    declaration: Declaration,
    provider: Provider,
    *,
    intended: Callable[[NormalizedName], str],
) -> tuple[Move, ...]:
    """Every library whose version differs, sorted by name.

    A library moved because somebody's requirement no longer admits its old version; else because that was
    `intended`, for the reason which this gives (empty: it was not); else because what the old version needs
    clashes with what is chosen now.
    """
    after = {name: candidate.version for name, candidate in solution.chosen.items()}
    asked: dict[NormalizedName, list[tuple[str, Need]]] = {}
    for who, need in _needs(solution, declaration):
        asked.setdefault(need.name, []).append((who, need))
    return tuple(
        Move(
            name=name,
            before=before.get(name),
            after=after.get(name),
            reason=(f"{declaration.name} keeps it out" if name in declaration.without else "")
            or _reason(name, before, solution, asked.get(name, ()))
            or _own_wish(name, before, solution.target, declaration)
            or intended(name)
            or _own_needs(name, before[name], solution, provider),
        )
        for name in sorted({*before, *after})
        if before.get(name) != after.get(name)
    )


def runtime_moves(before: Lock | None, after: Lock, declaration: Declaration) -> tuple[Move, ...]:
    """Every runtime of a language other than Python whose version differs, sorted by language.

    One moved because the project no longer admits its old version, else because it was to be raised.
    """
    old = {runtime.language: runtime.version for runtime in before.runtimes} if before else {}
    new = {runtime.language: runtime.version for runtime in after.runtimes}
    declared = {runtime.language: runtime.versions for runtime in declaration.runtimes}
    return tuple(
        Move(
            name=runtime_name(name),
            before=old.get(name),
            after=new.get(name),
            reason=_runtime_reason(old.get(name), declared.get(name), declaration.name),
        )
        for name in sorted({*old, *new} - {"python"})
        if old.get(name) != new.get(name)
    )


def build_moves(before: Lock | None, after: Lock) -> tuple[Move, ...]:
    """Every library of a build's environment whose version differs, where the build was locked before.

    One that moved for several builds is told once.
    """
    known = {(build.name, build.own): build.libraries for build in before.builds} if before else {}
    builds: dict[tuple[NormalizedName, Version, Version], list[str]] = {}
    for build in after.builds:
        old = {built.name: built.version for built in known.get((build.name, build.own), ())}
        for library in build.libraries:
            if old.get(library.name, library.version) != library.version:
                builds.setdefault((library.name, old[library.name], library.version), []).append(build.name)
    return tuple(
        Move(name=name, before=old, after=new, reason=f"builds {', '.join(names)}")
        for (name, old, new), names in sorted(builds.items())
    )


def _runtime_reason(old: Version | None, versions: SpecifierSet | None, project: str) -> str:
    if versions is None:
        return "no longer needed" if old else "another runtime needs it"
    if old is None or not versions.contains(old, prereleases=True):
        return f"{project} needs {specifiers_text(versions) or 'it'}"
    return "raised"


def _needs(solution: Solution, declaration: Declaration) -> Iterator[tuple[str, Need]]:
    """Who needs what in this solution, the project first."""
    for requirement in declaration.declared():
        if solution.target.admits(requirement.need.marker):
            yield (
                declaration.name + (f", {requirement.section}," if requirement.section else ""),
                requirement.need,
            )
    for (name, _), needs in solution.needs.items():
        for need in needs:
            yield str(solution.chosen[name]), need


def _reason(
    name: NormalizedName,
    before: Mapping[NormalizedName, Version],
    solution: Solution,
    asked: Sequence[tuple[str, Need]],
) -> str:
    """Who asks for a change, of those who need this library; empty when nobody does."""
    if name not in solution.chosen:
        return "no longer needed"
    if name not in before:
        return _says(*asked[0])
    for who, need in asked:
        if need.url is not None or not need.specifier.contains(before[name], prereleases=True):
            return _says(who, need)
    return ""


def _own_wish(
    name: NormalizedName,
    before: Mapping[NormalizedName, Version],
    target: Target,
    declaration: Declaration,
) -> str:
    """The project's limit that excludes the locked version."""
    for limit in declaration.limits:
        limited = limit.name == name and name in before and target.admits(limit.marker)
        if limited and not limit.specifier.contains(before[name], prereleases=True):
            return f"{declaration.name} sets the limit {need_text(limit, marker=False)}"
    return ""


def _own_needs(name: NormalizedName, old: Version, solution: Solution, provider: Provider) -> str:
    """Why the old version does not go with what is chosen now."""
    known = provider.candidates(name)
    release = next((candidate for candidate in known.releases if candidate.version == old), None)
    if release is None:
        why = next((rejected.reason for rejected in known.rejected if rejected.version == str(old)), "")
        return f"{old} can't be used: {why}" if why else f"{old} is not offered for this target"
    if release.yanked:
        return f"{old} was yanked"
    metadata = provider.metadata(release)
    if isinstance(metadata, Rejected):
        return f"{old} can't be used: {metadata.reason}"
    for need in metadata.needs:
        chosen = solution.chosen.get(need.name)
        if chosen is None or not solution.target.admits(need.marker):
            continue
        if not need.specifier.contains(chosen.version, prereleases=True):
            return f"{_says(str(release), need)}, chosen is {chosen.version}"
    return "goes with the others"


def _says(who: str, need: Need) -> str:
    return f"{who} needs {need_text(need, marker=False)}"
