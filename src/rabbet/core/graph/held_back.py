"""The reasons that keep a locked library from its newest release."""

from collections.abc import Callable, Iterable

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.graph.graph import Graph
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text
from rabbet.core.solve.problem.candidates import Candidates

__all__ = ["Holder", "held_back"]


class Holder(Struct, frozen=True, kw_only=True):
    """Why a library is not at its newest release.

    `by` are requirements that don't admit it (who makes them, and their text), or why it does not go with the
    rest itself. Where there are none, nothing holds it but the lock. `out_of_reach` are still newer
    releases that can't be used on this target, with the reasons; `baseline` stands in the way of one of them.
    The newest of those that a rule keeps out is `ruled_out`: its version, and why.
    """

    name: NormalizedName
    locked: Version
    newest: Version
    by: tuple[str, ...]
    out_of_reach: tuple[str, ...] = ()
    baseline: str = ""
    ruled_out: tuple[str, str] | None = None


def held_back(
    graph: Graph,
    name: NormalizedName,
    candidates: Candidates,
    limits: Iterable[Need],
    own_reasons: Callable[[Version], Iterable[str]],
) -> Holder | None:
    """The reasons that keep a library from its newest release; `None` when that is locked already.

    `own_reasons` tells, where nobody's requirement does, what keeps that release itself from going with the
    rest.
    """
    locked = graph.libraries[name].version
    early = locked.is_prerelease or all(candidate.version.is_prerelease for candidate in candidates.releases)
    offered = [release.version for release in candidates.releases if not release.yanked]
    newest = max((version for version in offered if early or not version.is_prerelease), default=locked)
    beyond = tuple(
        f"{rejected.version}: {rejected.reason}"
        for rejected in candidates.rejected
        if rejected.newer_than(max(newest, locked))
    )
    behind = (
        rejected
        for rejected in candidates.rejected
        if rejected.baseline and rejected.newer_than(max(newest, locked))
    )
    baseline = next((rejected.baseline for rejected in behind), "")
    ruled = [rejected for rejected in candidates.rejected if rejected.ruled and rejected.newer_than(locked)]
    last = max(ruled, key=lambda rejected: Version(rejected.version), default=None)
    ruled_out = (last.version, last.reason) if last else None
    if newest <= locked:
        same = Holder(
            name=name,
            locked=locked,
            newest=locked,
            by=(),
            out_of_reach=beyond,
            baseline=baseline,
            ruled_out=ruled_out,
        )
        return same if beyond else None
    by = [
        f"{graph.who(ask)} needs {need_text(ask.need, marker=False)}"
        for ask in graph.asking_for(name)
        if not ask.need.specifier.contains(newest, prereleases=True)
    ]
    by += [
        f"{graph.project} sets the limit {need_text(limit, marker=False)}"
        for limit in limits
        if limit.name == name and not limit.specifier.contains(newest, prereleases=True)
    ]
    reasons = tuple(by) or tuple(own_reasons(newest))
    return Holder(
        name=name,
        locked=locked,
        newest=newest,
        by=reasons,
        out_of_reach=beyond,
        baseline=baseline,
        ruled_out=ruled_out,
    )
