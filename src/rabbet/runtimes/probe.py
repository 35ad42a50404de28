"""Asking runtimes about themselves, and remembering the answers until their files change."""

import hashlib
import json
import re
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import TypeVar

from packaging.version import Version

from rabbet.core.limits import UNREADABLE
from rabbet.core.model.language import Language
from rabbet.core.model.runtime import PythonRuntime, Refusal, Runtime
from rabbet.python.choosing.targets import OLDEST_PYTHON
from rabbet.store.blob_cache import BlobCache
from rabbet.work.ask import NoAnswer, ask

__all__ = ["probe_all", "probe_languages", "standard_modules"]

_PROGRAM = re.compile(r"[A-Za-z][A-Za-z0-9._-]{0,60}\Z")
_THREADS = 4
_LONGEST = 100  # characters of an answer that are shown
_Found = TypeVar("_Found", bound=Runtime)

# Runs inside the interpreter that is asked, so it has to do with any Python; prints one line of JSON.
_QUESTION = """
import json, platform, sys
if sys.version_info[:2] < (3, 8):
    print(json.dumps({"version": platform.python_version().rstrip("+")}))
    sys.exit()
import glob, os, re, struct, subprocess, sysconfig
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
# Which programs install libraries: those of wheels that come with the runtime, and of what installed others.
import zipfile
paths, texts, installers = sysconfig.get_paths(), [], set()
folders = [os.path.join(paths["stdlib"], "*", "_bundled"), sysconfig.get_config_var("WHEEL_PKG_DIR") or ""]
for wheel in [each for folder in folders if folder for each in glob.glob(os.path.join(folder, "*.whl"))]:
    try:
        with zipfile.ZipFile(wheel) as archive:
            texts += [archive.read(n).decode() for n in archive.namelist() if n.endswith("/entry_points.txt")]
    except (OSError, ValueError, zipfile.BadZipFile):
        pass
for folder in {paths["purelib"], paths["platlib"]}:
    notes = glob.glob(os.path.join(folder, "*.dist-info", "INSTALLER"))[:1000]
    told = set()
    for note in notes:
        with open(note, errors="replace") as file:
            told.add(file.read(100).strip().lower())
    for info in {os.path.dirname(note) for note in notes}:
        listed = os.path.join(info, "entry_points.txt")
        if os.path.basename(info).split("-")[0].lower() in told and os.path.exists(listed):
            with open(listed, errors="replace") as file:
                texts.append(file.read(10000))
for text in texts:
    section = text.partition("[console_scripts]")[2].partition("[")[0]
    installers.update(re.findall("(?m)^([A-Za-z][A-Za-z0-9._-]*) *=", section))
minor = "%d.%d" % sys.version_info[:2]
installers.update([name + minor for name in installers if not name[-1].isdigit()])
base = {"base": "", "platbase": "", "installed_base": "", "installed_platbase": ""}
scheme = "venv" if "venv" in sysconfig.get_scheme_names() else "posix_prefix" if os.name == "posix" else "nt"
print(json.dumps({
    "version": platform.python_version().rstrip("+"),
    "implementation": sys.implementation.name,
    "site_packages": sysconfig.get_path("purelib", scheme, vars=base).replace(os.sep, "/").lstrip("/"),
    "libc": libc,
    "abi_flags": sysconfig.get_config_var("abiflags") or "",
    "word_bits": struct.calcsize("P") * 8,
    "installers": sorted(installers),
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


# Python lists these itself since 3.10; older ones have them in their library's folders.
_MODULES = """
import os, sys
names = set(getattr(sys, "stdlib_module_names", ()))
if not names:
    import sysconfig
    names.update(sys.builtin_module_names)
    library = sysconfig.get_paths()["stdlib"]
    for folder in (library, os.path.join(library, "lib-dynload")):
        for entry in os.listdir(folder) if os.path.isdir(folder) else ():
            name = entry.split(".")[0]
            if name.isidentifier() and (entry.endswith((".py", ".so")) or name == entry):
                names.add(name)
