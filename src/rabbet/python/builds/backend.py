"""The hooks of a build back end, each called in a process of its own (PEP 517, 660)."""

import json
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from stat import S_ISREG
from tempfile import mkdtemp
from typing import NewType

from msgspec import Struct
from packaging.requirements import InvalidRequirement

from rabbet.archives.zip_reading import BROKEN_ZIP, opened_zip
from rabbet.core.limits import MOST_METADATA, UNREADABLE
from rabbet.core.model.build import BuildKind, BuildOptions, BuildSystem
from rabbet.core.needs.need import Need
from rabbet.core.progress import Observer
from rabbet.disk.regular_file import is_there, read_regular
from rabbet.errors import BuildFailed
from rabbet.formats.text.requirement import read_requirement
from rabbet.python.builds import hook_caller
from rabbet.python.builds.missing import missing_in
from rabbet.work.supervised import build_environ, run_supervised

__all__ = ["Backend", "Workplace"]

_LINES = 8  # of its output that a failure shows
_MOST_LOOKED_AT = 100  # modules of an editable wheel
_LARGEST_LOOKED_AT = 1_000_000  # bytes
_Answer = NewType("_Answer", dict[str, object])


class Workplace(Struct, frozen=True, kw_only=True):
    """Where a build happens.

    `root` is a folder of its own for what it writes, `interpreter` that of its environment, `commands` the
    folders that programs are looked for in. Its output goes to `log`. It may take so many `seconds`. The
    `options` are those of the library that is built.
    """

    root: Path
    interpreter: Path
    commands: str
    log: Path
    seconds: int
    options: BuildOptions

    def environ(self) -> Mapping[str, str]:
        """All variables that a build gets."""
        path = f"{self.interpreter.parent}:{self.commands}"
        return {**build_environ(path, self.root), **self.options.variables}

    @property
    def settings(self) -> Mapping[str, str] | None:
        """The `config_settings` of each hook; `None` without any."""
        return self.options.settings or None


class Backend:
    """The back end of one source tree; `what` is built is a name and a version, for messages.

    All methods raise `BuildFailed`, with the end of the output, and `CannotWrite`.
    """

    def __init__(
        self, what: str, tree: Path, system: BuildSystem, place: Workplace, observer: Observer
    ) -> None:
        self._what = what
        self._tree = tree
        self._system = system
        self._place = place
        self._observer = observer

    def requirements(self, kind: BuildKind) -> tuple[Need, ...]:
        """The additional build requirements (`get_requires_for_build_*`)."""
        answer = self._call(f"get_requires_for_build_{kind}", [self._place.settings])
        told = [] if answer is None else answer["value"]
        if not isinstance(told, list) or not all(isinstance(text, str) for text in told):
            raise self._failed(["its back end returns something that is not a list of requirements"])
        try:
            return tuple(read_requirement(text) for text in told)
        except (InvalidRequirement, ValueError) as error:
            raise self._failed(
                [f"its back end returns something that is not a requirement: {error}"]
            ) from error

    def metadata(self) -> bytes | None:
        """`METADATA` of the wheel that it would build; `None` where only building it tells.

        A back end may tell it of the other kind of wheel alone, whose metadata says the same (PEP 660).
        """
        into, settings = self._folder("metadata"), self._place.settings
        hooks = ("prepare_metadata_for_build_wheel", "prepare_metadata_for_build_editable")
        answers = (self._call(hook, [str(into), settings]) for hook in hooks)
        answer = next((answer for answer in answers if answer is not None), None)
        if answer is None:
            return None
        name = answer["value"]
        file = into / name / "METADATA" if isinstance(name, str) and "/" not in name else into / "METADATA"
        try:
            return read_regular(file, most=MOST_METADATA)
        except OSError as error:
            raise self._failed([f"its back end left no metadata: {error.strerror}"]) from error

    def build(self, kind: BuildKind) -> Path:
        """Build a wheel: the one file that is left in the folder for it."""
        into = self._folder("built")
        answer = self._call(f"build_{kind}", [str(into), self._place.settings, None])
        if answer is None:
            advice = "raise its version in requires of [build-system]"
            raise self._failed([f"its back end has no hook build_{kind}", advice], output=False)
        with self._own_folders():
            left = sorted(path.name for path in into.iterdir() if path.name.endswith(".whl"))
            odd = [name for name in left if not S_ISREG((into / name).lstat().st_mode)]
        if odd:
            raise self._failed([f"what it left is not a regular file: {', '.join(odd)}"], output=False)
        if left != [answer["value"]]:
            told = f"its back end says that it built {answer['value']}"
            raise self._failed([told, f"what it left: {', '.join(left) or 'no wheel'}"], output=False)
        return into / left[0]

    def is_lasting(self, wheel: Path) -> bool:
        """Whether an editable wheel names no place of its build, which is gone afterwards.

        Some rebuild themselves at each import, with programs of the environment that they were built in. A
        wheel that can't be read is refused elsewhere.
        """
        place = os.fsencode(self._place.root)
        with suppress(OSError, *BROKEN_ZIP), wheel.open("rb") as file, opened_zip(file) as archive:
            code = [member for member in archive.infolist() if member.filename.endswith((".py", ".pth"))]
            small = [member for member in code if member.file_size <= _LARGEST_LOOKED_AT]
            return not any(place in archive.read(member) for member in small[:_MOST_LOOKED_AT])
        return True

    def _folder(self, name: str) -> Path:
        """A new folder, under a name that no hook can have taken before."""
        with self._own_folders():
            return Path(mkdtemp(prefix=f"{name}-", dir=self._place.root))

    @contextmanager
    def _own_folders(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            told = f"the folders of its build can't be used any more: {error.strerror}"
            raise self._failed([told], output=False) from error

    def _call(self, hook: str, arguments: Sequence[object]) -> _Answer | None:
        """A hook's result; `None` if the back end has no such hook."""
        exchange = self._folder("call")
        request, answer = exchange / "request.json", exchange / "answer.json"
        call = {
            "backend": self._system.backend,
            "backend_path": [str(self._tree / folder) for folder in self._system.backend_path],
            "hook": hook,
            "arguments": arguments,
        }
        with self._own_folders():
            request.write_text(json.dumps(call), encoding="utf-8")
        ending = run_supervised(
            [str(self._place.interpreter), "-I", hook_caller.__file__, str(request), str(answer)],
            self._place.environ(),
            self._tree,
            log=self._place.log,
            seconds=self._place.seconds,
            waiting=lambda seconds: self._observer.waiting(f"{hook} of {self._what}, {seconds} s"),
        )
        if ending.code != 0 or not is_there(answer):
            missing = missing_in(ending.output, self._what.split()[0])
            raise self._failed([f"{hook}: {ending.reason}", *missing, *ending.last_lines(_LINES)])
        try:
            told = json.loads(read_regular(answer, most=MOST_METADATA))
        except (OSError, *UNREADABLE) as error:
            raise self._failed([f"{hook}: its answer can't be read: {error}"]) from error
        if not isinstance(told, dict) or not {"missing", "lacking", "value"} & told.keys():
            raise self._failed([f"{hook}: its answer is not one"])
        if told.get("missing"):
            wrong = f"its back end {self._system.backend} is not there: {told['missing']}"
            raise self._failed([wrong, "what it needs is listed in requires of [build-system]"], output=False)
        return None if told.get("lacking") else _Answer(told)

    def _failed(self, because: Sequence[str], *, output: bool = True) -> BuildFailed:
        note = f"its whole output is in {self._place.log}" if output else ""
        return BuildFailed(f"{self._what} can't be built", because=because, note=note)
