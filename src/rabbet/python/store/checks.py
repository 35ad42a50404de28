"""Checks of the store's content against the wheels, for deep looks and `store check`."""

import shutil

from rabbet.core.model.lock import LockedFile
from rabbet.disk.atomic import cannot_write
from rabbet.disk.process_lock import claimed
from rabbet.python.store.entries import Entries
from rabbet.python.store.unpack import digests_in, recorded_in
from rabbet.store.layout import UNPACKED
from rabbet.store.trees import is_sound, read_tree

__all__ = ["damaged_files", "hold_against_wheel"]


def damaged_files(entries: Entries, sha256: str) -> list[str]:
    """The files of an unpacked wheel that are not what the wheel holds, and what is compiled of it."""
    entry = entries.folder / UNPACKED / sha256
    wheels = sorted((entries.folder / "wheels" / sha256).glob("*"))
    held = digests_in(wheels[0]) if wheels else {}
    damaged = [path for path, digest in held.items() if not is_sound(entry / "tree" / path, digest)]
    entries.forget(entry)  # so that everything is read again
    if entries.intact(entry) is None:
        damaged.append(f"what was unpacked of {wheels[0].name if wheels else sha256}")
    for compiled in sorted(path for path in entry.iterdir() if path.is_dir() and path.name != "tree"):
        entries.forget(compiled)
        if entries.intact(compiled) is None:
            damaged.append(f"what {compiled.name} compiled of {wheels[0].name if wheels else sha256}")
    return damaged


def hold_against_wheel(entries: Entries, wheel: LockedFile, *, whole: bool = True) -> None:
    """Give up what was unpacked of a wheel, if that holds something else. Raises `CannotWrite`.

    Without the `whole`, what is read is the wheel's own record and the files that installing reads: for
    who holds all other files, where they were installed, against the list that agrees with that record.
    """
    if not entries.unpacked(wheel).is_dir():
        return
    with claimed(entries.folder, f"wheel {wheel.sha256}"), cannot_write(entries.folder):
        if not entries.is_whole(wheel):
            shutil.rmtree(entries.wheel(wheel).parent, ignore_errors=True)
        damaged = damaged_files if whole else _unlike_record
        if not entries.wheel(wheel).is_file() or damaged(entries, wheel.sha256):
            partial = entries.partial()
            entries.unpacked(wheel).rename(partial / "damaged")
            shutil.rmtree(partial, ignore_errors=True)


def _unlike_record(entries: Entries, sha256: str) -> bool:
    """Whether an unpacked wheel has another list than the wheel, or other files that installing reads."""
    entry = entries.folder / UNPACKED / sha256
    recorded = recorded_in(next((entries.folder / "wheels" / sha256).glob("*")))
    files = read_tree(str(entry), entries.key(entry)) or ()
    if {file.path for file in files} != set(recorded):
        return True
    for file in files:
        row = recorded[file.path]
        if row.digest is not None and row.sha256 is None:
            return bool(damaged_files(entries, sha256))  # a hash of another kind says nothing of the list's
        if row.sha256 not in (None, file.sha256):
            return True
        if _is_read(file.path) and not is_sound(entry / "tree" / file.path, file.sha256):
            return True
    return False


def _is_read(path: str) -> bool:
    """Whether installing reads a file of a wheel, in place of only linking it."""
    return path.endswith((".dist-info/METADATA", ".dist-info/entry_points.txt")) or ".data/scripts/" in path
