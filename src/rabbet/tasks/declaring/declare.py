"""Change what a project declares, tell what it does, and go on to its lock and its environment."""

import os
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace
from packaging.version import Version

from rabbet.core.declaration.edit import Edit, EditResult
from rabbet.core.declaration.keys import KEYS
from rabbet.core.declaration.model import Declaration
from rabbet.core.needs.names import is_name, library_name
from rabbet.disk.atomic import write_text
from rabbet.disk.named import path_named
from rabbet.disk.text_file import read_text
from rabbet.errors import NoLock, NoRuntime, NotUnderstood, RabbetError, WrongUsage
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.project.pyproject_edit import apply
from rabbet.python.choosing.targets import BASELINES, PLATFORMS, target_of
from rabbet.workspace.evidence.given_places import refuse_place
from rabbet.workspace.machine import Machine
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.tasks.recreating.recreate import RecreateReport
    from rabbet.tasks.resolving.resolve import Resolved

__all__ = ["Done", "Edited", "carried_out", "change", "planned"]

_NOT_FOR_SCRIPTS = ("own-version", "build-from-source", "local")
_LANGUAGE = re.compile(r"\s*([A-Za-z0-9][A-Za-z0-9._-]*)\s*(?:\Z|[\[=<>!~@;0-9])")


class Edited(Struct, frozen=True):
    """The result for each named entry, and for those that were `kept` by declaring them as well.

    `runtimes` were given as libraries, and are languages: they are declared, or retracted, as runtimes.
    """

    changes: tuple[EditResult, ...]
    kept: tuple[str, ...] = ()
    runtimes: tuple[str, ...] = ()

    @property
    def changed(self) -> bool:
        """Whether the declaration differs from before."""
        return any(change.happened for change in self.changes)

    @property
    def bears_on_lock(self) -> bool:
        """Whether the lock may have to follow."""
        apart = ("project.version", *(key.place for key in KEYS if not key.on_lock))
        return any(change.happened and not change.place.startswith(apart) for change in self.changes)


class Done(Struct, frozen=True):
    """The edited declaration and, if requested, the results for lock and environment.

    Of what was only `planned`, nothing was written.
    """

    edited: Edited
    resolved: "tuple[Resolved, ...]" = ()
    recreated: "RecreateReport | None" = None
    planned: bool = False


def carried_out(session: Session, edits: Sequence[Edit], *, now: bool) -> Done:
    """Change the declaration; `now` go on to resolve and recreate, and put all back if that fails.

    Raises what these raise.
    """
    if not now:
        return Done(change(session, edits))
    from rabbet.tasks.recreating.now import all_or_nothing, both

    with all_or_nothing(session):
        edited = change(session, edits)
        with _undoing(edits):
            brought = both(session)
    return Done(edited, brought.resolved, brought.recreated)


def planned(session: Session, edits: Sequence[Edit]) -> Done:
    """The locks that the changed declaration would get; nothing is written. Raises as `carried_out`."""
    from rabbet.core.model.options import ResolveOptions
    from rabbet.tasks.resolving.resolve import resolve

    edited, text = _changed(session, edits)
    changed = session._replace(project=session.project.with_text(text))
    with _undoing(edits):
        return Done(edited, resolve(changed, ResolveOptions(), writing=False), planned=True)


@contextmanager
def _undoing(edits: Sequence[Edit]) -> Iterator[None]:
    """Note in errors that these edits, which were carried out before, are not there any more."""
    try:
        yield
    except RabbetError as error:
        error.undone = _names(edits)
        raise


def _names(edits: Sequence[Edit]) -> frozenset[str]:
    """The libraries and runtimes that edits are about, and options without a name, such as `--as-of`."""
    found = (_LANGUAGE.match(edit.value) for edit in edits if edit.what in ("library", "runtime", "limit"))
    unnamed = (f"--{edit.what}" for edit in edits if edit.what in ("as-of", "newest"))
    return frozenset([*(library_name(named[1]) for named in found if named), *unnamed])


def change(session: Session, edits: Sequence[Edit]) -> Edited:
    """Carry out edits of the declaration; all of them or, on an error, none.

    Where the first platforms or versions of Python to serve are named, those that are served without being
    named are kept: the lock's, and this machine's.

    Raises `NotUnderstood` for what does not parse, `WrongUsage` for what is no target or is not there,
    `CannotWrite`.
    """
    edited, text = _changed(session, edits)
    if edited.changed:
        write_text(session.project.declaration_file, text)
    return edited


def _changed(session: Session, edits: Sequence[Edit]) -> tuple[Edited, str]:
    """The result of edits, and the text that the declaration would have."""
    declaration = session.declaration()
    given, edits = edits, [_as_runtime(edit, declaration, session.machine) for edit in edits]
    runtimes = tuple(edit.value for edit, before in zip(edits, given, strict=True) if edit is not before)
    for edit in edits:
        _check(edit)
        _refuse_for_script(edit, session)
        refuse_place(edit, session)
    edits = [_with_place(edit, session) for edit in edits]
    for edit in edits:
        _refuse_left_to_build(edit, declaration)
    served = list(_served_unnamed(session, declaration, edits))
    before = read_text(session.project.declaration_file, by_hand=True)
    after, changes = apply(before, [*served, *edits])
    if after != before:
        project = session.project
        changed = read_declaration(
            after, folder_name=project.fallback_name, where=project.declared_in, has_setup=project.has_setup
        )
        for each in (changed, *map(changed.varied, changed.variants)):
            if not each.runtimes:
                continue
            from rabbet.workspace.runtimes.languages import languages_for  # here: most edits name a library

            languages_for(each, session.machine, written=False)  # it refuses unknown languages
    return Edited(changes, tuple(edit.value for edit in served), runtimes), after


