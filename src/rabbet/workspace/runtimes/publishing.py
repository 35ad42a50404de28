"""Give a runtime to others: an archive as it is, or one packed here, and a catalogue that offers it."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from rabbet.archives.places import ARCHIVE_ENDINGS
from rabbet.archives.unpack import unpack_archive
from rabbet.core.limits import MOST_PAGE
from rabbet.core.model.runtime import Refusal, RuntimeArchive, RuntimeOffer
from rabbet.core.model.target import Target
from rabbet.core.progress import Observer
from rabbet.disk.atomic import cannot_write, copied_hashed, write_hashed
from rabbet.disk.guarded import GuardedFolder
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import read_regular, sha256_of_regular
from rabbet.errors import IntegrityFailed, NoRuntime, SourceFailed, WrongUsage
from rabbet.formats.runtime_catalogue import NotACatalogue, catalogue_text, read_catalogue, with_offer
from rabbet.formats.text.address import NotAnAddress, hidden, is_address, parse_address
from rabbet.net.local_file import local_path, read_pieces
from rabbet.runtimes.contents import Found, baselines_of, found_in, glibc_of, version_by_files
from rabbet.runtimes.publish import PortabilityProblem, obstacles, pack
from rabbet.runtimes.system_python import gather_system_python
from rabbet.workspace.machine import Machine
from rabbet.workspace.runtimes.languages import languages_for
from rabbet.workspace.runtimes.obtained_here import CATALOGUE_FILE
from rabbet.workspace.runtimes.obtaining import anybodys_client, new_enough
from rabbet.workspace.runtimes.pythons import own_target
from rabbet.workspace.runtimes.trying import first_that_runs

__all__ = ["Published", "publish"]

_SHARED = ("/", "/usr", "/usr/local", "/opt", "/opt/local", "/opt/homebrew", "/srv", "/var", "/etc")
_SHOWN = 5  # reasons why something can't be published
_TELLING = 12  # digits of a digest in an archive's name


class Published(Struct, frozen=True, kw_only=True):
    """A runtime, the catalogue that offers it now, and what may not work elsewhere.

    It was `tried` here, or is for other machines and told of by its files.
    """

    offer: RuntimeOffer
    catalogue: Path
    tried: bool
    obstacles: tuple[PortabilityProblem, ...] = ()

    @property
    def archive(self) -> RuntimeArchive:
        """The archive; it is the same for all platforms that it serves."""
        return self.offer.archives[0]


class _Archive(Struct, frozen=True, kw_only=True):
    """An archive in a scratch folder, or where the user has it; the `url` of one that was packed is empty."""

    path: Path
    url: str = ""
    obstacles: tuple[PortabilityProblem, ...] = ()


class _Inside(Struct, frozen=True, kw_only=True):
    """The content of an archive: an offer without archives, the program, platforms with baselines."""

    offer: RuntimeOffer
    program: str
    platforms: dict[str, str]
    tried: bool


def publish(
    machine: Machine, observer: Observer, what: str, folder: Path, *, copy: bool = False
) -> Published:
    """Add a runtime to the catalogue in a folder: that in an archive, by path or address, or one of here.

    A runtime of this machine is named by its folder or its program, and packed. An archive stays where it
    is, unless a `copy` is to lie beside the catalogue. Whatever it is, it is unpacked into a folder that is
    thrown away, and run there where this machine can.

    Raises `NoRuntime` where there is none, or it does not work, `IntegrityFailed` for one that nobody could
    obtain, `SourceFailed` also for a catalogue that can't be read, `WrongUsage`, `CannotWrite`.
    """
    with machine.store.scratch() as scratch:
        archive = _archive_of(what, scratch, machine, observer)
        observer.stage("looking into it, and trying it where this machine can")
        inside = _inside(archive.path, scratch, machine)
        observer.stage("writing")
        with machine.store.claimed(f"catalogue {folder}"):
            known = _kept(folder / CATALOGUE_FILE)
            offer = replace(
                inside.offer, archives=tuple(_entries(archive, inside, folder, machine.folder, copy=copy))
            )
            text = catalogue_text(with_offer(known, offer), folder.resolve().as_uri())
            with cannot_write(folder), GuardedFolder.at(folder, machine.folder) as guarded:
                guarded.write(CATALOGUE_FILE, text.encode())
    catalogue = folder / CATALOGUE_FILE
    return Published(offer=offer, catalogue=catalogue, tried=inside.tried, obstacles=archive.obstacles)


def _archive_of(what: str, scratch: Path, machine: Machine, observer: Observer) -> _Archive:
    """The archive that is meant: fetched, where the user has it, or packed now."""
    try:
        if is_address(what) and not what.startswith("file:"):
            return _fetched(what, scratch, machine, observer)
        path = local_path(what) or path_named(what, machine.folder)
    except NotAnAddress as error:
        raise WrongUsage(f"'{hidden(what)}' is not an address", because=[str(error)]) from error
    with _readable(path):
        if path.is_file() and path.name.endswith(ARCHIVE_ENDINGS):
            return _Archive(path=path, url=path.resolve().as_uri())
        if not (path.is_file() or path.is_dir()):
            raise NoRuntime(f"{path} is neither an archive, a folder nor a program", remedy="rabbet runtimes")
        return _packed(path.resolve(), scratch, machine, observer)


@contextmanager
def _readable(path: Path) -> Iterator[None]:
    """Tell of what can't be read there."""
    try:
        yield
    except OSError as error:
        place = error.filename or path
        raise NoRuntime(f"{path} can't be read", because=[f"{place}: {error.strerror or error}"]) from error


