"""Where a project stands."""

from collections.abc import Iterator

from rabbet.cli.context import Context
from rabbet.core.drift.since import VersionsChange
from rabbet.core.needs.wording import specifiers_text
from rabbet.core.rules.breach import refusing
from rabbet.core.shell import variant_option
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count, day
from rabbet.documents.more.status import StatusDocument
from rabbet.tasks.more.status import Environment, EnvironmentState, Locked, Status, VariantStatus
from rabbet.workspace.states.visits import SinceVisit

__all__ = ["StatusView"]

_SHOWN = 4  # libraries that are behind, revisions, and changes of one revision
_SHOWN_VARIANTS = 10
_NARROW = 72  # characters of a terminal in which dates give way to states
_STATES = {
    EnvironmentState.FITS: "fits the lock",
    EnvironmentState.UNCHECKED: "not checked since",
}
_WHY = {
    "resolve": "the lock is made from the declaration",
    "recreate": "the environment is made from the lock",
    "drift": "the environment is compared with the lock",
}


class StatusView(StatusDocument, frozen=True):
    """The table of what there is, and the next command."""

    def show(self, context: Context) -> None:
        """Print one line for each part, then the next command."""
        table = [("what", "state", "since", "detail"), *_rows(self.status)]
        shown = (0, 1, 3) if 0 < context.style.width < _NARROW else (0, 1, 2, 3)
        headings, *rows = [[row[column] for column in shown] for row in table]
        context.show_table(headings, rows)
        context.show()
        if self.status.since is not None:
            context.show(f"Changed in the lock since you were here on {day(self.status.since.when)}:")
            for line in _news(self.status.since):
                context.show(f"  {line}")
            context.show()
        context.show(_outcome(self.status))


def _rows(status: Status) -> Iterator[tuple[str, str, str, str]]:
    declaration, locked, environment = status.declaration, status.locked, status.environment
    version = str(declaration.version) if declaration.version else ""
    yield "project", f"{declaration.name} {version}".rstrip(), "", _sections(status)
    python = specifiers_text(declaration.python)
    others = ", ".join(map(str, declaration.runtimes))
    dated = f"releases as of {declaration.as_of}" if declaration.as_of else ""
    runtimes = ", ".join(part for part in (f"python{python}", others, dated) if part)
    amount = count(len(list(declaration.declared())), "requirement")
    if declaration.by_build:
        amount = "its build was not asked yet" if declaration.told is None else f"{amount}, its build tells"
    yield "declared", amount, "", runtimes
    if locked is None:
        yield "lock", "none yet", "", ""
    else:
        yield _lock_row(locked)
    if environment is None:
        yield "environment", "none yet", "", ""
    else:
        yield "environment", *_told(environment)
    for runtime in status.runtimes:
        state = "linked" if runtime.there else "gone" if runtime.linked else "not linked"
        yield "runtime", state, "", f"{runtime.language} {runtime.version} {runtime.linked}".rstrip()
    yield from _system(status)
    yield from _rules(status)
    for variant in status.variants[:_SHOWN_VARIANTS]:
        yield f"variant {variant.name}", *_of_variant(variant)
    if len(status.variants) > _SHOWN_VARIANTS:
        yield "variants", f"and {len(status.variants) - _SHOWN_VARIANTS} more", "", "--variant all lists them"
    yield from _sent(status)
    for behind in status.behind[:_SHOWN]:
        yield "behind", f"{behind.name} {behind.locked}", "", f"the store has heard of {behind.newest}"
    if len(status.behind) > _SHOWN:
        yield "behind", f"and {len(status.behind) - _SHOWN} more", "", ""


def _system(status: Status) -> Iterator[tuple[str, str, str, str]]:
    """The row on the operating system's packages, where any are declared."""
    look = status.system
    if look.lacking:
        yield "system", f"{len(look.lacking)} missing", "", ", ".join(look.lacking)
    elif look.unknown:
        yield "system", "not checked", "", look.unknown.partition(",")[0]
    elif status.declaration.system:
        yield "system", "packages installed", "", ""


