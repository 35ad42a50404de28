"""The views of the census over time: its trend, and what is new."""

from collections.abc import Sequence

from rabbet.cli.context import Context
from rabbet.core.census.history import Changed, Week
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count, day
from rabbet.documents.drifting.census_news import NewsDocument, TrendDocument

__all__ = ["NewsView", "TrendView"]

_SHOWN = 20  # machines of a kind
_ABOUT = 4  # libraries of a machine
_BAR = 20  # characters of a whole bar


class NewsView(NewsDocument, frozen=True):
    """What is new since a time."""

    def show(self, context: Context) -> None:
        """Print a line for each machine, by what became of it."""
        found, since = self.found, day(self.found.since)
        for heading, machines in (
            ("breaks now", found.broke),
            ("mended", found.mended),
            ("silent since", found.silent),
            ("new machine", found.added),
        ):
            _show(heading, machines, context)
        if found.libraries:
            context.show(f"{'differs now':<13} {some_of(found.libraries, _SHOWN)}")
        for unread in self.told.census.unread:
            context.show(f"can't be read {unread.what}: {unread.because}")
        if found.is_empty:
            context.show(f"Nothing is new since {since}.")
            return
        context.show()
        broke = (
            f"{count(len(found.broke), 'machine')} began to break"
            if found.broke
            else "nothing began to break"
        )
        context.show(f"Since {since}: {broke}. Details: rabbet census show")


def _show(heading: str, machines: Sequence[Changed], context: Context) -> None:
    for machine in machines[:_SHOWN]:
        when = day(machine.recorded) if machine.recorded else "an unknown day"
        about = f": {some_of(machine.about, _ABOUT)}" if machine.about else ""
        context.show(f"{heading:<13} {machine.label} ({when}){about}")
    if len(machines) > _SHOWN:
        context.show(f"{heading:<13} and {len(machines) - _SHOWN} more (see --json)")


class TrendView(TrendDocument, frozen=True):
    """How the team stood, by weeks, and when the newest locks reached the machines."""

    picture: str = ""

    def show(self, context: Context) -> None:
        """Print a row a week, and one a lock."""
        weeks, locks = self.found.weeks, self.found.locks
        if weeks:
            headings = ("week of", "as locked", "", "machines", "break", "differ", "unknown", "silent")
            context.show_table(headings, [_row(week) for week in weeks])
            context.show()
        if locks:
            rows = [
                (
                    lock.commit[:10] or "(not committed)",
                    day(lock.committed),
                    *(_reached(lock.committed, when) for when in (lock.half, lock.nine_tenths)),
                )
                for lock in locks
            ]
            context.show_table(("lock", "committed", "at half of the machines", "at nine tenths"), rows)
            context.show()
        if not weeks:
            context.show("No days are kept yet: `rabbet census check` keeps one whenever it runs.")
            return
        last = weeks[-1]
        told = f"{last.last.as_locked} of {count(last.last.machines, 'machine')} as locked on {last.last.day}"
        first = f", {weeks[0].share:.0%} in the week of {weeks[0].begins}" if len(weeks) > 1 else ""
        context.show(f"{told} ({last.share:.0%}{first}).")
        if self.picture:
            context.show(f"Wrote {self.picture}.")


def _row(week: Week) -> tuple[str, ...]:
    last = week.last
    bar = "█" * round(week.share * _BAR)
    counts = (last.machines, last.breaking, last.differing, last.unknown, last.silent)
    return week.begins, f"{week.share:.0%}", f"{bar:<{_BAR}}", *map(str, counts)


def _reached(committed: int, when: int | None) -> str:
    """After how many days a lock was there."""
    if when is None:
        return "not yet"
    days = max(0, when - committed) / 86400
    return f"after {days:.1f} days" if days < 10 else f"after {days:.0f} days"
