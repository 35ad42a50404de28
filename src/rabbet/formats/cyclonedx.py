"""CycloneDX JSON (ECMA-424): an inventory in a file, of whoever wrote it.

Read are the Python libraries among the components, known by their package URLs (`pkg:pypi/NAME@VERSION`), and
what they depend on.
"""

from collections.abc import Iterator
from urllib.parse import unquote

import msgspec
from packaging.utils import NormalizedName
from packaging.version import InvalidVersion, Version

from rabbet.core.limits import MOST_ROWS
from rabbet.core.model.lock import LockedLibrary
from rabbet.core.needs.need import library_name
from rabbet.errors import NotUnderstood
from rabbet.formats.metadata import is_name

__all__ = ["looks_like_inventory", "read_inventory_file"]

_PURL = "pkg:pypi/"
_DEEPEST = 20  # components inside components


class _Component(msgspec.Struct):
    name: str = ""
    version: str = ""
    purl: str = ""
    ref: str = msgspec.field(default="", name="bom-ref")
    components: "list[_Component]" = []


class _Dependency(msgspec.Struct):
    ref: str
    depends_on: list[str] = msgspec.field(default_factory=list, name="dependsOn")


class _Bill(msgspec.Struct):
    format: str = msgspec.field(name="bomFormat")
    components: list[_Component] = []
    dependencies: list[_Dependency] = []


_DECODER = msgspec.json.Decoder(_Bill)


def looks_like_inventory(text: str) -> bool:
    """Whether a text is JSON, as an inventory is, and no lock."""
    return text.lstrip("\ufeff \t\r\n").startswith("{")


def read_inventory_file(text: str, file: str) -> tuple[LockedLibrary, ...]:
    """The libraries, sorted by name and version. Raises `NotUnderstood`."""
    try:
        bill = _DECODER.decode(text.lstrip("\ufeff"))
    except (msgspec.MsgspecError, RecursionError, ValueError) as error:
        raise NotUnderstood(f"{file} is no inventory in CycloneDX JSON", because=[str(error)]) from error
    if bill.format != "CycloneDX":
        raise NotUnderstood(
            f"{file} is no inventory in CycloneDX JSON", because=[f"its bomFormat is '{bill.format[:60]}'"]
        )
    found = [(one, *_named(one, file)) for one in _flat(bill.components, file) if _is_python(one)]
    names = {one.ref: name for one, name, _ in found if one.ref}
    needs = {one.ref: {names[ref] for ref in one.depends_on if ref in names} for one in bill.dependencies}
    libraries = {
        (name, version): LockedLibrary(
            name=name,
            version=version,
            dependencies=tuple(sorted(needs.get(one.ref, set()) - {name})),
        )
        for one, name, version in found
    }
    return tuple(libraries[key] for key in sorted(libraries))


def _flat(components: list[_Component], file: str, depth: int = 0) -> Iterator[_Component]:
    """All components, those inside others too. Raises `NotUnderstood` beyond a bound."""
    if depth > _DEEPEST or len(components) > MOST_ROWS:
        raise NotUnderstood(f"{file} is no inventory", because=["it holds more than any machine has"])
    for one in components:
        yield one
        yield from _flat(one.components, file, depth + 1)


def _is_python(component: _Component) -> bool:
    return component.purl.lower().startswith(_PURL)


def _named(component: _Component, file: str) -> tuple[NormalizedName, Version]:
    """Name and version by the package URL, whose parts may be percent-encoded. Raises `NotUnderstood`."""
    plain = component.purl[len(_PURL) :].partition("#")[0].partition("?")[0]
    name, _, version = (unquote(part) for part in plain.partition("@"))
    if not is_name(name):
        raise NotUnderstood(
            f"{file} can't be used", because=[f"{component.purl[:200]} names no library of Python"]
        )
    try:
        return library_name(name), Version(version or component.version)
    except InvalidVersion as error:
        raise NotUnderstood(f"{file} can't be used", because=[component.purl[:200], str(error)]) from error