def _packed(path: Path, scratch: Path, machine: Machine, observer: Observer) -> _Archive:
    """An archive of a runtime of this machine, by its folder or its program. Raises as `publish` does."""
    prefix = _prefix_of(path)
    if _is_shared(prefix, machine):
        if not path.is_file():
            raise _holds_much(prefix)
        prefix = scratch / "gathered"
        observer.stage(f"gathering what {path.name} consists of")
        gather_system_python(path, prefix, machine.helpers_environ())
    elif not any(
        path in (prefix, runtime.program) for runtime in found_in(prefix, languages_for(None, machine))
    ):
        raise NoRuntime(
            f"{path} is not a runtime that Rabbet knows",
            because=["it is not a language's main program, nor a folder that holds one"],
            note="languages that Rabbet does not know are described in settings.toml",
            remedy="rabbet runtimes",
        )
    observer.stage("looking for what would not work elsewhere")
    found = tuple(obstacles(prefix))
    forbidding = [f"{part.place}: {part.reason}" for part in found if part.forbids]
    if forbidding:
        more = [f"and {len(forbidding) - _SHOWN} more"] if len(forbidding) > _SHOWN else []
        raise IntegrityFailed(
            f"{prefix} can't be packed, for it needs what lies outside", because=[*forbidding[:_SHOWN], *more]
        )
    observer.stage("packing")
    with cannot_write(scratch):
        pack(prefix, scratch / "packed.tar.gz")
    return _Archive(path=scratch / "packed.tar.gz", obstacles=found)


def _fetched(what: str, scratch: Path, machine: Machine, observer: Observer) -> _Archive:
    address = parse_address(what)
    if address.scheme not in ("http", "https") or not address.filename.endswith(ARCHIVE_ENDINGS):
        raise WrongUsage(
            "the address names no archive",
            because=[f"its name has to end with one of {', '.join(ARCHIVE_ENDINGS)}"],
        )
    observer.stage(f"fetching {address.filename}", 1)

    def content() -> Iterator[bytes]:
        for piece in anybodys_client(machine).stream(what):
            observer.received(len(piece), address.filename, 0)
            yield piece

    path = scratch / address.filename
    write_hashed(path, content(), algorithm="sha256", most=None)
    return _Archive(path=path, url=address.text)


def _inside(archive: Path, scratch: Path, machine: Machine) -> _Inside:
    """The content of an archive, by running it if this machine can, else by its files. Raises `NoRuntime`."""
    tree, target = scratch / "tree", own_target(machine)
    with cannot_write(scratch):
        unpack_archive(archive, tree)
    found = found_in(tree, languages_for(None, machine))
    if not found:
        raise NoRuntime(
            f"{archive.name} holds no runtime that Rabbet knows",
            because=["no language's main program is in it"],
            note="languages that Rabbet does not know are described in settings.toml",
        )
    glibc = glibc_of(tree)
    here = [runtime for runtime in found if _runs_here(runtime, glibc, target)]
    if not here:
        return _by_files(found, tree, glibc, archive)
    answer = first_that_runs(here, tree, scratch / "answers", machine.helpers_environ())
    if isinstance(answer, list):
        raise _none_works(archive, answer)
    program, runtime = answer
    offer = RuntimeOffer(
        language=runtime.language, version=runtime.version, where="", distributor=runtime.distributor
    )
    of_script = glibc if target.libc[0] == "glibc" else ""
    platforms = baselines_of(program, glibc) or {target.platform: of_script}
    return _Inside(offer=offer, program=_program(program, tree), platforms=platforms, tried=True)