print(" ".join(sorted(names)))
"""


def standard_modules(executable: Path, memory: BlobCache, environ: Mapping[str, str]) -> frozenset[str]:
    """The modules that come with an interpreter of Python. Raises `NoAnswer`."""
    question = ["-E", "-s", "-S", "-c", _MODULES]
    key = _key(executable, question)
    answer = memory.recall(key) if key else None
    if answer is None:
        answer = _answer(executable, question, environ)
        if key:
            memory.remember(key, answer)
    return frozenset(answer.decode(errors="replace").split())


def probe_all(
    executables: Sequence[Path], memory: BlobCache, environ: Mapping[str, str]
) -> tuple[PythonRuntime | Refusal, ...]:
    """The facts that each Python interpreter reports, or why it can't be used; in the order given."""
    question = ["-E", "-s", "-S", "-c", _QUESTION]  # -I is too new for what has to be refused

    def probe(executable: Path) -> PythonRuntime | Refusal:
        return _probe(executable, "python", question, _python, memory, environ)

    with ThreadPoolExecutor(_THREADS) as pool:
        return tuple(pool.map(probe, executables))


def probe_languages(
    programs: Sequence[tuple[Language, Path]], memory: BlobCache, environ: Mapping[str, str]
) -> tuple[Runtime | Refusal, ...]:
    """The facts that each runtime of other languages reports, or why it can't be used; in the given order."""

    def probe(program: tuple[Language, Path]) -> Runtime | Refusal:
        language, executable = program
        read = partial(_runtime, language)
        return _probe(executable, language.name, language.ask, read, memory, environ)

    with ThreadPoolExecutor(_THREADS) as pool:
        return tuple(pool.map(probe, programs))


def _probe(
    executable: Path,
    language: str,
    question: Sequence[str],
    read: Callable[[str, bytes], _Found | Refusal],
    memory: BlobCache,
    environ: Mapping[str, str],
) -> _Found | Refusal:
    """A program's cached or fresh answer, as `read` parses it."""
    key = _key(executable, question)
    known = memory.recall(key) if key else None
    if known is not None:
        try:
            return read(str(executable), known)
        except ValueError:
            memory.forget(key)
    try:
        answer = _answer(executable, question, environ)
        runtime = read(str(executable), answer)
    except NoAnswer as error:
        return Refusal(executable=str(executable), reason=str(error), language=language)
    except ValueError as error:
        reason = f"its answer makes no sense: {error}"
        return Refusal(executable=str(executable), reason=reason, language=language)
    if key:
        memory.remember(key, answer)
    return runtime


def _key(executable: Path, question: Sequence[str]) -> str:
    """Names the file in its present state and this question; empty when the file can't be looked at."""
    try:
        state = executable.stat()
    except OSError:
        return ""
    asked = "\n".join(question)
    identity = f"{executable}\n{state.st_size}\n{state.st_mtime_ns}\n{state.st_ctime_ns}\n{asked}"
    return hashlib.sha256(identity.encode(errors="surrogateescape")).hexdigest()


def _answer(executable: Path, question: Sequence[str], environ: Mapping[str, str]) -> bytes:
    """A program's standard output, then its standard error. Raises `NoAnswer`."""
    done = ask([str(executable), *question], environ)
    if done.code != 0:
        lines = done.err.decode(errors="replace").strip().splitlines() or ["no message"]
        raise NoAnswer(f"it does not work: {lines[-1][:_LONGEST]}")
    return done.out + done.err


def _runtime(language: Language, executable: str, answer: bytes) -> Runtime:
    """A runtime by its answer. Raises `ValueError` for one that tells no version."""
    text = answer.decode(errors="replace")
    version = language.version_in(text)
    if version is None:
        first = (text.strip().splitlines() or ["nothing"])[0][:_LONGEST]
        raise ValueError(f"no version is in it: {first}")
    return Runtime(
        language=language.name,
        version=version,
        executable=executable,
        distributor=language.distributor_in(text),
    )


def _python(executable: str, answer: bytes) -> PythonRuntime | Refusal:
    """An interpreter by its answer. Raises `ValueError` for one that makes no sense."""
    try:
        facts = json.loads(answer.splitlines()[0])
        version = Version(str(facts["version"]))
        if version < OLDEST_PYTHON:
            reason = (
                f"Python {version} is older than {OLDEST_PYTHON}, the oldest that environments are made for"
            )
            return Refusal(executable=executable, reason=reason)
        return _from_facts(executable, facts)
    except (KeyError, TypeError, IndexError, *UNREADABLE) as error:
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
        installers=tuple(name for name in map(str, _listed(facts["installers"])) if _PROGRAM.match(name)),
    )


def _listed(value: object) -> list[object]:
    """A list that was told. Raises `TypeError` for anything else."""
    if not isinstance(value, list):
        raise TypeError("no list")
    return value
