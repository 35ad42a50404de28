"""The lock's text (PEP 751): reading it, and writing it so that a reviewer can read a diff of it.

Written by hand in place of a TOML library's writer: one line a file and one line a dependency keep diffs
small, and it is several times faster. Everything is sorted; nothing in it tells when or where it was made.
"""

import hashlib
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import TypeVar

from packaging.markers import Marker
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.archives.places import ARCHIVE_ENDINGS, is_inside
from rabbet.core.limits import LONGEST_TEXT, beyond, is_size
from rabbet.core.model.language import is_language
from rabbet.core.model.lock import (
    Artifact,
    Lock,
    LockedArchive,
    LockedBuild,
    LockedCheckout,
    LockedCommit,
    LockedFile,
    LockedLibrary,
    LockedRuntime,
    LockedSdist,
    LockedWheel,
)
from rabbet.core.model.runtime import RuntimeArchive
from rabbet.core.moment import moment_in
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.needs.wording import specifiers_text
from rabbet.errors import NotUnderstood
from rabbet.formats.project.told import read_told, told_line
from rabbet.formats.text.address import NotAnAddress, parse_address
from rabbet.formats.text.requirement import check_marker, is_digest, is_sha256, parse_specifiers
from rabbet.formats.text.toml import Table, parse_content, parse_toml
from rabbet.python.choosing.file_name import BadFileName, parse_wheel_name
from rabbet.python.formats.build_system import read_build_options

__all__ = ["NewerLock", "edited_by_hand", "read_lock", "write_lock"]

File = TypeVar("File", LockedWheel, LockedSdist, LockedArchive)
_SUPPORTED_MAJOR = "1"
_COMMIT = re.compile(r"([0-9a-f]{40}|[0-9a-f]{64})\Z")
_HEADER = """\
# The lock of this project, in the standard form of PEP 751.
# Change pyproject.toml and run `rabbet resolve`; don't edit this file by hand."""


class NewerLock(NotUnderstood):
    """A lock in a form that only a newer Rabbet can read."""


def read_lock(
    text: str,
    where: str = "pylock.toml",
    *,
    remedies: bool = True,
    parse: Callable[[str], dict[str, object]] = parse_content,
) -> Lock:
    """Read a lock; `parse` takes its text apart, and raises `ValueError` for one that is not TOML.

    What is wrong with the lock of this project, resolving mends; for others there are no `remedies`.
    Raises `NotUnderstood` with everything that is wrong with it, among it a version that is too new.
    """
    mend = "rabbet resolve" if remedies else ""
    document = parse_toml(
        text,
        where,
        note="resolving keeps the versions of both sides where it can" if remedies else "",
        remedy=mend,
        broken=mend,
        parse=parse,
    )
    version = document.required("lock-version")
    if version and version.partition(".")[0] != _SUPPORTED_MAJOR:
        raise NewerLock(
            f"{where} has the lock version {version}",
            because=[f"this Rabbet reads lock versions {_SUPPORTED_MAJOR}.x"],
            note="a newer Rabbet reads it; this one can only make another lock in its place",
            remedy="rabbet resolve --raise-all" if remedies else "",
        )
    settings = document.table("tool").table("rabbet")
    lock = Lock(
        requires_python=_constraint(document, "requires-python"),
        environments=tuple(
            text for text in document.texts("environments") if _is_marker(text, document, "environments")
        ),
        groups=tuple(document.texts("dependency-groups")),
        extras=tuple(document.texts("extras")),
        libraries=tuple(_library(entry) for entry in document.tables("packages")),
        fingerprint=settings.text("fingerprint"),
        runtimes=tuple(_runtime(entry) for entry in settings.tables("runtimes")),
        pins=tuple(settings.texts("pins")),
        also_known=tuple(settings.texts("also-known")),
        limits=tuple(settings.texts("limits")),
        without=tuple(settings.texts("without")),
        corrections=tuple(settings.texts("corrections")),
        left_out=tuple(settings.texts("left-out")),
        rules=tuple(settings.texts("rules")),
        builds=tuple(_build(entry) for entry in settings.tables("builds")),
        told=read_told(settings),
        seal=settings.text("seal"),
    )
    document.problems.raise_if_any(remedy=mend)
    return lock