def _rules(status: Status) -> Iterator[tuple[str, str, str, str]]:
    """The row on rules, where any are stated."""
    if status.rules is None:
        return
    refused = refusing(status.rules.broken)
    if status.rules.unknown:
        yield "rules", "not known", "", "to look: rabbet rules"
    elif refused:
        names = [f"{breach.name} ({breach.what})" for breach in refused]
        yield "rules", f"{len(refused)} broken", "", some_of(names, _SHOWN)
    else:
        noted = len(status.rules.broken)
        yield "rules", "none broken", "", count(noted, "note") if noted else ""


def _of_variant(variant: VariantStatus) -> tuple[str, str, str]:
    """A variant's lock and environment in one row."""
    lock = _lock_row(variant.locked)[1] if variant.locked else "no lock yet"
    if variant.environment is None:
        return f"lock {lock}" if variant.locked else lock, "", "no environment yet"
    state, since, detail = _told(variant.environment)
    return (state if lock == "up to date" else f"lock {lock}"), since, detail


def _news(since: SinceVisit) -> Iterator[str]:
    """What the newest revisions changed, each in a line, and how many more there are."""
    for changed in since.revisions[:_SHOWN]:
        revision, changes = changed.revision, list(map(_change, changed.changes[:_SHOWN]))
        if len(changed.changes) > _SHOWN:
            changes.append(f"{len(changed.changes) - _SHOWN} more")
        who = f"{revision.author}, {day(revision.when)}, git {revision.commit[:10]}"
        yield f"{', '.join(changes)} ({who if revision.commit else 'not committed'})"
    if len(since.revisions) > _SHOWN:
        yield f"and {count(len(since.revisions) - _SHOWN, 'earlier revision')}: rabbet past"


def _change(change: VersionsChange) -> str:
    if not change.before:
        return f"{change.name} {', '.join(change.after)} added"
    if not change.after:
        return f"{change.name} removed"
    return f"{change.name} {', '.join(change.before)} → {', '.join(change.after)}"


def _lock_row(locked: Locked) -> tuple[str, str, str, str]:
    since = day(locked.since)
    if locked.wrong:
        return "lock", "can't be read", since, f"{locked.file}: {locked.wrong}"
    if locked.edited:
        return "lock", "edited by hand", since, f"{locked.file}: {', '.join(locked.edited)}"
    state = "out of date" if locked.outdated else "up to date"
    return "lock", state, since, f"{count(locked.libraries, 'library')} in {locked.file}"


def _sent(status: Status) -> Iterator[tuple[str, str, str, str]]:
    """The rows on the last inventory sent, and on an agreement that is missing."""
    found = status.sending
    if found.when:
        yield "census", "not sent" if found.error else "sent", day(found.when), found.error or found.where
    if status.declaration.census.every and not found.agreed:
        state = "asked for" if found.agreed is None else "refused here"
        yield "census", state, "", "to agree: rabbet census send --every recreate"


def _told(environment: Environment) -> tuple[str, str, str]:
    python = f"Python {environment.python}" if environment.python else ""
    state = _STATES.get(environment.fit, str(environment.fit))
    if environment.findings:
        state += f": {count(environment.findings, 'finding')}"
    detail = f"{python} in {environment.root.name}".strip()
    if environment.chosen is not None:
        detail += f", with {', '.join(environment.chosen)}" if environment.chosen else ", without groups"
    return state, day(environment.since), detail


def _sections(status: Status) -> str:
    """The named parts of the declaration."""
    declaration = status.declaration
    kinds = (
        ("groups", declaration.groups),
        ("extras", declaration.extras),
        ("variants", declaration.variants),
    )
    parts = [
        f"{kind}: {', '.join(sorted(names)) if len(names) <= _SHOWN else len(names)}"
        for kind, names in kinds
        if names
    ]
    return "; ".join([*([f"variant {status.variant}"] if status.variant else []), *parts])


def _outcome(status: Status) -> str:
    option = variant_option(status.variant)
    if status.following == "run" and status.system.lacking:
        lacking = ", ".join(status.system.lacking)
        return f"Lock and environment fit together. {lacking}: {status.system.advice}"
    if status.following == "run":
        return f"Everything fits together. Next: rabbet run{option} COMMAND"
    return f"Next, so that {_WHY[status.following]}: rabbet {status.following}{option}"
