"""CycloneDX JSON 1.6 (ECMA-424): an inventory in a file, written by any tool.

Read are the Python libraries among the components, known by their package URLs (`pkg:pypi/NAME@VERSION`), and
what they depend on. What the standard has no place for stands in properties:

    metadata     rabbet:label, rabbet:platform, rabbet:implementation, rabbet:lock
                 rabbet:group, rabbet:extra, rabbet:unrecorded, rabbet:left-out, rabbet:tag
    a library    rabbet:need, rabbet:installer, rabbet:requested, rabbet:build
                 rabbet:altered, rabbet:missing

Whatever a file says is a stranger's word: names and versions are parsed, and all amounts are bounded.
"""

import uuid
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from urllib.parse import quote, unquote

import msgspec
from packaging.requirements import InvalidRequirement
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import InvalidVersion, Version

from rabbet.core.census.machine_inventory import MachineInventory
from rabbet.core.census.tags import MOST_TAGS, tag_in
from rabbet.core.limits import LONGEST_LINE, MOST_ROWS, UNREADABLE
from rabbet.core.model.cause import Installation
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import LockedLibrary, Selection
from rabbet.core.model.release import Metadata
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.needs.need import Need
from rabbet.errors import NotUnderstood
from rabbet.formats.text.requirement import read_requirement

__all__ = [
    "document_text",
    "libraries_of",
    "looks_like_inventory",
    "purl_of",
    "read_inventory_file",
    "write_inventory_file",
]

_VERSION = "1.6"
_PURL = "pkg:pypi/"
_DEEPEST = 20  # components inside components
# Machines have up to some thousand libraries, each of which needs twenty at most.
_MOST_LIBRARIES = 20_000
_MOST_NEEDS = 1000  # of one library
_MOST_NEEDS_OF_ALL = 100_000
_RUNTIME = "platform"  # the standard's type for what programs run on


class _Property(msgspec.Struct):
    name: str = ""
    value: str = ""


class _Hash(msgspec.Struct):
    alg: str = ""
    content: str = ""


class _Component(msgspec.Struct):
    type: str = ""
    name: str = ""
    version: str = ""
    purl: str = ""
    ref: str = msgspec.field(default="", name="bom-ref")
    components: "list[_Component]" = []
    properties: list[_Property] = []
    hashes: list[_Hash] = []


class _Dependency(msgspec.Struct):
    ref: str
    depends_on: list[str] = msgspec.field(default_factory=list, name="dependsOn")


class _Subject(msgspec.Struct):
    name: str = ""


class _Metadata(msgspec.Struct):
    timestamp: str = ""
    component: _Subject = msgspec.field(default_factory=_Subject)
    properties: list[_Property] = []


class _Bill(msgspec.Struct):
    format: str = msgspec.field(name="bomFormat")
    metadata: _Metadata = msgspec.field(default_factory=_Metadata)
    components: list[_Component] = []
    dependencies: list[_Dependency] = []


_DECODER = msgspec.json.Decoder(_Bill)


def looks_like_inventory(text: str) -> bool:
    """Whether a text is JSON, as an inventory is, and no lock."""
    return text.lstrip("\ufeff \t\r\n").startswith("{")


def read_inventory_file(text: str, file: str) -> MachineInventory:
    """An inventory; without a label of its own it has the file's name. Raises `NotUnderstood`."""
    try:
        bill = _DECODER.decode(text.lstrip("\ufeff"))
    except (msgspec.MsgspecError, *UNREADABLE) as error:
        raise NotUnderstood(f"{file} is not an inventory in CycloneDX JSON", because=[str(error)]) from error
    if bill.format != "CycloneDX":
        raise NotUnderstood(
            f"{file} is not an inventory in CycloneDX JSON",
            because=[f"its bomFormat is '{bill.format[:60]}'"],
        )
    components = list(_flat(bill.components, file))
    of_python = [component for component in components if component.purl.lower().startswith(_PURL)]
    _check_amounts(of_python, bill.dependencies, file)
    found = [(component, *_named(component, file)) for component in of_python]
    names = {entry.ref: name for entry, name, _ in found if entry.ref}
    needs = {
        dependency.ref: {names[ref] for ref in dependency.depends_on if ref in names}
        for dependency in bill.dependencies
    }
    libraries: dict[NormalizedName, Installed] = {}
    twice = []
    for entry, name, version in found:
        installed = _installed(entry, name, version, needs.get(entry.ref, set()) - {name}, file)
        if libraries.setdefault(name, installed) is not installed:
            twice.append((name, version))
    told = _Told(bill.metadata.properties)
    runtimes = {
        component.name.lower(): component.version
        for component in components
        if component.type == _RUNTIME and component.name
    }
    python = _version(runtimes.pop("python", ""))
    inventory = Inventory(
        python=python or Version("3"),
        implementation=told.one("implementation") or "cpython",
        libraries=libraries,
        strays=tuple(told.all("unrecorded")),
        lock_stamp=told.one("lock"),
        selection=_selection(told),
    )
    return MachineInventory(
        label=told.one("label") or file.rpartition("/")[2].removesuffix(".json"),
        recorded=_time(bill.metadata.timestamp),
        project=bill.metadata.component.name,
        platform=told.one("platform"),
        python=python,
        inventory=inventory,
        runtimes=runtimes,
        twice=tuple(twice),
        left_out=_count(told.one("left-out")),
        tags=dict(_tags(told.all("tag")[:MOST_TAGS])),
    )