def _as_runtime(edit: Edit, declaration: Declaration, machine: Machine) -> Edit:
    """An edit of the runtime, where what was given as a library is a language."""
    if edit.what != "library" or (edit.section is not None and edit.section.kind != "variant"):
        return edit
    named = _LANGUAGE.match(edit.value)
    name = library_name(named[1]) if named else ""
    if edit.verb == "retract":
        declared = any(requirement.need.name == name for requirement in declaration.declared())
        known = any(runtime.language == name for runtime in declaration.runtimes)
        return replace(edit, what="runtime", value=str(name)) if known and not declared else edit
    from rabbet.workspace.runtimes.languages import known_languages  # here: it reads a table

    languages = {"python", *known_languages(), *machine.settings().languages, *declaration.languages}
    return replace(edit, what="runtime") if name in languages else edit


def _refuse_left_to_build(edit: Edit, declaration: Declaration) -> None:
    """Raise `WrongUsage` for an entry that the declaration leaves to the project's build."""
    from rabbet.tasks.declaring.begin import left_to_build

    left, section = declaration.by_build, edit.section
    if edit.what == "library" and section is None and "dependencies" in left:
        raise left_to_build("what the project needs")
    if section is not None and section.kind == "extra" and "optional-dependencies" in left:
        raise left_to_build(f"the {section}")
    if edit.what == "own-version" and "name" in left:
        raise left_to_build("the project's version")


def _refuse_for_script(edit: Edit, session: Session) -> None:
    """Raise `WrongUsage` for an entry that a single script can't have."""
    script = session.project.script
    if script is None:
        return
    if edit.section is not None:
        raise WrongUsage(
            f"{script.file.name} is a single script: it has no groups, extras and variants",
            note="what it needs is declared for all of it",
        )
    if edit.what in _NOT_FOR_SCRIPTS:
        raise WrongUsage(f"{script.file.name} is a single script, and '{edit.what}' is for projects")


def _check(edit: Edit) -> None:
    """Raise `WrongUsage` for a platform or a baseline that does not exist."""
    if edit.verb == "declare" and edit.what == "target" and edit.value not in PLATFORMS:
        raise WrongUsage(f"'{edit.value}' is not a target", because=[f"known are: {', '.join(PLATFORMS)}"])
    known = edit.name in BASELINES and edit.value
    if edit.verb == "declare" and edit.what == "baseline" and not known:
        raise WrongUsage(
            f"'{edit.text}' is not a baseline",
            because=[f"known are: {', '.join(f'{key}={value}' for key, value in BASELINES.items())}"],
        )


def _with_place(edit: Edit, session: Session) -> Edit:
    """A checkout with its place as the declaration writes it: relative to the project's folder.

    Raises `WrongUsage` for a folder that holds no sources, or those of another library.
    """
    if (edit.verb, edit.what) != ("declare", "local"):
        return edit
    name, given = edit.name or "", edit.value
    folder = path_named(given, session.machine.folder)
    if not is_name(name):
        raise WrongUsage(f"'{name[:60]}' is not a library's name")
    if not any((folder / file).is_file() for file in ("pyproject.toml", "setup.py")):
        raise WrongUsage(
            f"{folder} is not a checkout of {name}",
            because=["it holds neither pyproject.toml nor setup.py"],
        )
    # Here: few libraries stand in for a release.
    from rabbet.python.formats.static_metadata import name_of_tree

    told = None
    with suppress(NotUnderstood):  # then only its build could tell
        told = name_of_tree(read_text(folder / "pyproject.toml", by_hand=True))
    if told not in (None, library_name(name)):
        raise WrongUsage(f"{folder} is not a checkout of {name}", because=[f"it says that it is {told}"])
    kept = given.startswith("~") or Path(given).is_absolute()
    path = given if kept else Path(os.path.relpath(folder, session.project.folder)).as_posix()
    return replace(edit, value=path)


def _served_unnamed(session: Session, declaration: Declaration, edits: Sequence[Edit]) -> Iterator[Edit]:
    """Targets to declare so that naming others does not drop them."""
    platforms = [edit.value for edit in edits if (edit.verb, edit.what) == ("declare", "target")]
    pythons = [edit.value for edit in edits if (edit.verb, edit.what) == ("declare", "python")]
    first = (platforms and not declaration.targets, pythons and not declaration.pythons)
    if not any(first):
        return
    from rabbet.python.choosing.serving import places_of  # here: most edits name a library
    from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of

    try:
        lock = session.lock()
    except NoLock:
        lock = None
    places = set(places_of(lock).values()) if lock else set()
    try:
        here = target_of(chosen_runtime(declaration, pythons_of(session), lock))
    except NoRuntime:
        pass  # then nothing is resolved on this machine that has to stay served
    else:
        if here.platform in PLATFORMS and not (places and first[1]):
            places.add((here.platform, here.minor))
    if first[0]:
        for platform in sorted({platform for platform, _ in places} - {*platforms}):
            yield Edit(verb="declare", what="target", value=platform)
    if first[1]:
        minors = {minor for _, minor in places}
        for minor in sorted(minors - {*pythons}, key=Version):
            yield Edit(verb="declare", what="python", value=minor)
