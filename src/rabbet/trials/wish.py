"""A declaration that asks for what is to be tried too."""

import os
from collections.abc import Mapping
from pathlib import Path

from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration, SourceEntry
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text
from rabbet.core.shell import joined_words
from rabbet.disk.named import path_named
from rabbet.disk.text_file import read_text
from rabbet.errors import NotUnderstood, WrongUsage
from rabbet.formats.text.address import NotAnAddress, is_address, parse_address
from rabbet.formats.text.requirement import is_file, is_repository, parse_requirement
from rabbet.python.choosing.file_name import BadFileName, parse_file_name
from rabbet.python.formats.static_metadata import name_of_tree
from rabbet.trials.trial import Wish
from rabbet.workspace.known_sources import known_sources
from rabbet.workspace.session import Session

__all__ = ["widened"]


def widened(declaration: Declaration, session: Session, wish: Wish) -> tuple[Declaration, str]:
    """The declaration with what is to be tried, and the command that would make that last.

    The project itself need not be built for that. Raises `NotUnderstood`, `WrongUsage`.
    """
    given = [parse_requirement(text) for text in wish.requirements]
    needs = {need.name: need for need in given}
    words: list[str] = []
    for place in wish.places:
        declaration, needs, more = _from_place(declaration, needs, place, session)
        words += more
    known = {*declaration.needs}
    more_needs = tuple(need for need in needs.values() if need not in known)
    keeping = [
        "rabbet",
        "declare",
        *(need_text(need, whole=True) for need in needs.values()),
        *words,
        "--now",
    ]
    changed = replace(declaration, needs=(*declaration.needs, *more_needs), build_system=None)
    return changed, joined_words(keeping)


_Widening = tuple[Declaration, dict[NormalizedName, Need], list[str]]


def _from_place(
    declaration: Declaration,
    needs: dict[NormalizedName, Need],
    place: str,
    session: Session,
) -> _Widening:
    """Take what is to be tried from a wheel, an archive, a repository, a checkout, or a folder of files.

    Whoever names sources there agrees to their build. Raises `WrongUsage`.
    """
    if is_address(place):
        try:
            parse_address(place)
        except NotAnAddress as error:
            raise WrongUsage("nothing can be tried from such an address", because=[str(error)]) from error
        return _from_address(declaration, needs, place)
    path = path_named(place, session.machine.folder).resolve()
    if path.is_file():
        return _from_address(declaration, needs, path.as_uri())
    if not path.is_dir():
        raise WrongUsage(f"there is nothing to try in {place}", because=[f"{path} does not exist"])
    if not any((path / file).is_file() for file in ("pyproject.toml", "setup.py")):
        entry = SourceEntry(name="trial", url=str(path), only=tuple(needs))
        sources = (entry, *known_sources(declaration, session.machine))
        return replace(declaration, sources=sources), needs, ["--source", f"trial={path}"]
    name = _name_of_checkout(path) or _only_name(needs, place)
    relative = Path(os.path.relpath(path, session.project.folder)).as_posix()
    local = {**declaration.local, name: relative}
    return replace(declaration, local=local), {name: Need(name), **needs}, ["--local", name, relative]


def _from_address(declaration: Declaration, needs: dict[NormalizedName, Need], address: str) -> _Widening:
    if is_repository(address):
        name, built = _only_name(needs, address), True
    elif is_file(address):
        filename = parse_address(address).filename
        try:
            name = parse_file_name(filename).name
        except BadFileName as error:
            raise WrongUsage(f"{filename} is not a file of a library", because=[str(error)]) from error
        built = not filename.endswith(".whl")
    else:
        raise WrongUsage(
            f"nothing can be tried from {parse_address(address).text}",
            because=["it is the address of no wheel, source archive or git repository"],
        )
    extras = needs[name].extras if name in needs else frozenset()
    changed = replace(
        declaration, build_from_source=declaration.build_from_source | ({name} if built else frozenset())
    )
    words = ["--build-from-source", name] if built else []
    return changed, {**needs, name: Need(name, extras=extras, url=address)}, words


def _name_of_checkout(path: Path) -> NormalizedName | None:
    """The name that a checkout declares; `None` if only its build knows."""
    try:
        return name_of_tree(read_text(path / "pyproject.toml", by_hand=True))
    except NotUnderstood:
        return None


def _only_name(needs: Mapping[NormalizedName, Need], place: str) -> NormalizedName:
    """The one library that is to be tried. Raises `WrongUsage` where there is none, or several."""
    if len(needs) != 1:
        raise WrongUsage(
            f"{place} does not tell which library it holds",
            because=["name that one, and no others, with --try"],
        )
    return next(iter(needs))