def _library(entry: Table) -> LockedLibrary:
    artifacts = tuple(_artifacts(entry))
    if not artifacts:
        entry.problems.add(entry.place("wheels"), "is missing, and so is every other kind of source")
    kept = entry.table("tool").table("rabbet")  # of a checkout the standard keeps no version
    checkout = any(isinstance(artifact, LockedCheckout) for artifact in artifacts)
    library = LockedLibrary(
        name=_name(entry),
        version=_version(kept if checkout else entry),
        artifacts=artifacts,
        dependencies=tuple(dict.fromkeys(_name(table) for table in entry.tables("dependencies"))),
        requires_python=_constraint(entry, "requires-python"),
        marker=_marker(entry, "marker"),
        index=_address(entry, "index"),
        yanked=kept.text("yanked"),
        seal=kept.text("seal"),
    )
    for number, wheel in enumerate(library.wheels):
        _check_wheel(entry, number, wheel, library)
    return library


def _name(entry: Table) -> NormalizedName:
    text = entry.required("name")
    if text and not is_name(text):
        entry.problems.add(entry.place("name"), f"'{text[:60]}' is not a name")
    return library_name(text)


def _constraint(entry: Table, key: str) -> str | None:
    """A constraint on Python."""
    text = entry.text(key)
    try:
        parse_specifiers(text or "")
    except NotUnderstood as error:
        entry.problems.add(entry.place(key), "; ".join([str(error), *error.because]))
        return None
    return text


def _marker(entry: Table, key: str) -> str | None:
    text = entry.text(key)
    return text if text is None or _is_marker(text, entry, key) else None


def _is_marker(text: str, entry: Table, key: str) -> bool:
    """Whether a marker can be evaluated, as a lock's are (PEP 751); what is wrong with it is noted."""
    try:
        wrong = beyond(text)
        if not wrong:
            check_marker(Marker(text), in_lock=True)
    except ValueError as error:
        wrong = str(error).splitlines()[0]
    if wrong:
        entry.problems.add(entry.place(key), f"'{text[:60]}' is not a marker: {wrong}")
    return not wrong


def _address(entry: Table, key: str) -> str | None:
    """An address, which in a lock holds no credentials."""
    text = entry.text(key)
    try:
        return None if text is None else parse_address(text).text
    except NotAnAddress as error:
        entry.problems.add(entry.place(key), f"is not an address: {error}")
        return None


def _check_wheel(entry: Table, number: int, wheel: LockedFile, library: LockedLibrary) -> None:
    """Hold a wheel's name against the entry that it stands under."""
    place = f"{entry.place('wheels')}[{number}]"
    try:
        parsed = parse_wheel_name(wheel.filename)
    except BadFileName as error:
        entry.problems.add(place, str(error))
        return
    if parsed.name != library.name or ("version" in entry and parsed.version != library.version):
        entry.problems.add(place, f"'{wheel.filename}' is a wheel of {parsed.name} {parsed.version}")


def _artifacts(entry: Table) -> Iterator[Artifact]:
    """An entry's artifacts: one file from an address, listed files, or a source tree."""
    if "archive" in entry:
        yield _file(entry.table("archive"), LockedArchive)
        return
    yield from (_file(file, LockedWheel) for file in entry.tables("wheels"))
    if "sdist" in entry:
        yield _file(entry.table("sdist"), LockedSdist)
    if "vcs" in entry:
        yield _commit(entry.table("vcs"))
    elif "directory" in entry:
        place = entry.table("directory")
        path = _line(place, "path") or place.required("path")
        yield LockedCheckout(path=path, editable=place.get("editable", bool, False))


def _commit(entry: Table) -> LockedCommit:
    if entry.required("type") not in ("git", ""):
        entry.problems.add(entry.place("type"), "must be git: Rabbet knows no other")
    commit = entry.required("commit-id")
    if not _COMMIT.match(commit):
        entry.problems.add(entry.place("commit-id"), "must be 40 or 64 hexadecimal digits")
    return LockedCommit(
        url=_address(entry, "url") or entry.required("url"),
        commit=commit,
        requested=_line(entry, "requested-revision"),
        subdirectory=_line(entry, "subdirectory"),
    )


def _line(entry: Table, key: str) -> str | None:
    """A text that has to be a single line of a reasonable length."""
    text = entry.text(key)
    if text is not None and (not text.isprintable() or len(text) > LONGEST_TEXT):
        entry.problems.add(entry.place(key), "must be a line of text")
    return text