def _tags(texts: Iterable[str]) -> Iterator[tuple[str, str]]:
    """Those that are tags."""
    for text in texts:
        with suppress(ValueError):
            yield tag_in(text)


def _count(text: str) -> int:
    """A number of libraries; 0 for what is none."""
    return int(text) if text.isdecimal() and text.isascii() and len(text) <= len(str(_MOST_LIBRARIES)) else 0


class _Told:
    """Properties of Rabbet's own, by their names without the prefix."""

    def __init__(self, properties: Iterable[_Property]) -> None:
        self._known: dict[str, list[str]] = {}
        for property_ in properties:
            prefix, _, name = property_.name.partition(":")
            if prefix == "rabbet":
                self._known.setdefault(name, []).append(property_.value[:LONGEST_LINE])

    def one(self, name: str) -> str:
        """The first value; empty where there is none."""
        return next(iter(self._known.get(name, ())), "")

    def all(self, name: str) -> Sequence[str]:
        """All values."""
        return self._known.get(name, ())

    def __contains__(self, name: str) -> bool:
        """Whether there is any value."""
        return name in self._known


def _selection(told: _Told) -> Selection | None:
    if "group" not in told and "extra" not in told:
        return None
    groups, extras = told.all("group"), told.all("extra")
    return Selection(frozenset(filter(None, groups)), frozenset(filter(None, extras)))


def _flat(components: list[_Component], file: str, depth: int = 0) -> Iterator[_Component]:
    """All components, those inside others too. Raises `NotUnderstood` beyond a bound."""
    if depth > _DEEPEST or len(components) > MOST_ROWS:
        raise NotUnderstood(f"{file} is not an inventory", because=["it holds more than any machine has"])
    for component in components:
        yield component
        yield from _flat(component.components, file, depth + 1)


def _check_amounts(of_python: Sequence[_Component], dependencies: Iterable[_Dependency], file: str) -> None:
    """Raises `NotUnderstood` where there are more libraries, or needs of them, than a machine has."""
    needs = sum(len(component.properties) for component in of_python) + sum(
        len(dependency.depends_on) for dependency in dependencies
    )
    if len(of_python) > _MOST_LIBRARIES or needs > _MOST_NEEDS_OF_ALL:
        raise NotUnderstood(
            f"{file} is not an inventory",
            because=[
                f"it lists {len(of_python)} libraries (at most {_MOST_LIBRARIES} are read)",
                f"with {needs} needs (at most {_MOST_NEEDS_OF_ALL})",
            ],
        )


def _named(component: _Component, file: str) -> tuple[NormalizedName, Version]:
    """Name and version by the package URL, whose parts may be percent-encoded. Raises `NotUnderstood`."""
    plain = component.purl[len(_PURL) :].partition("#")[0].partition("?")[0]
    name, _, version = (unquote(part) for part in plain.partition("@"))
    if not is_name(name):
        raise NotUnderstood(
            f"{file} can't be used", because=[f"{component.purl[:200]} names no library of Python"]
        )
    found = _version(version or component.version)
    if found is None:
        raise NotUnderstood(f"{file} can't be used", because=[f"{component.purl[:200]} has no version"])
    return library_name(name), found


def _version(text: str) -> Version | None:
    try:
        return Version(text) if len(text) < LONGEST_LINE else None
    except InvalidVersion:
        return None


def _installed(
    component: _Component, name: NormalizedName, version: Version, depends_on: set[NormalizedName], file: str
) -> Installed:
    """A library; where nobody tells what it needs in which versions, it needs what it depends on."""
    told = _Told(component.properties)
    needs = (
        [*_needs(told.all("need"), file)] if "need" in told else [Need(need) for need in sorted(depends_on)]
    )
    sha256 = next((digest.content for digest in component.hashes if digest.alg == "SHA-256"), None)
    gone = told.all("missing")
    by_hand = "installer" in told or "requested" in told
    return Installed(
        name=name,
        version=version,
        folder="",
        metadata=Metadata(
            name=name,
            version=version,
            requires_python=SpecifierSet(),
            needs=tuple(needs),
            extras=frozenset(),
        ),
        wheel_sha256=sha256,
        build=told.one("build"),
        altered=(*told.all("altered"), *gone),
        gone=tuple(gone),
        installation=Installation(installer=told.one("installer"), requested="requested" in told)
        if by_hand
        else None,
    )


def _needs(texts: Sequence[str], file: str) -> Iterator[Need]:
    for text in texts[:_MOST_NEEDS]:
        try:
            yield read_requirement(text)
        except (InvalidRequirement, ValueError) as error:
            raise NotUnderstood(f"{file} can't be used", because=[str(error).splitlines()[0]]) from error


