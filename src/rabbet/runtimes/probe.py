"""Asking an interpreter about itself, and remembering the answer until its file changes."""

import hashlib
import json
import subprocess
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from packaging.version import Version

from rabbet.core.model.runtime import PythonRuntime, Refusal
from rabbet.store.blob_cache import BlobCache

__all__ = ["probe_all"]

_TIMEOUT = 20  # seconds
_THREADS = 4

# Runs inside the interpreter that is asked, so it has to do with Python 3.4; prints one line of JSON.
_QUESTION = """
import glob, json, os, platform, re, struct, subprocess, sys, sysconfig
v = sys.implementation.version
kind = "" if v.releaselevel == "final" else v.releaselevel[0] + str(v.serial)
libc = ("", "")
if sys.platform == "darwin":
    libc = ("macos", platform.mac_ver()[0])
elif "musl" in "%s %s" % (sysconfig.get_config_var("HOST_GNU_TYPE"), sysconfig.get_config_var("SOABI")):
    loader = (glob.glob("/lib/ld-musl-*.so.1") or ["/lib/ld-musl.so.1"])[0]
    told = subprocess.Popen([loader], stderr=subprocess.PIPE).communicate()[1].decode()
    libc = ("musl", re.search("Version ([0-9.]+)", told).group(1))
elif hasattr(os, "confstr") and "CS_GNU_LIBC_VERSION" in os.confstr_names:
    libc = tuple((os.confstr("CS_GNU_LIBC_VERSION") or " ").split(" ", 1))
base = {"base": "", "platbase": "", "installed_base": "", "installed_platbase": ""}
scheme = "venv" if "venv" in sysconfig.get_scheme_names() else "posix_prefix" if os.name == "posix" else "nt"
print(json.dumps({
    "version": platform.python_version().rstrip("+"),
    "implementation": sys.implementation.name,
    "site_packages": sysconfig.get_path("purelib", scheme, vars=base).replace(os.sep, "/").lstrip("/"),
    "libc": libc,
    "abi_flags": sysconfig.get_config_var("abiflags") or "",
    "word_bits": struct.calcsize("P") * 8,
    "markers": {
        "implementation_name": sys.implementation.name,
        "implementation_version": "%d.%d.%d%s" % (v.major, v.minor, v.micro, kind),
        "os_name": os.name,
        "platform_machine": platform.machine(),
        "platform_python_implementation": platform.python_implementation(),
        "platform_release": platform.release(),
        "platform_system": platform.system(),
        "platform_version": platform.version(),
        "python_full_version": platform.python_version(),
        "python_version": ".".join(platform.python_version_tuple()[:2]),
        "sys_platform": sys.platform,
    },
}))
"""


def probe_all(executables: Sequence[Path], memory: BlobCache) -> tuple[PythonRuntime | Refusal, ...]:
    """What each interpreter tells of itself, or why it can't be used; in the order given."""
    with ThreadPoolExecutor(_THREADS) as pool:
        return tuple(pool.map(lambda executable: _probe(executable, memory), executables))


def _probe(executable: Path, memory: BlobCache) -> PythonRuntime | Refusal:
    key = _key(executable)
    known = memory.recall(key) if key else None
    if known is not None:
        try:
            return _runtime(str(executable), known)
        except ValueError:
            memory.forget(key)
    answer = _ask(executable)
    if isinstance(answer, Refusal):
        return answer
    try:
        runtime = _runtime(str(executable), answer)
    except ValueError as error:
        return Refusal(executable=str(executable), reason=f"its answer makes no sense: {error}")
    if key:
        memory.remember(key, answer)
    return runtime


def _key(executable: Path) -> str:
    """Names the file in its present state and this question; empty when the file can't be looked at."""
    try:
        state = executable.stat()
    except OSError:
        return ""
    identity = f"{executable}\n{state.st_size}\n{state.st_mtime_ns}\n{state.st_ctime_ns}\n{_QUESTION}"
    return hashlib.sha256(identity.encode(errors="surrogateescape")).hexdigest()


def _ask(executable: Path) -> bytes | Refusal:
    try:
        done = subprocess.run(
            [executable, "-I", "-S", "-c", _QUESTION], capture_output=True, timeout=_TIMEOUT, check=False
        )
    except subprocess.TimeoutExpired:
        return Refusal(executable=str(executable), reason=f"it gave no answer in {_TIMEOUT} seconds")
    except OSError as error:
        return Refusal(executable=str(executable), reason=f"it does not start: {error.strerror}")
    if done.returncode != 0:
        lines = done.stderr.decode(errors="replace").strip().splitlines() or ["no message"]
        return Refusal(executable=str(executable), reason=f"it does not work: {lines[-1]}")
    return done.stdout


def _runtime(executable: str, answer: bytes) -> PythonRuntime:
    """An interpreter by its answer. Raises `ValueError` for one that makes no sense."""
    try:
        return _from_facts(executable, json.loads(answer))
    except (KeyError, TypeError, IndexError, RecursionError) as error:
        raise ValueError(f"{type(error).__name__}: {error}") from error


def _from_facts(executable: str, facts: dict[str, object]) -> PythonRuntime:
    markers, libc = facts["markers"], facts["libc"]
    if not isinstance(markers, dict) or not isinstance(libc, list) or not isinstance(facts["word_bits"], int):
        raise TypeError("facts of another kind than asked for")
    return PythonRuntime(
        executable=executable,
        site_packages=str(facts["site_packages"]),
        version=Version(str(facts["version"])),
        language="python",
        distributor=str(facts["implementation"]),
        markers={str(key): str(value) for key, value in markers.items()},
        libc=(str(libc[0]), str(libc[1])),
        abi_flags=str(facts["abi_flags"]),
        word_bits=facts["word_bits"],
    )
