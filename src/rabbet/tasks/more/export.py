"""Exports of a lock: a list, a bill of materials, a table, a container, an editor's description."""

from collections.abc import Iterable, Mapping
from contextlib import suppress
from functools import partial
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.version import Version

from rabbet import __version__
from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, LockedLibrary
from rabbet.core.model.options import RecreateOptions
from rabbet.core.model.target import targets_text
from rabbet.core.shell import quoted, variant_option
from rabbet.errors import NoRuntime, WrongUsage
from rabbet.exports.bill import bill
from rabbet.exports.container import CARRIED, IGNORED, Container, containerfile, editor_description
from rabbet.exports.lists import lock_table, requirement_list
from rabbet.exports.marked import CONTAINER, EDITOR, IGNORE, Making, write_marked
from rabbet.python.choosing.serving import places_of
from rabbet.python.environment.place.layout import commands_in, interpreter_in
from rabbet.python.formats.metadata import MetadataBroken, licence_of
from rabbet.python.sources.asking.release_reader import remembered_metadata
from rabbet.workspace.project import Project
from rabbet.workspace.rules.judging import counted_rules, judged_lock
from rabbet.workspace.rules.rule_sets import KNOWN
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of, targets_of_lock
from rabbet.workspace.selection import selected
from rabbet.workspace.session import Session

__all__ = [
    "ContainerOptions",
    "Exported",
    "export_bill",
    "export_container",
    "export_editor",
    "export_list",
    "export_table",
]


class ContainerOptions(Struct, frozen=True, kw_only=True):
    """The command line's options for a container; by default `base` is a usual image of the locked Python."""

    base: str = ""
    command: tuple[str, ...] = ()
    force: bool = False


class Exported(Struct, frozen=True, kw_only=True):
    """The files looked at, those of them that were written, and the `paths` that editors ask for.

    `missing` are locked runtimes that the image has to bring by itself.
    """

    files: tuple[Path, ...]
    written: tuple[Path, ...]
    paths: Mapping[str, str] = field(default_factory=dict)
    missing: tuple[str, ...] = ()


def export_list(session: Session, options: RecreateOptions) -> str:
    """The lock as a list of requirements with hashes.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `WrongUsage` for groups that there are not.
    """
    lock, declaration = session.lock(), session.declaration()
    selection = selected(lock, None, options, declaration)
    targets = targets_of_lock(lock, declaration.baselines, session)
    served = targets_text(targets)
    title = f"{declaration.name}, as it is locked in {session.project.lock_file.name} for {served}"
    return requirement_list(lock, targets, selection, title)


def export_bill(session: Session) -> str:
    """The lock as a bill of materials; licences are told as far as the store knows the releases' metadata."""
    lock, declaration = session.lock(), session.declaration()
    about = {"name": declaration.name}
    about |= {"version": str(declaration.version)} if declaration.version else {}
    declared = (requirement.need.name for requirement in declaration.declared())
    rules = counted_rules(session, KNOWN)
    broken = judged_lock(session, rules, lock) if rules is not None else ()
    return bill(lock, about, declared, partial(_licence, session), __version__, broken)


def export_table(session: Session) -> str:
    """The lock as a table for a spreadsheet, with licences as in a bill."""
    return lock_table(session.lock(), session.declaration().declared(), partial(_licence, session))


def _licence(session: Session, library: LockedLibrary) -> str:
    """A release's licence by the metadata in the store."""
    for content in remembered_metadata(session.machine.metadata, library):
        with suppress(MetadataBroken):
            return licence_of(content)
    return ""