def _time(text: str) -> int:
    """Seconds since the epoch; 0 for what is no time."""
    try:
        return int(datetime.fromisoformat(text).timestamp())
    except (ValueError, OverflowError, OSError):
        return 0


def libraries_of(machine: MachineInventory) -> tuple[LockedLibrary, ...]:
    """The libraries of an inventory as a lock would hold them, sorted by name and version."""
    found = [
        LockedLibrary(name=name, version=library.version, dependencies=_dependencies(library))
        for name, library in machine.inventory.libraries.items()
    ]
    found += [LockedLibrary(name=name, version=version) for name, version in machine.twice]
    return tuple(sorted(found, key=lambda library: (library.name, library.version)))


def _dependencies(library: Installed) -> tuple[NormalizedName, ...]:
    needs = library.metadata.needs if library.metadata else ()
    return tuple(sorted({need.name for need in needs} - {library.name}))


def write_inventory_file(
    machine: MachineInventory, program: str, files: Mapping[NormalizedName, Mapping[str, str]] | None = None
) -> str:
    """An inventory as JSON, the same text for the same content; `program` is Rabbet's version.

    `files` are the sha256 digests of each library's files, if these are wanted.
    """
    inventory = machine.inventory
    libraries = sorted(inventory.libraries.items())
    components = [_component(name, library, (files or {}).get(name, {})) for name, library in libraries]
    runtimes = {**({"python": str(machine.python)} if machine.python else {}), **machine.runtimes}
    components += [
        {"type": _RUNTIME, "bom-ref": f"runtime {name}", "name": name, "version": version}
        for name, version in sorted(runtimes.items())
    ]
    document = {
        "bomFormat": "CycloneDX",
        "specVersion": _VERSION,
        "version": 1,
        "metadata": {
            "timestamp": datetime.fromtimestamp(machine.recorded, UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
            "tools": {"components": [{"type": "application", "name": "rabbet", "version": program}]},
            "component": {"type": "application", "bom-ref": "project", "name": machine.project},
            "properties": _properties(_about(machine)),
        },
        "components": components,
        "dependencies": [
            {
                "ref": purl_of(name, library.version),
                "dependsOn": [
                    purl_of(need, inventory.libraries[need].version)
                    for need in _dependencies(library)
                    if need in inventory.libraries
                ],
            }
            for name, library in libraries
        ],
    }
    return document_text(document)


def document_text(document: Mapping[str, object]) -> str:
    """A document with a serial number that follows from its content."""
    content = msgspec.json.encode(document)
    numbered = {**document, "serialNumber": f"urn:uuid:{uuid.uuid5(uuid.NAMESPACE_URL, content.decode())}"}
    return msgspec.json.format(msgspec.json.encode(numbered), indent=1).decode() + "\n"


def _about(machine: MachineInventory) -> Iterator[tuple[str, str]]:
    """Properties of the whole machine that the standard has no field for."""
    inventory = machine.inventory
    yield "label", machine.label
    yield "platform", machine.platform
    yield "implementation", inventory.implementation
    yield "lock", inventory.lock_stamp
    if inventory.selection is not None:  # an empty one is a choice, too
        yield from (("group", name) for name in sorted(inventory.selection.groups) or [""])
        yield from (("extra", name) for name in sorted(inventory.selection.extras) or [""])
    yield from (("unrecorded", place) for place in inventory.strays[:_MOST_NEEDS])
    if machine.left_out:
        yield "left-out", str(machine.left_out)
    for name, value in sorted(machine.tags.items()):
        yield "tag", f"{name}={value}"


def _component(name: NormalizedName, library: Installed, files: Mapping[str, str]) -> dict[str, object]:
    told = [("need", str(need)) for need in (library.metadata.needs if library.metadata else ())]
    told += [("build", library.build)] if library.build else []
    told += [("altered", file) for file in library.altered if file not in library.gone]
    told += [("missing", file) for file in library.gone]
    if library.installation is not None:
        told.append(("installer", library.installation.installer))
        told += [("requested", "true")] if library.installation.requested else []
    purl = purl_of(name, library.version)
    found: dict[str, object] = {
        "type": "library",
        "bom-ref": purl,
        "name": name,
        "version": str(library.version),
        "purl": purl,
    }
    if library.wheel_sha256:
        found["hashes"] = [{"alg": "SHA-256", "content": library.wheel_sha256}]
    if told:
        found["properties"] = _properties(told)
    if files:
        found["components"] = [
            {"type": "file", "name": path, "hashes": [{"alg": "SHA-256", "content": sha256}]}
            for path, sha256 in sorted(files.items())
        ]
    return found


def _properties(told: Iterable[tuple[str, str]]) -> list[dict[str, str]]:
    return [{"name": f"rabbet:{name}", "value": value} for name, value in told]


def purl_of(name: NormalizedName, version: Version) -> str:
    """A package URL (ECMA-427)."""
    return f"{_PURL}{name}@{quote(str(version), safe='.')}"
