"""Places that were given where a library's name belongs, and the commands that do what was meant."""

import re
from pathlib import Path

from rabbet.core.declaration.edit import Edit
from rabbet.core.shell import joined_words
from rabbet.disk.named import path_named
from rabbet.disk.text_file import read_text
from rabbet.errors import NotUnderstood, WrongUsage
from rabbet.formats.text.address import NotAnAddress, is_address, parse_address, shown
from rabbet.formats.text.requirement import is_file
from rabbet.python.choosing.file_name import BadFileName, parse_file_name
from rabbet.python.formats.static_metadata import name_of_tree
from rabbet.workspace.session import Session

__all__ = ["refuse_place"]

_NAMED = re.compile(r"[^/\\@]*@\s*[A-Za-z0-9+]+:/|[^/\\@]* @")  # a requirement on an address
_LIBRARY = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]*(\[[\w.,-]*\])?([<>=!~].*)?\Z")
_ARCHIVES = (".whl", ".tar.gz", ".zip")


def refuse_place(edit: Edit, session: Session) -> None:
    """Raise `WrongUsage`, with the right command, where a path or an address is declared as a library.

    The other way round, too: a library behind a source would count as another source.
    """
    text = edit.value.strip()
    if (edit.verb, edit.what) == ("declare", "source"):
        if _LIBRARY.match(text) and not path_named(text, session.project.folder).exists():
            raise WrongUsage(
                f"'{text}' is not an address, and there is no such folder",
                because=["what follows --source is a source, up to the next option"],
                remedy=_declare(edit, text),
            )
        return
    if (edit.verb, edit.what) != ("declare", "library") or ";" in text or _NAMED.match(text):
        return
    if is_address(text) or text.startswith("git@"):
        raise _of_address(text, edit)
    if "/" in text or "\\" in text or text.startswith("~") or text.endswith(_ARCHIVES):
        named = "other=" if session.declaration().sources else ""  # a second source needs a name
        raise _of_path(text, path_named(text, session.machine.folder), edit, named)


def _of_address(text: str, edit: Edit) -> WrongUsage:
    """The error for an address alone: a requirement names the library as well."""
    if text.startswith("git@"):
        host, _, path = text.partition(":")
        text = f"git+ssh://{host}/{path}"
    try:
        address = parse_address(text)
        file = is_file(text)
    except NotAnAddress as error:
        return WrongUsage(f"'{shown(text)}' is not an address", because=[str(error)])
    name, place = _name_in(address.filename), text
    if not file:
        name = address.filename.removesuffix(".git")
        place = text if text.startswith("git+") else f"git+{text}"
    return WrongUsage(
        f"'{shown(text)}' is an address, and not a library's name",
        because=["a requirement names the library, too"],
        remedy=_declare(edit, f"{name} @ {place}") if name else "rabbet declare --help",
    )


def _of_path(text: str, path: Path, edit: Edit, named: str) -> WrongUsage:
    """The error for a path: a wheel has an address, a folder is a checkout or a source, a list is adopted."""
    message = f"'{text}' is a path, and not a library's name"
    if not path.exists():
        return WrongUsage(message, because=[f"there is no {path}"], remedy="rabbet declare --help")
    if path.name.endswith(_ARCHIVES):
        name = _name_in(path.name)
        remedy = _declare(edit, f"{name} @ {path.absolute().as_uri()}") if name else ""
        return WrongUsage(message, because=["it is a file of a library"], remedy=remedy)
    if path.is_file():
        remedy = joined_words(["rabbet", "adopt", text])
        return WrongUsage(message, because=["it may be a list"], remedy=remedy)
    folder_name = _name_of_folder(path)
    if folder_name is not None:
        return WrongUsage(
            message,
            because=[f"it is a folder with the sources of {folder_name}"],
            remedy=f"{_declare(edit, folder_name)} {joined_words(['--local', folder_name, text])}",
        )
    return WrongUsage(
        message,
        because=["it is a folder without a pyproject.toml"],
        note="a folder of wheels is a source",
        remedy=joined_words(["rabbet", "declare", "--source", f"{named}{text}"]),
    )


def _name_of_folder(path: Path) -> str | None:
    try:
        return name_of_tree(read_text(path / "pyproject.toml", by_hand=True)) or path.resolve().name
    except NotUnderstood:
        return None


def _name_in(file: str) -> str:
    try:
        return parse_file_name(file).name
    except BadFileName:
        return ""


def _declare(edit: Edit, requirement: str) -> str:
    return joined_words(["rabbet", "declare", *_section(edit), requirement])


def _section(edit: Edit) -> list[str]:
    return [f"--{edit.section.kind}", edit.section.name] if edit.section else []
