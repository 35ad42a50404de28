"""Source archives with a back end of their own, whose build does what a test wants."""

import gzip
import io
import tarfile
from collections.abc import Mapping, Sequence

BACKEND = """\
import base64, hashlib, os, zipfile
from pathlib import Path


def well(folder, name, version, tag="py3-none-any"):
    info, wheel = f"{name}-{version}.dist-info", f"{name}-{version}-{tag}.whl"
    files = {
        f"{info}/METADATA": f"Metadata-Version: 2.2\\nName: {name}\\nVersion: {version}\\n\\n",
        f"{info}/WHEEL": f"Wheel-Version: 1.0\\nRoot-Is-Purelib: true\\nTag: {tag}\\n",
    }
    rows = ""
    with zipfile.ZipFile(f"{folder}/{wheel}", "w") as archive:
        for place, text in files.items():
            archive.writestr(place, text)
            digest = base64.urlsafe_b64encode(hashlib.sha256(text.encode()).digest()).rstrip(b"=").decode()
            rows += f"{place},sha256={digest},{len(text)}\\n"
        archive.writestr(f"{info}/RECORD", f"{rows}{info}/RECORD,,\\n")
    return wheel


def build_wheel(folder, settings=None, metadata=None):
    HOOK
"""
PYPROJECT = "[build-system]\nrequires = []\nbuild-backend = 'backend'\nbackend-path = ['.']\n"


def source_archive(
    hook: str = "return well(folder, 'queenmark', '1.2')",
    files: Mapping[str, str] | None = None,
    without: Sequence[str] = (),
) -> bytes:
    """`queenmark-1.2.tar.gz`, with static metadata; `hook` is what its `build_wheel` does."""
    contents = {
        "PKG-INFO": "Metadata-Version: 2.2\nName: queenmark\nVersion: 1.2\n\n",
        "pyproject.toml": PYPROJECT,
        "backend.py": BACKEND.replace("HOOK", hook),
        **(files or {}),
    }
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w") as archive:
        for name in contents.keys() - set(without):
            member = tarfile.TarInfo(f"queenmark-1.2/{name}")
            member.size = len(contents[name].encode())
            archive.addfile(member, io.BytesIO(contents[name].encode()))
    return gzip.compress(buffer.getvalue(), mtime=0)
