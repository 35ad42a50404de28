"""A runtime's facts → the target it stands for, with all wheel tags that it accepts, best first.

Tags follow PEP 425; platform tags follow PEP 600 (glibc), PEP 656 (musl) and, on macOS, the rules of the
`packaging` library. Computed from facts alone, so that any machine can compute any machine's target.
"""

import re
from collections.abc import Iterable, Iterator, Mapping
from functools import cache, lru_cache
from typing import NamedTuple

from msgspec.structs import replace
from packaging import tags
from packaging.version import Version

from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.model.target import LATEST_PATCH, Target

__all__ = [
    "BASELINES",
    "MINORS",
    "OLDEST_PYTHON",
    "PLATFORMS",
    "baseline_needed",
    "joined",
    "named_markers",
    "named_target",
    "target_of",
]

OLDEST_PYTHON = Version("3.8")  # the oldest that environments are made for
MINORS = tuple(f"3.{minor}" for minor in range(8, 15))
"""The versions of Python that a lock serves where the declaration's range allows them: those released by now.

A declaration names newer ones under `pythons`.
"""
BASELINES = {
    "glibc": "2.28",
    "macos": "12.0",
    "musl": "1.2",
}  # what a named target is assumed to have at least
PLATFORMS = {
    "linux-aarch64": ("posix", "Linux", "linux", "aarch64", "glibc"),
    "linux-aarch64-musl": ("posix", "Linux", "linux", "aarch64", "musl"),
    "linux-x86_64": ("posix", "Linux", "linux", "x86_64", "glibc"),
    "linux-x86_64-musl": ("posix", "Linux", "linux", "x86_64", "musl"),
    "macos-arm64": ("posix", "Darwin", "darwin", "arm64", "macos"),
    "macos-x86_64": ("posix", "Darwin", "darwin", "x86_64", "macos"),
    "windows-x86_64": ("nt", "Windows", "win32", "AMD64", ""),
}

_LEGACY_NAMES = {(2, 17): "manylinux2014", (2, 12): "manylinux2010", (2, 5): "manylinux1"}
_OLDEST_GLIBC_MINOR = {"x86_64": 5, "i686": 5}  # PEP 571 and 513 exist for these two machines only
_VERSIONED = re.compile(r"(manylinux|musllinux|macosx)_([0-9]+)_([0-9]+)_(.+)\Z")
_FAMILIES = {"manylinux": "glibc", "musllinux": "musl", "macosx": "macos"}
_SYSTEMS = {"linux": "linux", "darwin": "macos", "win32": "windows"}


def named_target(platform: str, python: str, baselines: Mapping[str, str]) -> Target:
    """A target by its platform's name and the first two numbers of Python's version.

    Its Python counts as the latest patch, `X.Y.99`; its C library or system as the baseline says. So the same
    declaration gives the same target on every machine.
    """
    library = PLATFORMS[platform][-1]
    facts = PythonRuntime(
        executable="",
        site_packages="",
        version=Version(f"{python}.{LATEST_PATCH}"),
        language="python",
        distributor="cpython",
        markers=named_markers(platform, python),
        libc=(library, {**BASELINES, **baselines}.get(library, "")),
        abi_flags="",
        word_bits=64,
    )
    return replace(target_of(facts), named=True)


def named_markers(platform: str, python: str) -> dict[str, str]:
    """The values of markers (PEP 508) on a target, by its platform's name and Python's first two numbers."""
    os_name, system, sys_platform, machine, _ = PLATFORMS[platform]
    version = f"{python}.{LATEST_PATCH}"
    return {
        "implementation_name": "cpython",
        "implementation_version": version,
        "os_name": os_name,
        "platform_machine": machine,
        "platform_python_implementation": "CPython",
        "platform_release": "",
        "platform_system": system,
        "platform_version": "",
        "python_full_version": version,
        "python_version": python,
        "sys_platform": sys_platform,
    }


def joined(targets: Iterable[Target]) -> tuple[Target, ...]:
    """Targets with the same markers as one: such as a platform with glibc and the same one with musl."""
    by_markers: dict[str, Target] = {}
    for target in targets:
        known = by_markers.setdefault(target.environment, target)
        if known is not target:
            by_markers[target.environment] = replace(known, alike=(*known.alike, target))
    return tuple(by_markers.values())


