"""Languages beside Python: those that Rabbet knows, that are declared, and what this machine has of them."""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.language import Language
from rabbet.core.model.runtime import Refusal, Runtime
from rabbet.core.near_names import near_names
from rabbet.errors import NotUnderstood
from rabbet.formats.project.language_table import read_languages
from rabbet.formats.text.toml import parse_toml
from rabbet.runtimes.probe import probe_languages
from rabbet.runtimes.search import Look, Program
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.runtimes.obtained_here import obtained_runtimes

__all__ = ["found_runtimes", "known_languages", "languages_for", "main_programs", "unknown_language"]


def known_languages() -> Mapping[str, Language]:
    """The languages of the table, by their names."""
    from importlib.resources import (
        files,
    )  # here: it takes long to import, and most projects need Python alone

    name = "languages.toml"
    table = parse_toml(files("rabbet.runtimes").joinpath(name).read_text(encoding="utf-8"), name)
    languages = read_languages(table, trusted=True)
    table.problems.raise_if_any()
    return languages


_UNTRUSTED = (
    "only the project tells of this language: it is asked once [languages.{}] is in your settings.toml"
)
_A_SCRIPT = "it is a script, which may start one or another"
_A_LAUNCHER = "it is a link to {}, which may start one or another"


def languages_for(
    declaration: Declaration | None, machine: Machine, *, written: bool = True
) -> Mapping[str, Language]:
    """Rabbet's own table, what the user's settings say, and what the project adds that neither knows.

    Raises `NotUnderstood` for a declared runtime of a language that none of them tells of; `written` says
    whether the declaration is in its file already.
    """
    known = {**known_languages(), **machine.settings().languages}
    if declaration is None:
        return known
    known = {**declaration.languages, **known}
    for runtime in declaration.runtimes:
        for name in (runtime.language, *runtime.needs):
            if name not in known and name != "python":
                remedy = f"rabbet retract --runtime {runtime.language}" if written else "rabbet runtimes"
                raise unknown_language(name, known, remedy)
    return known


def unknown_language(name: str, known: Iterable[str], remedy: str = "rabbet runtimes") -> NotUnderstood:
    """The error for a language that no table describes: declared, locked, or named on the command line."""
    near = near_names(name, ["python", *known])
    return NotUnderstood(
        f"Rabbet knows no language named {name}",
        because=[f"near {name}: {', '.join(near)}"] if near else [f"known are: python, {', '.join(known)}"],
        note="a table [tool.rabbet.languages] can tell of more languages",
        remedy=remedy,
    )


def main_programs(machine: Machine, more: Iterable[str] = (), look: Look | None = None) -> Iterator[Path]:
    """The main programs of the languages in Rabbet's own table and in the user's settings, and `more`."""
    names = {language.programs[0] for language in languages_for(None, machine).values()} | {*more}
    for program in machine.programs(names.__contains__, look):
        yield Path(program.path)


def found_runtimes(
    languages: Iterable[Language], machine: Machine, project: Project | None = None
) -> dict[str, tuple[Runtime | Refusal, ...]]:
    """The runtimes of each language on this machine, by its name, in the order of finding.

    Of what was obtained only what counts for the project; its version is the catalogue's.
    """
    wanted = list(languages)
    by_program: defaultdict[str, list[Language]] = defaultdict(list)
    for language in wanted:
        by_program[language.programs[0]].append(language)
    found: defaultdict[str, list[Path | Refusal]] = defaultdict(list)
    for program in machine.programs(by_program.__contains__):
        for language in by_program[program.name]:
            doubt = _doubt(program, language)
            refusal = Refusal(executable=program.path, reason=doubt, language=language.name)
            found[language.name].append(refusal if doubt else Path(program.path))
    programs = [
        (language, fromkey)
        for language in wanted
        for fromkey in dict.fromkeys(found[language.name])
        if isinstance(fromkey, Path)
    ]
    told = probe_languages(programs, machine.store.runtimes, machine.helpers_environ())
    answers = {
        (language.name, program): answer for (language, program), answer in zip(programs, told, strict=True)
    }
    obtained = obtained_runtimes(machine, project)
    return {
        name: (
            *(runtime for runtime in obtained if runtime.language == name),
            *(
                answers[name, fromkey] if isinstance(fromkey, Path) else fromkey
                for fromkey in dict.fromkeys(found[name])
            ),
        )
        for name in [language.name for language in wanted]
    }


def _doubt(program: Program, language: Language) -> str:
    """Why a program is not asked for its version; empty if it is."""
    real = Path(program.path).name
    if not language.trusted:
        return _UNTRUSTED.format(language.name)
    if not real.startswith(program.name):
        return _A_LAUNCHER.format(real)
    return _A_SCRIPT if program.is_script and not language.is_script else ""
