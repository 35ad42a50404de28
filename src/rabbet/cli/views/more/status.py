"""Where a project stands."""

from collections.abc import Iterator

from rabbet.cli.context import Context
from rabbet.core.needs.wording import specifiers_text
from rabbet.core.shell import variant_option
from rabbet.documents.amounts import count, day
from rabbet.documents.more.status import StatusDocument
from rabbet.tasks.more.status import Environment, EnvironmentState, Locked, Status

__all__ = ["StatusView"]

_SHOWN = 4  # libraries that are behind
_WHY = {
    "resolve": "the lock is made from the declaration",
    "recreate": "the environment is made from the lock",
    "drift": "the environment is compared with the lock",
}


class StatusView(StatusDocument, frozen=True):
    """The table of what there is, and the next command."""

    def show(self, context: Context) -> None:
        """Print one line for each part, then the next command."""
        context.show_table(("what", "state", "since", "detail"), list(_rows(self.status)))
        context.show()
        context.show(_outcome(self.status))


def _rows(status: Status) -> Iterator[tuple[str, str, str, str]]:
    declaration, locked, environment = status.declaration, status.locked, status.environment
    version = str(declaration.version) if declaration.version else ""
    yield "project", f"{declaration.name} {version}".rstrip(), "", _sections(status)
    python = specifiers_text(declaration.python)
    others = ", ".join(map(str, declaration.runtimes))
    runtimes = ", ".join(part for part in (f"python{python}", others) if part)
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
    yield from _sent(status)
    for variant in status.behind[:_SHOWN]:
        yield "behind", f"{variant.name} {variant.locked}", "", f"the store has heard of {variant.newest}"
    if len(status.behind) > _SHOWN:
        yield "behind", f"and {len(status.behind) - _SHOWN} more", "", ""


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
    state = "fits the lock" if environment.fit is EnvironmentState.FITS else str(environment.fit)
    if environment.findings:
        state += f": {count(environment.findings, 'finding')}"
    return state, day(environment.since), f"{python} in {environment.root.name}".strip()


def _sections(status: Status) -> str:
    """The named parts of the declaration."""
    declaration = status.declaration
    kinds = (
        ("groups", declaration.groups),
        ("extras", declaration.extras),
        ("variants", declaration.variants),
    )
    parts = [f"{kind}: {', '.join(sorted(names))}" for kind, names in kinds if names]
    return "; ".join([*([f"variant {status.variant}"] if status.variant else []), *parts])


def _outcome(status: Status) -> str:
    option = variant_option(status.variant)
    if status.following == "run":
        return f"Everything fits together. Next: rabbet run{option} COMMAND"
    return f"Next, so that {_WHY[status.following]}: rabbet {status.following}{option}"
