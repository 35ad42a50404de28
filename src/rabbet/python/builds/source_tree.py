"""Where the sources of a library lie: unpacked from an archive or a commit for one build, or a checkout."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from msgspec import Struct

from rabbet.archives.unpack import unpack_archive
from rabbet.core.limits import MOST_BY_HAND
from rabbet.core.model.build import BuildSystem
from rabbet.core.model.lock import BuildSource, LockedCheckout, LockedCommit
from rabbet.disk.atomic import cannot_write
from rabbet.disk.regular_file import read_regular
from rabbet.errors import BuildFailed, IntegrityFailed
from rabbet.net.git.remote_repository import RemoteRepository
from rabbet.python.compose.fetch import LockedContents
from rabbet.python.formats.build_system import read_build_system
from rabbet.python.store.store import Store

__all__ = ["Origins", "SourceCode", "open_sources_of"]


class Origins(Struct, frozen=True, kw_only=True):
    """Where sources come from: the store and what fetches into it, repositories, the project's folder."""

    store: Store
    contents: LockedContents
    repository: Callable[[str], RemoteRepository]
    folder: Path


class SourceCode(Struct, frozen=True, kw_only=True):
    """A source tree, and how it says that it is built."""

    tree: Path
    system: BuildSystem


def open_sources_of(what: str, source: BuildSource, origins: Origins, scratch: Path) -> SourceCode:
    """The sources of `what`; those of an archive or a commit in a new folder inside `scratch`.

    Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`, and `BuildFailed` for what is no source tree.
    """
    tree = _tree(source, origins, scratch)
    pyproject = tree / "pyproject.toml"
    if not pyproject.is_file():
        if not (tree / "setup.py").is_file():
            raise BuildFailed(
                f"{what} can't be built", because=["its sources have neither pyproject.toml nor setup.py"]
            )
        return SourceCode(tree=tree, system=read_build_system(None, "pyproject.toml"))
    try:
        text = read_regular(pyproject, most=MOST_BY_HAND).decode("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BuildFailed(f"{what} can't be built", because=[f"its pyproject.toml: {error}"]) from error
    return SourceCode(tree=tree, system=read_build_system(text, f"pyproject.toml of {what}"))


def _tree(source: BuildSource, origins: Origins, scratch: Path) -> Path:
    if isinstance(source, LockedCheckout):
        return (origins.folder / source.path).resolve()
    sources = scratch / "sources"
    with cannot_write(scratch):
        if isinstance(source, LockedCommit):
            archive = scratch / "sources.zip"
            origins.repository(source.url).export(source.commit, archive)
            unpack_archive(archive, sources, writable=True)
            return _inside(sources, source.subdirectory)
        archive = origins.contents.taken(source, partial(origins.store.fetched, source))
        unpack_archive(archive, sources, writable=True)
    folders = [path for path in sources.iterdir() if path.is_dir()]
    if len(folders) != 1 or len(list(sources.iterdir())) != 1:
        raise IntegrityFailed(
            f"{source.filename} is not a source archive", because=["it holds other things than one folder"]
        )
    return folders[0]


def _inside(sources: Path, subdirectory: str | None) -> Path:
    """A folder of a commit's tree. Raises `IntegrityFailed` where it is none, or leads outside."""
    tree = (sources / (subdirectory or "")).resolve()
    if not tree.is_dir() or not tree.is_relative_to(sources.resolve()):
        raise IntegrityFailed(f"the commit has no folder '{subdirectory}'")
    return tree