def _file(entry: Table, kind: type[File]) -> File:
    url, path = _address(entry, "url"), entry.text("path")
    if url is None and path is None and "url" not in entry:
        entry.problems.add(entry.place("url"), "is missing, and so is path")
    if path is not None and (not path.isprintable() or len(path) > LONGEST_TEXT):
        entry.problems.add(entry.place("path"), "can't be a path")
    sha256 = entry.table("hashes").required("sha256").lower()
    if not is_sha256(sha256):
        entry.problems.add(entry.place("hashes.sha256"), "must be 64 hexadecimal digits")
    named = parse_address(url).filename if url is not None else (path or "").rpartition("/")[2]
    filename = entry.text("name") or named
    if "/" in filename or "\\" in filename or not filename.endswith((".whl", ".tar.gz", ".zip")):
        entry.problems.add(entry.place("name"), f"'{filename}' is the name of no wheel or source archive")
    size = entry.get("size", int, 0) if "size" in entry else None
    if size is not None and not is_size(size):
        entry.problems.add(entry.place("size"), "must be a number of bytes")
    uploaded = entry.moment("upload-time")
    return kind(filename=filename, sha256=sha256, size=size, url=url, path=path, uploaded=uploaded)


def _build(entry: Table) -> LockedBuild:
    own = entry.get("own", bool, False)
    return LockedBuild(
        name=_name(entry),
        version=None if own else _version(entry),
        requires=tuple(entry.texts("requires")),
        libraries=tuple(_library(library) for library in entry.tables("packages")),
        own=own,
        editable=entry.get("editable", bool, True),
        options=read_build_options(entry),
    )


def _runtime(entry: Table) -> LockedRuntime:
    language = entry.required("language")
    if not is_language(language):
        entry.problems.add(entry.place("language"), f"'{language[:60]}' is not a language's name")
    needs = entry.table("needs")
    for needed in needs:
        if not is_language(needed):
            entry.problems.add(needs.place(needed), "is not a language's name")
    return LockedRuntime(
        language=language,
        version=_version(entry),
        distributor=entry.text("distributor") or "",
        catalogue=entry.text("catalogue") or "",
        archives=tuple(_runtime_archive(archive) for archive in entry.tables("archives")),
        needs={needed: SpecifierSet(_constraint(needs, needed) or "") for needed in needs},
    )


def _runtime_archive(entry: Table) -> RuntimeArchive:
    hashes = entry.table("hashes")
    algorithm = "sha512" if "sha512" in hashes else "sha256"
    digest, program = hashes.required(algorithm), entry.required("program")
    if not is_digest(algorithm, digest):
        entry.problems.add(entry.place("hashes"), f"must hold the hexadecimal digits of a {algorithm}")
    if not is_inside(program):
        entry.problems.add(entry.place("program"), "must be a place inside the archive")
    url = entry.required("url")
    size = entry.get("size", int, 0) if "size" in entry else None
    if size is not None and not is_size(size):
        entry.problems.add(entry.place("size"), "must be a number of bytes")
    try:
        filename = parse_address(url).filename
    except NotAnAddress:
        filename = ""
    if not filename.endswith(ARCHIVE_ENDINGS) or "/" in filename:
        entry.problems.add(
            entry.place("url"), f"must name a file that ends with {', '.join(ARCHIVE_ENDINGS)}"
        )
    return RuntimeArchive(
        platform=entry.required("platform"),
        filename=filename,
        url=url,
        algorithm=algorithm,
        digest=digest,
        program=program,
        size=size,
        baseline=entry.text("baseline") or "",
    )


def _version(entry: Table) -> Version:
    text = entry.required("version")
    try:
        return Version(text if len(text) <= LONGEST_TEXT else "")
    except ValueError:  # no version, or a number that Python refuses to read
        if text:
            entry.problems.add(entry.place("version"), f"'{text[:60]}' is not a version")
        return Version("0")


def write_lock(lock: Lock) -> str:
    """Write a lock: the same lock gives the same text, byte for byte."""
    return "".join(f"{line}\n" for line in _lines(lock))