def export_container(session: Session, options: RecreateOptions, wanted: ContainerOptions) -> Exported:
    """Write `Containerfile` and `.containerignore` into the project.

    Raises `CannotWrite` for files that somebody edited, and what `export_list` raises.
    """
    lock, declaration = session.lock(), session.declaration()
    selected(lock, None, options, declaration)  # which refuses groups that there are not
    python = _minor(lock, declaration, session)
    distribution, packages = _system(declaration, wanted.base)
    content = containerfile(
        Container(
            base=wanted.base or f"docker.io/library/python:{python}-slim",
            python=python,
            distribution=distribution,
            packages=packages,
            options=_recreate_options(options, session.project, declaration),
            carrying=f"rabbet carry{variant_option(session.project.variant)} --to {CARRIED}",
            environment=session.project.environment.name,
            installed=declaration.build_system is not None,
            command=wanted.command or ("python",),
        )
    )
    again = f"rabbet export container{variant_option(session.project.variant)} --force"
    making = Making(session.project.lock_stamp(), again)
    contents = {CONTAINER: content, IGNORE: IGNORED}
    written = [
        name
        for name, text in contents.items()
        if write_marked(session.project.folder, name, text, making, force=wanted.force)
    ]
    return replace(_exported(session.project, contents, written), missing=_other_runtimes(lock))


def export_editor(session: Session, wanted: ContainerOptions) -> Exported:
    """Write the description of a development container. Raises as `export_container` does."""
    lock, declaration = session.lock(), session.declaration()
    text = editor_description(declaration.name, session.project.environment.name)
    again = f"rabbet export editor{variant_option(session.project.variant)} --force"
    making = Making(session.project.lock_stamp(), again, comment="//")
    written = write_marked(session.project.folder, EDITOR, text, making, force=wanted.force)
    return replace(
        _exported(session.project, [EDITOR], [EDITOR] if written else []),
        paths=_editor_paths(session.project.environment),
        missing=_other_runtimes(lock),
    )


def _other_runtimes(lock: Lock) -> tuple[str, ...]:
    """The runtimes that the container's file does not put into the image: all but Python."""
    return tuple(
        f"{runtime.language} {runtime.version}" for runtime in lock.runtimes if runtime.language != "python"
    )


def _editor_paths(root: Path) -> dict[str, str]:
    """The paths that editors ask for; the environment may not exist yet."""
    site = next(root.glob("lib/python*/site-packages"), None)
    return {
        "interpreter": str(interpreter_in(root)),
        "commands": str(commands_in(root)),
        **({"libraries": str(site)} if site else {}),
    }


def _exported(project: Project, files: Iterable[str], written: Iterable[str]) -> Exported:
    return Exported(
        files=tuple(project.folder / name for name in files),
        written=tuple(project.folder / name for name in written),
    )


def _minor(lock: Lock, declaration: Declaration, session: Session) -> str:
    """The first two numbers of the Python that the lock was made with, on Linux."""
    if lock.python is not None:
        return f"{lock.python.version.major}.{lock.python.version.minor}"
    minors = [minor for platform, minor in places_of(lock).values() if platform.startswith("linux")]
    if minors:
        return max(minors, key=Version)
    try:
        return chosen_runtime(declaration, pythons_of(session), lock).minor
    except NoRuntime as error:
        raise WrongUsage(
            "nobody says which Python the container gets", because=[str(error)], remedy="rabbet resolve"
        ) from error


def _system(declaration: Declaration, base: str) -> tuple[str, tuple[str, ...]]:
    """The distribution that the base image is of, as its name tells, and what is needed of it."""
    needed = (declaration.system, declaration.system_for_builds)
    named = next((system for each in needed for system in each if system in base), "debian")
    return named, tuple(dict.fromkeys(package for each in needed for package in each.get(named, ())))


def _recreate_options(options: RecreateOptions, project: Project, declaration: Declaration) -> str:
    """The options of `recreate` for the same choice; the project itself comes in a later layer."""
    words = []
    if options.groups:
        words += ["--group", *map(quoted, options.groups)]
    if options.extras:
        words += ["--extra", *map(quoted, options.extras)]
    if not words:
        words = ["--everything"] if options.everything else ["--bare"]
    without = ["--without-project"] if declaration.build_system else []
    return " ".join([*words, *without]) + variant_option(project.variant)
