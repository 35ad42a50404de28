"""The project: found by walking up from the current folder; its declaration and lock read from there."""

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, TypeVar

from rabbet.core.shell import quoted
from rabbet.disk.regular_file import is_there
from rabbet.disk.text_file import read_text
from rabbet.errors import EnvironmentFailed, NoDeclaration, NoLock, WrongUsage

if TYPE_CHECKING:
    from rabbet.core.declaration.model import Declaration
    from rabbet.core.model.build import Told
    from rabbet.core.model.lock import Lock

__all__ = [
    "DECLARATION",
    "ENVIRONMENT",
    "LOCK",
    "PREFERRED",
    "Project",
    "Script",
    "behind",
    "find_project",
    "not_made_here",
    "stamp_of",
]

DECLARATION = "pyproject.toml"
LOCK = "pylock.toml"
ENVIRONMENT = ".venv"
PREFERRED = "rabbet.preferred.toml"

_Key = TypeVar("_Key")
_Value = TypeVar("_Value")
_MOST_PARSED = 16  # texts of a project whose meaning is kept: a process that lives long sees many


class _Parsed(NamedTuple):
    """Parsed declarations by their text and what else they were read with; locks by text and file name."""

    declarations: "dict[tuple[str, bool, Told | None], Declaration]"
    locks: "dict[tuple[str, str], Lock]"


class Script(NamedTuple):
    """A file with inline metadata (PEP 723), and the folder of its own where what Rabbet keeps of it lies."""

    file: Path
    home: Path


class Project:
    """A project by its folder, or a named variant of it, which has a lock and an environment of its own.

    Its files are read at each question, so that no answer is older than they are; a text is parsed once. A
    `script` is a project too: paths in its metadata count from the folder that it lies in, while declaration,
    lock and environment lie in its `home`, which for all others is the folder itself.
    """

    __slots__ = ("_parsed", "_text", "folder", "script", "variant")

    def __init__(
        self,
        folder: Path,
        variant: str | None = None,
        text: str | None = None,
        script: Script | None = None,
    ) -> None:
        """The project in a folder; with a `text`, as if that were its declaration."""
        self.folder = folder
        self.variant = variant
        self.script = script
        self._text = text
        self._parsed = _Parsed({}, {})

    def of(self, variant: str | None) -> "Project":
        """A variant of the project, or (`None`) the project itself."""
        found = Project(self.folder, variant, self._text, self.script)
        found._parsed = self._parsed
        return found

    def with_text(self, text: str) -> "Project":
        """The same project as if its declaration were this text."""
        return Project(self.folder, self.variant, text, self.script)

    @property
    def home(self) -> Path:
        """Where its declaration, its lock and its environment lie."""
        return self.script.home if self.script else self.folder

    @property
    def fallback_name(self) -> str:
        """Its name where the declaration says none; that of a script, `report-py`, is no library's."""
        return self.script.file.name.replace(".", "-") if self.script else self.folder.name

    @property
    def has_setup(self) -> bool:
        """Whether a `setup.py` belongs to it."""
        return self.script is None and (self.folder / "setup.py").is_file()

    @property
    def only_file(self) -> str | None:
        """The one file of code that belongs to it; `None` for a project, to which all in its folder do."""
        return self.script.file.name if self.script else None

    @property
    def declared_in(self) -> str:
        """The name of the file that people edit."""
        return self.script.file.name if self.script else DECLARATION

    @property
    def declaration_file(self) -> Path:
        """The declaration's file."""
        return self.home / DECLARATION

    @property
    def lock_file(self) -> Path:
        """The lock's file."""
        name = self.script.file.stem.replace(".", "-") if self.script else self.variant
        return self.home / (f"pylock.{name}.toml" if name else LOCK)

    @property
    def own_locks(self) -> tuple[Path, ...]:
        """The files that may hold what the project's build told: its own lock, and the variant's."""
        return (self.home / LOCK, self.lock_file)

    @property
    def preferred_file(self) -> Path:
        """Versions that the next lock should prefer; it is there only until that is made."""
        return self.home / PREFERRED

    @property
    def environment(self) -> Path:
        """The environment's folder."""
        return self.home / (f"{ENVIRONMENT}-{self.variant}" if self.variant else ENVIRONMENT)

    def declaration(self) -> "Declaration":
        """Read the declaration, as the variant sees it. Raises `NotUnderstood`, `WrongUsage`.

        What it leaves to the project's build stands in the lock; `resolve` asks the build.
        """
        whole = self.declaration_with(None)
        if whole.by_build:
            from rabbet.workspace.told import noted_told

            whole = self.declaration_with(noted_told(self.folder, self.own_locks))
        if self.variant is None:
            return whole
        if self.variant not in whole.variants:
            from rabbet.core.near_names import near_names

            near = near_names(self.variant, whole.variants)
            raise WrongUsage(
                f"the project has no variant '{self.variant}'",
                because=[f"it has: {', '.join(sorted(whole.variants)) or 'none'}"],
                meant=(self.variant, near[0]) if near else None,
                remedy="rabbet declare",
            )
        return whole.varied(self.variant)

    def declaration_with(self, told: "Told | None") -> "Declaration":
        """Read the whole declaration with what the project's build told. Raises `NotUnderstood`."""
        from rabbet.formats.project.pyproject import read_declaration

        text = read_text(self.declaration_file, by_hand=True) if self._text is None else self._text
        has_setup = self.has_setup
        return _once(
            self._parsed.declarations,
            (text, has_setup, told),
            lambda: read_declaration(
                text, folder_name=self.fallback_name, where=self.declared_in, has_setup=has_setup, told=told
            ),
        )

    def lock_stamp(self) -> str:
        """A digest of the lock's text, by which an environment notes what it was made from.

        Raises `NotUnderstood` where there is none that can be read.
        """
        return stamp_of(read_text(self.lock_file))

    def lock(self, parse: "Callable[[str], dict[str, object]] | None" = None) -> "Lock":
        """Read the lock, perhaps with another way to `parse` TOML. Raises `NoLock`, `NotUnderstood`."""
        path = self.lock_file
        if not is_there(path):
            if self.variant is not None:
                self.declaration()  # which refuses a variant that there is not
            raise NoLock(f"there is no {path.name} in {self.folder}", remedy="rabbet resolve")
        return self.parsed_lock(read_text(path), path.name, parse)

    def parsed_lock(
        self, text: str, file: str, parse: "Callable[[str], dict[str, object]] | None" = None
    ) -> "Lock":
        """The lock that a text holds, called by its file's name. Raises `NotUnderstood`."""
        from rabbet.formats.pylock import read_lock
        from rabbet.formats.text.toml import parse_content

        return _once(
            self._parsed.locks, (text, file), lambda: read_lock(text, file, parse=parse or parse_content)
        )