def _lines(lock: Lock) -> Iterator[str]:
    yield _HEADER
    yield 'lock-version = "1.0"'
    if lock.environments:
        yield from _list("environments", (_text(environment) for environment in lock.environments))
    if lock.requires_python:
        yield f"requires-python = {_text(lock.requires_python)}"
    yield f"extras = [{', '.join(_text(extra) for extra in lock.extras)}]"
    yield f"dependency-groups = [{', '.join(_text(group) for group in lock.groups)}]"
    yield 'created-by = "rabbet"'
    if not lock.libraries:
        yield "packages = []"
    versions = _versions(lock.libraries)
    for library in lock.libraries:
        yield ""
        yield "[[packages]]"
        yield from _library_lines(library, versions)
    yield ""
    yield "[tool.rabbet]"
    yield f'seal = "{_lock_seal(lock)}"'
    if lock.fingerprint is not None:
        yield f"fingerprint = {_text(lock.fingerprint)}"
    if lock.runtimes:
        yield "runtimes = ["
        for runtime in lock.runtimes:
            yield from _runtime_lines(runtime)
        yield "]"
    noted = {
        "pins": lock.pins,
        "also-known": lock.also_known,
        "limits": lock.limits,
        "without": lock.without,
        "corrections": lock.corrections,
        "left-out": lock.left_out,
        "rules": lock.rules,
    }
    for key, names in noted.items():
        if names:
            yield f"{key} = [{', '.join(_text(name) for name in names)}]"
    if lock.told is not None:
        yield told_line(lock.told)
    for build in lock.builds:
        yield from _build_lines(build)


def _versions(libraries: Iterable[LockedLibrary]) -> Mapping[NormalizedName, Sequence[Version]]:
    """The versions of each library among them."""
    versions: dict[NormalizedName, list[Version]] = {}
    for library in libraries:
        versions.setdefault(library.name, []).append(library.version)
    return versions


def _build_lines(build: LockedBuild) -> Iterator[str]:
    """A build, and each library of its environment as those of the project are written."""
    yield ""
    yield "[[tool.rabbet.builds]]"
    yield f"name = {_text(build.name)}"
    yield "own = true" if build.own else f"version = {_text(str(build.version))}"
    if not build.editable:
        yield "editable = false"
    yield f"requires = [{', '.join(_text(need) for need in build.requires)}]"
    for key, given in (("variables", build.options.variables), ("settings", build.options.settings)):
        if given:
            pairs = (f"{_text(name)} = {_text(value)}" for name, value in sorted(given.items()))
            yield f"{key} = {{ {', '.join(pairs)} }}"
    versions = _versions(build.libraries)
    for library in build.libraries:
        yield ""
        yield "[[tool.rabbet.builds.packages]]"
        yield from _library_lines(library, versions)


def _library_lines(
    library: LockedLibrary, versions: Mapping[NormalizedName, Sequence[Version]]
) -> Iterator[str]:
    yield from _entry_lines(library, versions)
    told = {
        "version": str(library.version) if isinstance(library.tree, LockedCheckout) else None,
        "yanked": library.yanked,
        "seal": _entry_seal(library),
    }
    yield f"tool = {_inline({'rabbet': told})}"


def _entry_lines(
    library: LockedLibrary, versions: Mapping[NormalizedName, Sequence[Version]]
) -> Iterator[str]:
    yield f"name = {_text(library.name)}"
    if not isinstance(library.tree, LockedCheckout):
        yield f"version = {_text(str(library.version))}"
    if library.marker:
        yield f"marker = {_text(library.marker)}"
    if library.requires_python:
        yield f"requires-python = {_text(library.requires_python)}"
    if library.dependencies:
        edges = (edge for name in library.dependencies for edge in _edges(name, versions.get(name, ())))
        yield from _list("dependencies", (_inline(edge) for edge in edges))
    if library.index:
        yield f"index = {_text(library.index)}"
    wheels = [
        _inline(_file_fields(artifact)) for artifact in library.artifacts if isinstance(artifact, LockedWheel)
    ]
    others = [artifact for artifact in library.artifacts if not isinstance(artifact, LockedWheel)]
    for artifact in others:
        yield _artifact_line(artifact)
    if wheels:
        yield from _list("wheels", wheels)


def _artifact_line(artifact: LockedSdist | LockedArchive | LockedCommit | LockedCheckout) -> str:
    match artifact:
        case LockedArchive():
            return f"archive = {_inline({**_file_fields(artifact), 'name': None})}"
        case LockedSdist():
            return f"sdist = {_inline(_file_fields(artifact))}"
        case LockedCommit():
            return f"vcs = {_inline(_commit_fields(artifact))}"
        case LockedCheckout():
            return f"directory = {_inline({'path': artifact.path, 'editable': artifact.editable})}"


