"""Missing parts of a failed build, by the output of compilers, linkers and back ends."""

import re
from collections.abc import Iterator

__all__ = ["missing_in"]

_MOST = 3  # things that are told
_READ = 200_000  # characters of the output's end
_WORD = r"[\w.+/-]{1,100}"
_QUOTE = r"[\"'`‘]"
_HEADER = (
    rf"fatal error: {_QUOTE}?(?P<name>{_WORD}){_QUOTE}?:? (?:No such file or directory|file not found)",
    rf"Cannot open include file: '(?P<name>{_WORD})'",
)
_LIBRARY = (
    rf"\bcannot find -l(?P<name>{_WORD})",
    rf"library not found for -l(?P<name>{_WORD})",
    rf"Package '?(?P<name>{_WORD})'?(?:, required by '[^'\n]*',)? (?:was )?not found",
    rf"No package '(?P<name>{_WORD})' found",
    rf"\bDependency {_QUOTE}(?P<name>{_WORD}){_QUOTE} (?:not found|is required but not found)",
    rf"Could NOT find (?P<name>{_WORD}) \(missing: ",
    rf"Could not find a package configuration file provided by \"(?P<name>{_WORD})\"",
)
_PROGRAM = (
    rf"^(?:/bin/)?(?:ba|da|z)?sh: (?:line )?[0-9]+: (?P<name>{_WORD}): (?:command )?not found",
    rf"^make(?:\[[0-9]+\])?: (?P<name>{_WORD}): No such file or directory",
    r"FileNotFoundError: \[Errno 2\] No such file or directory: '(?P<name>[\w.+-]{1,100})'$",
    rf"error: command '(?P<name>{_WORD})' failed: No such file or directory",
    rf"\bProgram {_QUOTE}(?P<name>{_WORD}){_QUOTE} not found",
    rf"Unknown compiler\(s\): \[\['(?P<name>{_WORD})'",
    rf"^Error: (?P<name>{_WORD}) executable not found",
)
_CAPITALS = r"(?P<name>[A-Z][A-Z0-9]*(?:_[A-Z0-9]+){1,20})"
_MODULE = (r"ModuleNotFoundError: No module named '(?P<name>\w{1,100})[\w.]*'",)
_VARIABLE = (
    r"\bos\.environ\[.{0,300}\n(?:.{0,300}\n){0,6}?KeyError: '(?P<name>[A-Za-z_]\w{0,99})'",
    rf"(?:environment variable|[Pp]lease set|must set) [\"'`$]{{0,2}}{_CAPITALS}\b",
    rf"\b{_CAPITALS}[\"'`]{{0,2}} (?:environment variable )?(?:is not|isn't|not) set",
    rf"set the version in the environment with {_CAPITALS}\b",
)


def missing_in(output: str, name: str) -> tuple[str, ...]:
    """The missing parts that a build's output names, and where to get them: a sentence each."""
    options = f"[tool.rabbet.builds.{name}]"
    end = output[-_READ:]
    kinds = (
        ("header", _HEADER, "a package of the system holds it"),
        ("library", _LIBRARY, "a package of the system holds it"),
        ("program", _PROGRAM, "a package of the system, or of the sources, holds it"),
        ("module", _MODULE, f"needs of {options} give it"),
        ("variable", _VARIABLE, f"variables of {options} set it"),
    )
    told = [
        f"its output names a missing {kind}, {missing}: {remedy}"
        for kind, patterns, remedy in kinds
        for missing in _named(patterns, end)
    ]
    return tuple(told[:_MOST])


def _named(patterns: tuple[str, ...], output: str) -> Iterator[str]:
    """Each name once, in the order of the patterns."""
    yield from dict.fromkeys(
        found["name"] for pattern in patterns for found in re.finditer(pattern, output, re.MULTILINE)
    )
