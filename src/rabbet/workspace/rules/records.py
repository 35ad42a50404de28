"""The records of vulnerabilities that rules name, fetched or looked at, and read into the store once."""

import os
import time
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.limits import MOST_UNANNOUNCED
from rabbet.core.rules.advisory import Advisory
from rabbet.core.rules.judge import age_text, duration_text
from rabbet.disk.atomic import write_hashed
from rabbet.disk.process_lock import claimed
from rabbet.disk.scratch import scratch_folder
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import is_address
from rabbet.net.http.failures import refused
from rabbet.net.local_file import local_path
from rabbet.store.advisory_index import AdvisoryIndex, IndexFacts
from rabbet.store.advisory_records import records_in, state_of_records
from rabbet.workspace.rules.rule_sets import (
    Look,
    PlacedRules,
    absolute_place,
    client_for,
    shown_place,
)
from rabbet.workspace.rules.state import ASKED_AGAIN, index_file
from rabbet.workspace.session import Session

__all__ = ["Records", "RecordsPlace", "records_of"]

_NO_HEAD = (403, 404, 405, 501)  # answers of servers that take no such question


class RecordsPlace(Struct, frozen=True, kw_only=True):
    """One place of records: how it is shown, its index, and what that was made from.

    `age` is how many seconds ago an address was last asked, or a local record last written.
    """

    shown: str
    index: AdvisoryIndex
    facts: IndexFacts
    age: float

    @property
    def age_told(self) -> str:
        """Such as `3 days`."""
        return age_text(max(0.0, self.age))


class Records(Struct, frozen=True, kw_only=True):
    """All places of records, and why those among them that are too old are."""

    places: tuple[RecordsPlace, ...] = ()
    too_old: tuple[str, ...] = ()

    def about(self, names: Iterable[NormalizedName]) -> dict[NormalizedName, Sequence[Advisory]]:
        """The advisories about each of these libraries that has any, a record of several places once."""
        wanted = list(names)
        found: dict[NormalizedName, dict[str, Advisory]] = {}
        for place in self.places:
            for name, advisories in place.index.about(wanted).items():
                for advisory in advisories:
                    known = found.setdefault(name, {}).get(advisory.id)
                    if known is None or known.modified < advisory.modified:
                        found[name][advisory.id] = advisory
        return {name: tuple(advisories.values()) for name, advisories in found.items()}

    def refuse_old(self) -> None:
        """Raise `SourceFailed` where records are older than the rules allow."""
        if self.too_old:
            raise SourceFailed(
                "the records of vulnerabilities are too old to rely on",
                because=self.too_old,
                note="bring the records up to date, or ask for them where there is a network",
                remedy="rabbet rules",
            )


def records_of(session: Session, rules: Sequence[PlacedRules], look: Look) -> Records:
    """The records that these rules name, each place once. Raises `SourceFailed`, `CannotWrite`."""
    places = {
        absolute_place(place, placed.folder): shown_place(place)
        for placed in rules
        for place in placed.rules.advisories
    }
    found = tuple(_place(session, place, shown, look) for place, shown in places.items())
    limits = [placed.rules.stale_after for placed in rules if placed.rules.stale_after is not None]
    return Records(places=found, too_old=tuple(_too_old(found, min(limits))) if limits else ())


def _too_old(places: Iterable[RecordsPlace], limit: int) -> Iterator[str]:
    for place in places:
        if place.age > limit:
            yield f"{place.shown}: {place.age_told} old, and stale-after allows {duration_text(limit)}"


def _place(session: Session, place: str, shown: str, look: Look) -> RecordsPlace:
    path = local_path(place) if is_address(place) else Path(place)
    index = AdvisoryIndex(index_file(session.machine.store_folder, place))
    if path is not None:
        facts = _looked_at(session, path, shown, index, look)
        return RecordsPlace(shown=shown, index=index, facts=facts, age=time.time() - facts.written)
    facts = _asked(session, place, shown, index, look)
    return RecordsPlace(shown=shown, index=index, facts=facts, age=time.time() - facts.checked)


def _looked_at(session: Session, path: Path, shown: str, index: AdvisoryIndex, look: Look) -> IndexFacts:
    """The index of a folder or an archive of this machine; made again when a file of it changed."""
    known = index.facts()
    if known is not None and not look.anew and _folders_unchanged(known):
        return known
    try:
        state = state_of_records(path)
        if known is not None and known.state == state.digest:
            return index.note_checked(known) if known.folders else known
        with claimed(session.machine.store_folder, f"advisories {path}"):
            known = index.facts()  # another process may have done it meanwhile
            if known is not None and known.state == state.digest:
                return known
            session.observer.stage(f"reading records of vulnerabilities in {shown}")
            return index.write(
                records_in(path), state=state.digest, written=state.written, folders=state.folders
            )
    except OSError as error:
        raise SourceFailed(
            "records of vulnerabilities can't be read", because=[f"{path}: {error.strerror}"]
        ) from error


def _folders_unchanged(known: IndexFacts) -> bool:
    """Whether the folders of a large collection, looked at of late, hold the same files as then."""
    if not known.folders or not 0 <= time.time() - known.checked < ASKED_AGAIN:
        return False
    try:
        return all(os.stat(folder).st_mtime_ns == when for folder, when in known.folders.items())  # noqa: PTH116
    except OSError:
        return False


def _asked(session: Session, address: str, shown: str, index: AdvisoryIndex, look: Look) -> IndexFacts:
    """The index of what an address holds, which is asked for what changed."""
    known, machine = index.facts(), session.machine
    due = known is None or machine.fresh_listings or not 0 <= time.time() - known.checked < ASKED_AGAIN
    if known is not None and (machine.offline or not (due and look.anew)):
        return known
    if machine.offline or not look.network:
        raise SourceFailed(
            "the records of vulnerabilities are not known on this machine yet",
            because=[shown, "no network is asked now"],
            remedy="rabbet rules",
        )
    with claimed(machine.store_folder, f"advisories {address}"):
        now = index.facts()
        if now is not None and (known is None or now.checked > known.checked):
            return now  # another process has done it meanwhile
        return _fetched(session, address, shown, index, known)


def _fetched(
    session: Session, address: str, shown: str, index: AdvisoryIndex, known: IndexFacts | None
) -> IndexFacts:
    """Fetch the records unless they are those that are known."""
    session.observer.stage(f"asking for records of vulnerabilities from {shown}")
    client = client_for(session)
    headers = {"If-None-Match": known.state} if known and known.state else {}
    answer = client.get(address, headers, method="HEAD")
    if answer.status == 304 and known is not None:
        return index.note_checked(known)
    if answer.status != 200 and answer.status not in _NO_HEAD:
        raise refused(address, answer.status)
    etag = answer.headers.get("etag", "") if answer.status == 200 else ""
    state = etag or answer.headers.get("last-modified", "") if answer.status == 200 else ""
    if known is not None and state and state == known.state:
        return index.note_checked(known)
    with scratch_folder(session.machine.store_folder / "scratch") as folder:
        path = folder / "records"
        size = write_hashed(path, client.stream(address), algorithm="sha256", most=MOST_UNANNOUNCED)[1]
        if size > MOST_UNANNOUNCED:
            raise SourceFailed("records of vulnerabilities are too many to be read", because=[shown])
        session.observer.stage("reading records of vulnerabilities")
        return index.write(records_in(path), state=state, written=time.time())