def edited_by_hand(lock: Lock) -> tuple[str, ...]:
    """The entries that were edited since resolving; `the lock itself` stands for everything else.

    A digest of each entry lies beside it, and one of all the rest, so that two branches which git can merge
    stay whole. That keeps out mistakes, and no attacker: who edits an entry can write its digest too. Locks
    of other tools have none.
    """
    if lock.seal is None:
        return ()
    found = [
        f"{library.name} {library.version}"
        for library in lock.libraries
        if library.seal != _entry_seal(library)
    ]
    return (*found, *(["the lock itself"] if lock.seal != _lock_seal(lock) else []))


def _entry_seal(library: LockedLibrary) -> str:
    lines = [*_entry_lines(library, {}), str(library.version), str(library.yanked)]
    return hashlib.blake2b("\n".join(lines).encode(), digest_size=8).hexdigest()


def _lock_seal(lock: Lock) -> str:
    """A digest of what stands around the entries, and of which there are."""
    around = [lock.environments, lock.requires_python, lock.extras, lock.groups]
    entries = [f"{library.name} {library.version}" for library in lock.libraries]
    heeded = [lock.pins, lock.also_known, lock.limits, lock.without, lock.corrections]
    builds = [line for build in lock.builds for line in _build_lines(build)]
    text = repr([*around, lock.fingerprint, lock.runtimes, entries, *heeded, *builds])
    text += repr(lock.left_out) if lock.left_out else ""
    text += repr(lock.rules) if lock.rules else ""
    text += told_line(lock.told) if lock.told else ""
    text = text.replace(", needs={}", "")  # as locks were sealed before runtimes had needs
    return hashlib.blake2b(text.encode(), digest_size=8).hexdigest()


def _edges(name: NormalizedName, versions: Sequence[Version]) -> list[dict[str, str]]:
    """A dependency; where the lock holds several versions of it, all of them."""
    if len(versions) < 2:
        return [{"name": name}]
    return [{"name": name, "version": str(version)} for version in versions]


def _file_fields(file: LockedFile) -> dict[str, object]:
    fields: dict[str, object] = {"name": file.filename}
    fields["upload-time"] = moment_in(file.uploaded) if file.uploaded else None
    fields |= {"url": file.url, "path": file.path, "size": file.size}
    return {**fields, "hashes": {"sha256": file.sha256}}


def _runtime_lines(runtime: LockedRuntime) -> Iterator[str]:
    """A runtime in one line, with a line for each archive if it has any."""
    fields = {
        "language": runtime.language,
        "version": str(runtime.version),
        "distributor": runtime.distributor or None,
        "catalogue": runtime.catalogue or None,
        "needs": {name: specifiers_text(needed) for name, needed in sorted(runtime.needs.items())} or None,
    }
    archives = [
        _inline(
            {
                "platform": archive.platform,
                "url": archive.url,
                "size": archive.size,
                "program": archive.program,
                "baseline": archive.baseline or None,
                "hashes": {archive.algorithm: archive.digest},
            }
        )
        for archive in runtime.archives
    ]
    if not archives:
        yield f"    {_inline(fields)},"
        return
    yield f"    {_inline(fields).removesuffix(' }')}, archives = ["
    yield from (f"        {archive}," for archive in archives)
    yield "    ] },"


def _commit_fields(commit: LockedCommit) -> dict[str, object]:
    return {
        "type": "git",
        "url": commit.url,
        "requested-revision": commit.requested,
        "commit-id": commit.commit,
        "subdirectory": commit.subdirectory,
    }


def _list(key: str, items: Iterable[str]) -> Iterator[str]:
    yield f"{key} = ["
    yield from (f"    {item}," for item in items)
    yield "]"


def _inline(fields: Mapping[str, object]) -> str:
    """An inline table; fields without a value are left out."""
    written = (f"{key} = {_value(value)}" for key, value in fields.items() if value is not None)
    return "{ " + ", ".join(written) + " }"


def _value(value: object) -> str:
    if isinstance(value, Mapping):
        return _inline(value)
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, datetime):
        return f"{value.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}"
    return str(value) if isinstance(value, int) else _text(str(value))


def _text(value: str) -> str:
    """A basic string: quotes, backslashes and control characters are escaped (TOML 1.0)."""
    escaped = value.replace("\\", "\\\\").replace('"', '\\"')
    if not escaped.isprintable():
        escaped = "".join(c if c.isprintable() else f"\\U{ord(c):08X}" for c in escaped)
    return f'"{escaped}"'