def _once(known: "dict[_Key, _Value]", key: "_Key", read: "Callable[[], _Value]") -> "_Value":
    """The cached value of a key, else the result of reading it; safe for several threads."""
    found = known.get(key)
    if found is None:
        found = read()
        if len(known) >= _MOST_PARSED:
            known.clear()
        known[key] = found
    return found


def find_project(folder: Path) -> Project:
    """Look for a declaration in this folder and the ones above it. Raises `NoDeclaration`."""
    for place in (folder, *folder.parents):
        if (place / DECLARATION).is_file():
            return Project(place)
    from rabbet.workspace.evidence.signs import signs_of_work

    signs, message = signs_of_work(folder), f"no {DECLARATION} in {folder} or above it"
    if signs:
        here = f"there is something here to draw one up from: {', '.join(signs)}"
        raise NoDeclaration(message, because=[here], remedy="rabbet adopt", or_else=["rabbet begin"])
    raise NoDeclaration(message, remedy="rabbet begin")


def behind(project: Project) -> str | None:
    """Why the lock is not up to date, if the two files tell that it is not.

    Raises `NoLock`, `NotUnderstood`.
    """
    from rabbet.formats.pylock import edited_by_hand

    lock = project.lock()
    if lock.fingerprint != project.declaration().fingerprint():
        return "the declaration changed since it was made"
    edited = edited_by_hand(lock)
    return f"it was edited by hand ({', '.join(edited)})" if edited else None


def not_made_here(project: Project) -> EnvironmentFailed:
    """The refusal to run, change or remove an environment that this user's Rabbet did not create.

    It may have come with a clone, or hold somebody's work.
    """
    root = project.environment
    why = (
        "it is a link"
        if root.is_symlink()
        else "it is not registered on this machine: it may come from a clone or another machine"
    )
    there, aside = quoted(str(root)), quoted(f"{root}-before")
    return EnvironmentFailed(
        f"{root} was not made here by your Rabbet, so it was not changed",
        because=[why, "nothing of it is run, and it may hold something that you want to keep"],
        remedy=f"mv {there} {aside} && rabbet recreate",
    )


def stamp_of(lock: str) -> str:
    """The digest of a lock's text, whichever line ends it was checked out with."""
    from hashlib import sha256

    return sha256(lock.replace("\r\n", "\n").encode()).hexdigest()