def baseline_needed(target: Target, wheel_tags: Iterable[str]) -> tuple[str, str] | None:
    """The C library (or `macos`) and the oldest version of it with which one of the tags would fit a target.

    `None` where none would: for another reason than the age of the system.
    """
    library, _ = target.libc
    known = (_built_for(tag.rpartition("-")[2]) for tag in target.tags)
    machines = {wheel.machine for wheel in known if wheel is not None}
    beginnings = {tag.rpartition("-")[0] for tag in target.tags}
    versions = []
    for tag in wheel_tags:
        beginning, _, platform = tag.rpartition("-")
        built = _built_for(platform)
        if built is None or built.library != library or tag in target.tags:
            continue
        if beginning in beginnings and built.machine in machines:
            versions.append(built.version)
    oldest = min(versions, key=Version, default=None)
    return (library, oldest) if oldest else None


class _BuiltFor(NamedTuple):
    """The meaning of a platform tag: a C library (or `macos`), its oldest version, and the machine."""

    library: str
    version: str
    machine: str


@cache
def _built_for(platform: str) -> _BuiltFor | None:
    """The meaning of a platform tag; `None` for tags without a version."""
    found = _VERSIONED.match(platform)
    if found is None:
        return None
    family, major, minor, machine = found.groups()
    return _BuiltFor(_FAMILIES[family], f"{major}.{minor}", machine)


@lru_cache(maxsize=32)
def target_of(runtime: PythonRuntime) -> Target:
    """The target that this runtime serves on its machine."""
    system = _SYSTEMS.get(runtime.markers["sys_platform"], runtime.markers["sys_platform"])
    machine = _machine(runtime)
    ranked = dict.fromkeys(str(tag) for tag in _tags(runtime, list(_platforms(system, machine, runtime))))
    return Target(
        platform=f"{system}-{machine}" + ("-musl" if runtime.libc[0] == "musl" else ""),
        python=runtime.version,
        markers=runtime.markers,
        tags={tag: rank for rank, tag in enumerate(ranked)},
        libc=runtime.libc,
    )


def _machine(runtime: PythonRuntime) -> str:
    """The machine's name; a 32-bit interpreter on a 64-bit machine counts as what it is."""
    machine = runtime.markers["platform_machine"].lower().replace("amd64", "x86_64")
    if runtime.word_bits == 32:
        return {"x86_64": "i686", "aarch64": "armv7l"}.get(machine, machine)
    return machine


def _tags(runtime: PythonRuntime, platforms: list[str]) -> Iterator[tags.Tag]:
    version = (runtime.version.major, runtime.version.minor)
    digits = f"{version[0]}{version[1]}"
    if runtime.distributor == "cpython":
        interpreter = f"cp{digits}"
        yield from tags.cpython_tags(version, [interpreter + runtime.abi_flags], platforms)
    else:
        interpreter = f"{'pp' if runtime.distributor == 'pypy' else runtime.distributor}{digits}"
        yield from tags.generic_tags(interpreter, ["none"], platforms)
    yield from tags.compatible_tags(version, interpreter, platforms)


def _platforms(system: str, machine: str, runtime: PythonRuntime) -> Iterator[str]:
    if system == "macos":
        major, minor = [*runtime.libc[1].split("."), "0"][:2]
        yield from tags.mac_platforms((int(major), int(minor)), machine)
    elif system == "windows":
        yield {"x86_64": "win_amd64", "arm64": "win_arm64"}.get(machine, "win32")
    else:
        yield from _linux_platforms(machine, *runtime.libc)


def _linux_platforms(machine: str, library: str, version: str) -> Iterator[str]:
    """First what was built on such a machine, then from the newest baseline to the oldest."""
    yield f"linux_{machine}"
    if library == "glibc":
        major, minor = (int(part) for part in version.split(".")[:2])
        for lower in range(minor, _OLDEST_GLIBC_MINOR.get(machine, 17) - 1, -1):
            yield f"manylinux_{major}_{lower}_{machine}"
            if (major, lower) in _LEGACY_NAMES:
                yield f"{_LEGACY_NAMES[major, lower]}_{machine}"
    elif library == "musl":
        major, minor = (int(part) for part in version.split(".")[:2])
        for lower in range(minor, -1, -1):
            yield f"musllinux_{major}_{lower}_{machine}"
