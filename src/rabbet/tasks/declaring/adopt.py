"""Draw up a declaration from what a project has already."""

import sys
from collections.abc import Collection, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.declaration.edit import Edit
from rabbet.core.declaration.model import Declaration, SourceEntry
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text, specifiers_text
from rabbet.core.progress import Observer
from rabbet.disk.text_file import read_text
from rabbet.errors import NoRuntime, SourceFailed, WrongUsage
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.project.pyproject_edit import apply, complete
from rabbet.python.code.adoption import AdoptCause, Adopted, Adoption, AdoptReason, Evidence, Left, adopt
from rabbet.tasks.declaring.begin import default_name, existing, offered_runtimes
from rabbet.workspace.evidence.evidence import Gathered, gather
from rabbet.workspace.known_sources import users_source
from rabbet.workspace.machine import Machine
from rabbet.workspace.preferred import declare_and_prefer
from rabbet.workspace.project import Project
from rabbet.workspace.runtimes.pythons import own_target, standard_modules_of
from rabbet.workspace.session import Session

__all__ = ["Adopting", "adopting", "save"]


class Adopting(Struct, frozen=True, kw_only=True):
    """The proposed declaration, and the evidence it follows from.

    `before` is the declaration that is there already, `None` where there is none. `python` is what is
    declared of that now and why, empty if it was before; the environment was `made_with` a version of it.
    `unordered` pins are those of lists, where nothing
    tells what needs what; `hashed` is how many entries had hashes. `sourced` tells whether a source of
    libraries is known, `in_the_way` whether an environment that Rabbet did not make lies where its own goes.
    `sources` are those of another project, which this one gets.
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
    sources: tuple[SourceEntry, ...]


def adopting(
    machine: Machine, observer: Observer, places: Sequence[str], project: Project | None = None
) -> Adopting:
    """Look at these places, or at all that the project has; nothing is written.

    It is the one in the current folder unless another one is given; a script has what it imports.

    Raises `WrongUsage` where there is nothing to adopt, `NotUnderstood`, `EnvironmentFailed`.
    """
    project = project or Project(machine.folder)
    folder, script = project.folder, project.script
    observer.stage("looking at what is there")
    looked_at = places or ([str(script.file)] if script else [])
    gathered = gather(looked_at, folder, machine.home, own_target(machine))
    before = project.declaration() if script else existing(folder)
    name = before.name if before else default_name(folder)
    adoption = adopt(_evidence(gathered, before, name, _standard_modules(gathered, before, machine)))
    if script is not None:
        adoption = _called_like_modules(adoption, Session(project, machine, observer))
    if not (adoption.entries or adoption.limits or adoption.preferred or adoption.left):
        raise WrongUsage(
            "there is nothing here to adopt",
            because=[f"looked at: {', '.join(gathered.looked_at) or 'an empty folder'}"],
            note="give an environment, a list, another project or code with --from",
            remedy="rabbet begin",
        )
    file = project.declaration_file
    text = read_text(file, by_hand=True) if file.exists() else ""
    python, why = _python(gathered, machine)
    declared = before is not None and bool(before.python or before.by_build)
    by_build = before.by_build if before else frozenset[str]()
    adoption = _without_left(adoption, by_build)
    whole = text  # the metadata of a script has no place for a name
    sources = gathered.sources if script is None and not (before and before.sources) else ()
    if script is None:
        wanted = "" if by_build else python
        whole = complete(text, name=name, python=wanted, sources=sources, needs=(), by_build=by_build)
    runtime = [] if declared or script is None else [_runtime_edit(python)]
    after, _ = apply(whole, [*runtime, *_edits(adoption)])
    # What can't stand there is refused.
    read_declaration(after, folder_name=project.fallback_name, has_setup=project.has_setup)
    environment = project.environment
    return Adopting(
        project=project,
        adoption=adoption,
        looked_at=tuple(gathered.looked_at),
        unordered=not gathered.present and any(listed.need.is_pin for listed in gathered.listed),
        hashed=gathered.hashed,
        before=before,
        python=("", "") if declared else (f"python{python}", why),
        made_with=gathered.made_with,
        text=after,
        changed=after != text,
        sourced=bool(sources or (before and before.sources) or users_source(machine)),
        in_the_way=environment.exists() and not machine.environments().owns(environment),
        sources=sources,
    )


def _called_like_modules(adoption: Adoption, session: Session) -> Adoption:
    """What a script imports and nothing installed offers, as the libraries that are called like it.

    A library may be called otherwise than its modules, so each is shown with where it was found. Where no
    source answers, nothing is added.
    """
    from rabbet.core.solve.problem.provider import Policy
    from rabbet.workspace.fetching.sources import open_sources
    from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of, targets_for

    wanted = {module: left for left in adoption.left if (module := _imported(left))}
    if not wanted:
        return adoption
    declaration, found = session.declaration(), list[Adopted]()
    try:
        target = targets_for(declaration, chosen_runtime(declaration, pythons_of(session), None))[0]
        sources = open_sources(session, declaration, always=True)
        with sources.catalogue(declaration, target, Policy()) as catalogue:
            catalogue.expect(Need(library_name(module), SpecifierSet()) for module in wanted)
            for module, left in wanted.items():
                listing = catalogue.listing(library_name(module))
                if listing is not None:
                    cause = AdoptCause(AdoptReason.CALLED_SO, (*left.cause.facts, listing.source))
                    need = Need(library_name(module), SpecifierSet())
                    found.append(Adopted(need=need, section=None, cause=cause))
    except (SourceFailed, WrongUsage, NoRuntime):
        return adoption
    named = {entry.need.name for entry in found}
    left_over = (
        left for left in adoption.left if not ((module := _imported(left)) and library_name(module) in named)
    )
    return replace(adoption, entries=(*adoption.entries, *found), left=tuple(left_over))


def _imported(left: Left) -> str:
    """The module that nothing installed offers, if it may be a library's name; else empty."""
    module = left.what.removeprefix("import ")
    return module if left.cause.reason is AdoptReason.NOT_OFFERED and is_name(module) else ""


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


def _runtime_edit(python: str) -> Edit:
    return Edit(verb="declare", what="runtime", value=f"python{python}")


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
