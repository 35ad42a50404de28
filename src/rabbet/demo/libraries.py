"""The made-up libraries of the beekeepers' cooperative, in several releases each.

What a library does stands in `modules/NAME.py`; its releases differ in their version and in what they need.
"""

from importlib.resources import files

from msgspec import Struct

from rabbet.core.needs.names import library_name

__all__ = ["RELEASES", "MadeUp"]


class MadeUp(Struct, frozen=True, kw_only=True):
    """One release. `needs` are requirements (PEP 508), `commands` maps names to functions of the module.

    Without `code` of its own, its module is the one in `modules/`. It is a wheel, or an `sdist`: of that a
    build would have to tell the `dynamic` fields of the metadata. Metadata may tell another version than the
    file's name does. `more` are further files: their paths and texts. `news` is where its release notes are.
    """

    name: str
    version: str
    needs: tuple[str, ...] = ()
    python: str = ">=3.8"
    tag: str = "py3-none-any"
    yanked: str = ""
    extras: tuple[str, ...] = ()
    commands: tuple[tuple[str, str], ...] = ()
    code: str | None = None
    sdist: bool = False
    metadata_version: str = "2.3"
    dynamic: tuple[str, ...] = ()
    told_version: str = ""
    more: tuple[tuple[str, str], ...] = ()
    news: str = ""

    @property
    def filename(self) -> str:
        """Its file's name."""
        return f"{self.stem}.tar.gz" if self.sdist else f"{self.stem}-{self.tag}.whl"

    @property
    def stem(self) -> str:
        """Name and version as file names join them (PEP 427)."""
        return f"{library_name(self.name).replace('-', '_')}-{self.version}"

    def source(self) -> str:
        """The module's code, which begins with its version."""
        code = self.code
        if code is None:
            code = files("rabbet.demo").joinpath("modules", f"{self.name}.py").read_text(encoding="utf-8")
        return f'__version__ = "{self.version}"\n\n{code}'


def _releases(name: str, versions: str, *needs: str, **more: object) -> tuple[MadeUp, ...]:
    """Several releases of one library that need the same."""
    return tuple(MadeUp(name=name, version=version, needs=needs, **more) for version in versions.split())  # type: ignore[arg-type]


_MITEWATCH = (("mitewatch", "main"),)
_FORECAST = 'honeyflow>=1.1; extra == "forecast"'

RELEASES: tuple[MadeUp, ...] = (
    *_releases("broodcount", "1.0 1.1"),
    *_releases("broodcount", "1.2", tag="py3-none-macosx_11_0_arm64"),
    *_releases("combframe", "1.4 1.5", "tallywax"),
    *_releases("combframe", "2.0 2.1 3.0rc1", "tallywax>=1.1"),
    *_releases("combwright", "1.0 1.1"),
    *_releases("foragemap", "0.9 1.0", "combframe", 'hivewire; extra == "online"', extras=("online",)),
    *_releases("hivewire", "2.0 2.1", "tallywax"),
    *_releases("hivewire", "2.2", "tallywax", yanked="drops every third frame"),
    *_releases("honeyflow", "1.0", "combframe>=1.4"),
    *_releases("honeyflow", "1.1 1.2", "combframe>=2,<3"),
    *_releases("mitewatch", "0.5 0.6", "broodcount>=1", "smokerlog", commands=_MITEWATCH),
    *_releases("nectarplot", "1.9", "combframe<2"),
    *_releases("nectarplot", "2.0 2.1", "combframe>=2,<3", _FORECAST, extras=("forecast",)),
    *_releases("pollencsv", "1.0 1.1", "combframe>=1.4"),
    *_releases("pollencsv", "1.2", "combframe>=1.4", "smokerlog>=1.1"),
    *_releases("queenmark", "1.0 1.1"),
    *_releases("royaljelly", "1.0 1.1", "honeyflow", "foragemap[online]", "queenmark"),
    *_releases("skepio", "0.3 0.4", "hivewire>=2"),
    *_releases("skepio", "0.5", "hivewire>=2", python=">=3.99"),
    *_releases("smokerlog", "1.0 1.1"),
    *_releases("smokerlog", "2.0", 'queenmark; sys_platform == "win32"'),
    *_releases("swarmcast", "1.0 1.1", "combframe<2", "weighbridge"),
    *_releases("tallywax", "1.0 1.1 1.2"),
    *_releases("weighbridge", "0.8 0.9 1.0", "smokerlog>=1"),
)
