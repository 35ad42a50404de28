"""Draw up a declaration from what a project has already."""

import sys
from collections.abc import Collection, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace
from packaging.version import Version

from rabbet.core.declaration.edit import Edit
from rabbet.core.declaration.model import Declaration
from rabbet.core.needs.names import library_name
from rabbet.core.needs.wording import need_text, specifiers_text
from rabbet.core.progress import Observer
from rabbet.disk.text_file import read_text
from rabbet.errors import WrongUsage
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.project.pyproject_edit import apply, complete
from rabbet.python.code.adoption import AdoptCause, Adoption, AdoptReason, Evidence, Left, adopt
from rabbet.tasks.declaring.begin import default_name, existing, offered_runtimes
from rabbet.workspace.evidence.evidence import Gathered, gather
from rabbet.workspace.known_sources import users_source
from rabbet.workspace.machine import Machine
from rabbet.workspace.preferred import declare_and_prefer
from rabbet.workspace.project import DECLARATION, Project
from rabbet.workspace.runtimes.pythons import own_target, standard_modules_of

__all__ = ["Adopting", "adopting", "save"]


class Adopting(Struct, frozen=True, kw_only=True):
    """The proposed declaration, and the evidence it follows from.

    `before` is the declaration that is there already, `None` where there is none. `python` is what is
    declared of that now and why, empty if it was before; the environment was `made_with` a version of it.
    `unordered` pins are those of lists, where nothing
    tells what needs what; `hashed` is how many entries had hashes. `sourced` tells whether a source of
    libraries is known, `in_the_way` whether an environment that Rabbet did not make lies where its own goes.
    """

    project: Project
    adoption: Adoption
    looked_at: tuple[str, ...]
    unordered: bool
    hashed: int
    before: Declaration | None
    python: tuple[str, str]
    made_with: Version | None
    text: str
    changed: bool
    sourced: bool
    in_the_way: bool


def adopting(machine: Machine, observer: Observer, places: Sequence[str]) -> Adopting:
    """Look at these places, or at all that is in the current folder; nothing is written.

    Raises `WrongUsage` where there is nothing to adopt, `NotUnderstood`, `EnvironmentFailed`.
    """
    folder = machine.folder
    observer.stage("looking at what is there")
    gathered = gather(places, folder, machine.home, own_target(machine))
    before = existing(folder)
    name = before.name if before else default_name(folder)
    adoption = adopt(_evidence(gathered, before, name, _standard_modules(gathered, before, machine)))
    if not (adoption.entries or adoption.limits or adoption.preferred or adoption.left):
        raise WrongUsage(
            "there is nothing here to adopt",
            because=[f"looked at: {', '.join(gathered.looked_at) or 'an empty folder'}"],
            note="give an environment, a list, another project or code with --from",
            remedy="rabbet begin",
        )
    text = read_text(folder / DECLARATION, by_hand=True) if (folder / DECLARATION).exists() else ""
    python, why = _python(gathered, machine)
    declared = before is not None and bool(before.python or before.by_build)
    by_build = before.by_build if before else frozenset[str]()
    adoption = _without_left(adoption, by_build)
    whole = complete(
        text, name=name, python="" if by_build else python, sources=[], needs=(), by_build=by_build
    )
    after, _ = apply(whole, _edits(adoption))
    has_setup = (folder / "setup.py").is_file()
    read_declaration(
        after, folder_name=folder.name, has_setup=has_setup
    )  # which refuses what can't stand there
    environment = Project(folder).environment
    return Adopting(
        project=Project(folder),
        adoption=adoption,
        looked_at=tuple(gathered.looked_at),
        unordered=not gathered.present and any(listed.need.is_pin for listed in gathered.listed),
        hashed=gathered.hashed,
        before=before,
        python=("", "") if declared else (f"python{python}", why),
        made_with=gathered.made_with,
        text=after,
        changed=after != text,
        sourced=bool((before and before.sources) or users_source(machine)),
        in_the_way=environment.exists() and not machine.environments().owns(environment),
    )


def _without_left(adoption: Adoption, by_build: Collection[str]) -> Adoption:
    """The entries that can be declared: the project's own requirements may be left to its build."""
    if "dependencies" not in by_build:
        return adoption
    own = [entry for entry in adoption.entries if entry.section is None]
    cause = AdoptCause(AdoptReason.TOLD_BY_BUILD)
    left = (Left(what=need_text(entry.need), cause=cause) for entry in own)
    kept = tuple(entry for entry in adoption.entries if entry.section is not None)
    return replace(adoption, entries=kept, left=(*adoption.left, *left))


def _standard_modules(gathered: Gathered, before: Declaration | None, machine: Machine) -> frozenset[str]:
    """Those of a Python that the project is for, if this machine has one. Raises `NoRuntime`."""
    wanted = gathered.python if before is None or before.by_build else before.python
    here = offered_runtimes(machine)
    fitting = [runtime for runtime in here if wanted is None or runtime.version in wanted]
    best = next(iter(fitting or here), None)
    return standard_modules_of(Path(best.executable if best else sys.executable), machine)


def _evidence(
    gathered: Gathered, before: Declaration | None, name: str, standard: frozenset[str]
) -> Evidence:
    declared = (
        frozenset(requirement.need.name for requirement in before.declared()) if before else frozenset()
    )
    return Evidence(
        project=library_name(name),
        listed=gathered.listed,
        present=gathered.present,
        sites=gathered.sites,
        declared=declared,
        groups=before.groups.keys() if before else (),
        limited=frozenset(limit.name for limit in before.limits) if before else frozenset(),
        standard=standard,
        own=frozenset(gathered.own),
        left=tuple(gathered.left),
    )


def _python(gathered: Gathered, machine: Machine) -> tuple[str, str]:
    """The versions of Python to declare, and why these."""
    if gathered.python:
        return specifiers_text(gathered.python), "what was looked at has that"
    newest = next(iter(offered_runtimes(machine)), None)
    return (f">={newest.minor}", "the newest on this machine") if newest else ("", "")


def _edits(adoption: Adoption) -> list[Edit]:
    edits = [
        Edit(verb="declare", what="library", value=need_text(entry.need, whole=True), section=entry.section)
        for entry in adoption.entries
    ]
    return edits + [
        Edit(verb="declare", what="limit", value=need_text(limit.need)) for limit in adoption.limits
    ]


def save(drawn_up: Adopting) -> None:
    """Write the declaration and the versions to prefer, or neither. Raises `CannotWrite`."""
    text = drawn_up.text if drawn_up.changed else None
    preferred = drawn_up.adoption.preferred
    declare_and_prefer(drawn_up.project, text, preferred, drawn_up.made_with if preferred else None)
