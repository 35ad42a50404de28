"""The files of an installed library → the modules that it offers, and what Python reads when it starts."""

from collections.abc import Iterable

__all__ = ["is_start_up", "module_names"]

_SOURCES = (".py", ".pyi", ".so", ".pyd")
_DEEPEST = 6  # packages without code of their own inside each other


def module_names(paths: Iterable[str]) -> frozenset[str]:
    """Full names of the modules and packages, given places as `RECORD` names them.

    A folder without code of its own (PEP 420) may be shared with other libraries, so what lies in it counts.
    """
    places = {tuple(_inside(path)) for path in paths}
    code = {place for place in places if place and place[-1].endswith(_SOURCES)}
    packages = {place[:-1] for place in code if place[-1].partition(".")[0] == "__init__"}
    found = set()
    for place in code:
        folders = place[:-1]
        package = next((folders[:n] for n in range(1, len(folders) + 1) if folders[:n] in packages), None)
        name = package or (*folders, place[-1].partition(".")[0])
        if len(name) <= _DEEPEST and all(_is_name(part) for part in name) and name[-1] != "__init__":
            found.add(".".join(name))
    return frozenset(found)


def _inside(path: str) -> list[str]:
    """The parts of a place below the folder that libraries are imported from; none for other places."""
    parts = path.split("/")
    if parts[0].endswith(".data") and len(parts) > 2 and parts[1] in ("purelib", "platlib"):
        return parts[2:]
    return [] if parts[0] in ("", "..", ".") or "__pycache__" in parts else parts


def _is_name(part: str) -> bool:
    return part.removesuffix("-stubs").isidentifier()


def is_start_up(place: str) -> bool:
    """Whether Python reads a file whenever it starts (the `site` module of its library)."""
    folder, _, name = place.rpartition("/")
    if name.endswith(".pth"):
        return folder == "" or folder.endswith("-packages")
    return place.removesuffix("/__init__.py").removesuffix(".py").endswith(("sitecustomize", "usercustomize"))