def _runs_here(found: Found, glibc: str, target: Target) -> bool:
    """Whether this machine can run a program: a script, or one for its platform and no newer system."""
    if found.is_script:
        return True
    baseline = baselines_of(found, glibc).get(target.platform)
    return baseline is not None and new_enough(baseline, target)


def _by_files(found: Sequence[Found], tree: Path, glibc: str, archive: Path) -> _Inside:
    """The content of an archive for other machines. Raises `NoRuntime` if no file names the version."""
    for candidate in found:
        version = version_by_files(candidate)
        if version is not None and candidate.platforms:
            offer = RuntimeOffer(
                language=candidate.name,
                version=version,
                where="",
                distributor="" if candidate.language else "cpython",
            )
            platforms = baselines_of(candidate, glibc)
            return _Inside(offer=offer, program=_program(candidate, tree), platforms=platforms, tried=False)
    first = found[0]
    for_ = ", ".join(first.platforms) or "a machine that no target names"
    raise NoRuntime(
        f"{archive.name} can't be published: no known file in it holds its version",
        because=[f"it holds {_program(first, tree)}, for {for_}, which this machine can't run"],
        note="publish it on a machine that can run it, into the same folder",
    )


def _none_works(archive: Path, refused: Sequence[Refusal]) -> NoRuntime:
    return NoRuntime(
        f"{archive.name} holds no runtime that works elsewhere than where it was made",
        because=[f"{runtime.executable}: {runtime.reason}" for runtime in refused[:_SHOWN]],
    )


def _program(found: Found, tree: Path) -> str:
    return found.program.relative_to(tree.resolve()).as_posix()


def _entries(
    archive: _Archive, inside: _Inside, folder: Path, below: Path, *, copy: bool
) -> Iterator[RuntimeArchive]:
    """The catalogue's entry for each platform; the archive comes along where it has to, or is to."""
    sha256, size = sha256_of_regular(archive.path), archive.path.stat().st_size
    filename, url = archive.path.name, archive.url
    if not url or copy:
        wanted = filename
        if not url:
            platform = next(iter(inside.platforms))
            wanted = f"{inside.offer.language}-{inside.offer.version}-{platform}-{sha256[:_TELLING]}.tar.gz"
        filename = _put(archive.path, wanted, sha256, folder, below)
        url = (folder.resolve() / filename).as_uri()
    for platform, baseline in inside.platforms.items():
        yield RuntimeArchive(
            platform=platform,
            filename=filename,
            url=url,
            algorithm="sha256",
            digest=sha256,
            program=inside.program,
            size=size,
            baseline=baseline,
        )


def _put(path: Path, name: str, sha256: str, folder: Path, below: Path) -> str:
    """Copy an archive into a folder, under a name that no other file has there; that name.

    Where the folder lies `below` another one, no link may be on the way from there.
    """
    with cannot_write(folder), GuardedFolder.at(folder, below) as guarded:
        if guarded.holds(name, sha256):
            return name
        if name in guarded.names():
            name = f"{sha256[:_TELLING]}-{name}"
        with guarded.replacing(name, mode=0o644) as target:
            copied_hashed(target, read_pieces(path), algorithm="sha256", most=path.stat().st_size)
    return name


def _prefix_of(path: Path) -> Path:
    """The folder of a runtime, by its own path or that of its program."""
    if not path.is_file():
        return path
    return path.parent.parent if path.parent.name == "bin" else path.parent


def _is_shared(prefix: Path, machine: Machine) -> bool:
    """Whether the system, or a user, keeps much besides a runtime in a folder."""
    shared = {Path(path) for path in _SHARED} | {machine.home.resolve(), *machine.home.resolve().parents}
    return prefix in shared


def _holds_much(prefix: Path) -> NoRuntime:
    return NoRuntime(
        f"{prefix} holds much besides a runtime, so it is not packed",
        because=["a runtime that lies in a folder of its own can be, and the system's Python by its program"],
        remedy="rabbet runtimes",
    )


def _kept(catalogue: Path) -> Sequence[RuntimeOffer]:
    """The present offers of a catalogue; none if it does not exist. Raises `SourceFailed`."""
    if not catalogue.exists():
        return ()
    try:
        return read_catalogue(read_regular(catalogue, most=MOST_PAGE), catalogue.resolve().as_uri())
    except (OSError, NotACatalogue) as error:
        raise SourceFailed(
            f"{catalogue} is not a catalogue that a runtime could be added to", because=[str(error)]
        ) from error
