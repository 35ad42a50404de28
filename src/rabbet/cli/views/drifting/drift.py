"""The views of `drift`, and of keeping libraries as installed."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.cli.views.recreating.unchanged import no_drift_text
from rabbet.core.drift.mends import is_by_hand, mends_of
from rabbet.core.drift.since import NearestRevision
from rabbet.core.model.cause import Reason
from rabbet.core.model.finding import Finding, Weight
from rabbet.core.shell import joined_words, quoted, variant_option
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count, day
from rabbet.documents.drifting.drift import DriftDocument
from rabbet.documents.drifting.finding import command_for, detail, mend_command, story_text, version_text
from rabbet.tasks.drifting.drift import Drift

if TYPE_CHECKING:
    from rabbet.tasks.drifting.keep import Keeping

__all__ = ["DriftView", "outcome", "show_keeping"]


_SHOWN_STRAYS = 10
_SHOWN_NAMES = 8


class DriftView(DriftDocument, frozen=True):
    """The differences from the lock, and the requirements that they break."""

    def show(self, context: Context) -> None:
        """Print all findings, and how to mend them."""
        found = self.found
        if found.findings:
            style = context.style
            tones = {"breaks": style.bad, "differs": style.warning, "note": style.faint}
            held_against = "there" if found.installed_there else "locked"
            headings = ("finding", "library", held_against, "installed", "weight", "breaks")
            strays = [finding.files[0] for finding in found.findings if finding.reason is Reason.UNRECORDED]
            others = [finding for finding in found.findings if finding.reason is not Reason.UNRECORDED]
            if others:
                context.show_table(headings, [_row(finding) for finding in others], tones=tones)
            details: dict[str, list[str]] = {}  # what is said of several is said once
            for finding in others:
                told = "; ".join(part for part in (detail(finding), self._way(finding)) if part)
                details.setdefault(told, []).append(finding.name)
            details.pop("", None)
            for told, names in details.items():
                context.show(f"  {', '.join(dict.fromkeys(names))}: {told}")
            for story in found.stories:
                context.show(story_text(story))
            if strays:
                context.show("Untracked files that Python would load or start:")
            for place in strays[:_SHOWN_STRAYS]:
                context.show(f"  {place}")
            if len(strays) > _SHOWN_STRAYS:
                context.show(f"  and {len(strays) - _SHOWN_STRAYS} more (see --json)")
            context.show()
        if found.since is not None:
            context.show(_since(found.since))
        context.show(_outcome(found))
        to_keep = _to_keep(found)
        if to_keep:
            context.show(f"To keep what was installed by hand instead: {to_keep}")

    def _way(self, finding: Finding) -> str:
        """The way to mend a note by itself; empty where the last line's command mends it or nothing does."""
        if finding.weight is not Weight.NOTE or not self.found.may_be_mended:
            return ""
        command = command_for(finding, self.found.variant)
        return f"to mend that: {command}" if command else ""


def _to_keep(found: Drift) -> str:
    """The command that keeps what was installed by hand, with what came along; empty if nothing was."""
    along = {finding.name for story in found.stories for finding in (*story.along, *story.guessed)}
    names = [finding.name for finding in found.findings if is_by_hand(finding) and finding.name not in along]
    if not (names and found.may_be_mended):
        return ""
    shown = " ".join(quoted(name) for name in dict.fromkeys(names))
    return f"rabbet drift{variant_option(found.variant)} --keep {shown}"


def _row(finding: Finding) -> tuple[str, ...]:
    return (
        str(finding.kind),
        finding.name,
        version_text(finding.locked) or "-",
        version_text(finding.installed) or "-",
        str(finding.weight),
        ", ".join(finding.breaks),
    )


def _since(fit: NearestRevision) -> str:
    """Which revision of the lock is installed, and what differs even from that."""
    ago = f", {count(fit.newer, 'revision')} ago" if fit.newer else ", the last that was committed"
    which = f"the lock of {day(fit.revision.when)} (git {fit.revision.commit[:10]}{ago})"
    if not fit.differing:
        return f"What is installed is exactly {which}."
    shown = some_of(fit.differing, _SHOWN_NAMES)
    return f"What is installed fits {which} best; done by hand beyond that: {shown}."


def _outcome(found: Drift) -> str:
    if not found.differs:
        noted = ", apart from what is noted above" if found.findings else ""
        if found.against:
            return f"No drift from {found.against}: {count(found.compared, 'library')} as there{noted}."
        return no_drift_text(found.compared, noted)
    breaking = sum(finding.weight is Weight.BREAKS for finding in found.findings)
    severity = f", {breaking} of them breaking something" if breaking else ", nothing breaks"
    if found.elsewhere:
        return f"{count(len(found.findings), 'finding')} in {found.elsewhere}{severity}."
    if found.against:
        return f"{count(len(found.findings), 'finding')} against {found.against}{severity}."
    outcome = f"{count(len(found.findings), 'finding')}{severity}."
    mends = mends_of(found.findings)
    return f"{outcome} To mend: {mend_command(mends, found.variant)}" if mends else outcome


def show_keeping(kept: "Keeping", context: Context) -> None:
    """Print what would be declared, and what preferred."""
    from rabbet.cli.views.declaring.changes import entry_text, verb_of  # here: mostly nothing is kept

    rows = [(verb_of(change), entry_text(change), change.place) for change in kept.changes]
    rows += [
        ("preferred", f"{name}=={version}", kept.project.preferred_file.name)
        for name, version in sorted(kept.preferred.items())
    ]
    context.show_table(("change", "entry", "in"), rows)
    context.show()


def outcome(
    kept: "Keeping", names: Sequence[str], group: str | None, *, written: bool, context: Context
) -> str:
    """The lines on what was written, and what to do next."""
    of_variant = variant_option(kept.project.variant)
    if written:
        files = [kept.project.preferred_file.name]
        if kept.changes:
            files.insert(0, kept.project.declaration_file.name)
        stays = "The versions stay; recreating puts the locked files in place of those installed by hand."
        return f"Wrote {' and '.join(files)}. {stays} Next: rabbet resolve --now{of_variant}"
    if context.interactive:
        return "Nothing was written."
    in_group = ["--group", group] if group else []
    words = joined_words(["--keep", *names, *in_group, "--yes"])
    return (
        f"Nothing was written: there is no terminal to ask on. To write it: rabbet drift{of_variant} {words}"
    )
