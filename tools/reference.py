"""Write the pages of `docs/reference` that follow from the code, and the one for `man`; `--check` compares.

What the code can't say, such as what a variable is for, stands here in tables; a variable or exit code that
is missing in them is an error.
"""

import argparse
import json
import sys
from collections.abc import Iterator
from pathlib import Path

from rabbet import __version__
from rabbet.cli.parsers import parser_for
from rabbet.cli.registry import COMMANDS, HEADINGS
from rabbet.core.declaration.keys import KEYS
from rabbet.errors import ExitCode

PROJECT = Path(__file__).resolve().parent.parent
VARIABLES = {
    "RABBET_BUILD_SECONDS": "how long a hook of a build may take (3600)",
    "RABBET_CENSUS": "a database of inventories, in place of git",
    "RABBET_ENVIRONMENT": "set by Rabbet: the environment that a process is inside of",
    "RABBET_OFFLINE": "anything but `0` and the empty text: ask no network",
    "RABBET_SHARE_FILES": "`0`: environments get files of their own",
    "RABBET_SOURCE": "the source where the declaration names none",
    "RABBET_SOURCE_NAME_USERNAME, RABBET_SOURCE_NAME_PASSWORD": "credentials",
    "RABBET_SOURCE_NAME_ORIGIN": "the address that these credentials are for",
    "RABBET_DATA": "where projects with a name lie, and what is kept of scripts",
    "RABBET_STATE": "where notes lie that can't be made again: on environments, agreements, the label",
    "RABBET_STORE": "where the store lies",
    "NO_COLOR": "set to anything but the empty text: no colour",
    "NETRC": "the file with credentials for sources, in place of `~/.netrc`",
    "SSL_CERT_FILE, SSL_CERT_DIR": "certificates to trust, in place of the system's",
    "HTTP_PROXY, HTTPS_PROXY, NO_PROXY": "a proxy for requests, and the hosts that are asked without it",
}
SETTINGS = {
    "source": "the source of projects that declare none (`declare --source ADDRESS --for-all-projects`)",
    "now": "`true`: commands that take `--now` do so by themselves",
    "share-files": "`false`: environments get files of their own, and share none with the store",
    "languages": "tables of languages that Rabbet does not know, trusted on this machine",
    "catalogues": "catalogues of runtimes: tables with `name` and `url`",
    "origins": "the addresses that credentials of a source's name are for",
}
FILES = {
    "pyproject.toml": "the declaration: standard tables, and `[tool.rabbet]`",
    "pylock.toml, pylock.NAME.toml": "the lock (PEP 751), of the project and of a variant",
    ".venv, .venv-NAME": "the environment (PEP 405), of the project and of a variant",
    "rabbet.preferred.toml": "versions that the next lock prefers; gone once it is made",
    "Containerfile, .containerignore, .devcontainer/devcontainer.json": "written by `export`, and marked",
    "named/NAME/, scripts/KEY/": "projects with a name, what is kept of scripts; in the folder for data",
    "settings.toml": "your own settings, in the platform's folder for configuration",
    "runs.jsonl, faults/": "the last runs, and reports of mistakes, in the platform's folder for state",
}
MADE = "Made from the code by `make reference`; a test holds it to that."
EXIT_CODES = {
    ExitCode.DONE: "done",
    ExitCode.NO: "the answer is no: drift, a lock that is out of date, no culprit",
    ExitCode.USAGE: "wrong usage",
    ExitCode.NOT_UNDERSTOOD: "a file, or a requirement in it, can't be read",
    ExitCode.NO_SOLUTION: "no solution",
    ExitCode.SOURCE: "a source failed, or a git remote or revision is not there",
    ExitCode.INTEGRITY: "integrity: a hash or a path is not what it should be",
    ExitCode.ENVIRONMENT: "a runtime, an environment, a folder or the disk: missing or not usable",
    ExitCode.FAULT: "a fault in Rabbet itself",
    ExitCode.INTERRUPTED: "interrupted",
    ExitCode.UNREAD: "the reader of the output closed it, such as `head`",
}


def main() -> int:
    """Write all pages, or compare."""
    pages = {
        "docs/reference/commands.md": commands(),
        "docs/reference/keys-and-files.md": keys_and_files(),
        "docs/reference/json.md": json_documents(),
        "docs/man/rabbet.1": manual(),
    }
    stale = [name for name, text in pages.items() if not _is(PROJECT / name, text)]
    if "--check" in sys.argv:
        print("\n".join(f"{name} is not what the code says: make reference" for name in stale), end="")
        return 1 if stale else 0
    for name in stale:
        (PROJECT / name).parent.mkdir(exist_ok=True)
        (PROJECT / name).write_text(pages[name], encoding="utf-8")
        print(f"wrote {name}")
    return 0


def _is(path: Path, text: str) -> bool:
    return path.is_file() and path.read_text(encoding="utf-8") == text


def commands() -> str:
    """Everything that can be typed."""
    lines = ["# Commands", "", MADE, ""]
    lines += [
        "Every command takes `--quiet`, `--verbose` and `--help`. Before a command: `--trace`, `--version`.",
        "",
    ]
    for heading in HEADINGS:
        lines += [f"## {heading}", ""]
        for name, (place, _, summary) in COMMANDS.items():
            if place == heading:
                lines += _command(name, summary)
    return "\n".join(lines)


def keys_and_files() -> str:
    """Everything that is written and read, and what a command ends with."""
    lines = ["# Keys, files, variables, exit codes", "", MADE, ""]
    lines += ["## Keys of `[tool.rabbet]`", "", "| key | what it is |", "|---|---|"]
    lines += [f"| `{key.name}` | {key.purpose} |" for key in sorted(KEYS)]
    lines += ["", "## Files", "", "| file | what it is |", "|---|---|"]
    lines += [f"| `{name}` | {told} |" for name, told in FILES.items()]
    lines += ["", "## Settings", "", "Keys of `settings.toml`:", "", "| key | what it is for |", "|---|---|"]
    lines += [f"| `{name}` | {told} |" for name, told in SETTINGS.items()]
    lines += ["", "## Variables", "", "| variable | what it does |", "|---|---|"]
    lines += [f"| `{name}` | {told} |" for name, told in sorted(VARIABLES.items())]
    lines += ["", "## Exit codes", "", "| code | what it says |", "|---|---|"]
    lines += [f"| {int(code)} | {EXIT_CODES[code]} |" for code in ExitCode]
    lines += ["", "[errors.md](errors.md) tells of each error: what you see, why, what to do.", ""]
    return "\n".join(lines)


def json_documents() -> str:
    """Every JSON document."""
    lines = ["# JSON documents", "", MADE, ""]
    lines += [
        'One document on standard output, with `"schema": "rabbet.NAME/1"`; each name has one shape, which',
        "[schemas/](../schemas) tells (JSON Schema). The suite checks every document that a test provokes.",
        "Keys may be added; none changes its meaning in one number. With `--verbose` each but `error` has",
        "`traffic`: what was asked of each host.",
        "",
        "| document | what it is | keys |",
        "|---|---|---|",
    ]
    lines += [
        f"| [`{name}`](../schemas/{name}.schema.json) | {title} | {', '.join(f'`{key}`' for key in keys)} |"
        for name, title, keys in documents()
    ]
    return "\n".join([*lines, ""])


def _command(name: str, summary: str) -> Iterator[str]:
    """A command with its arguments, as the parser has them."""
    parser = parser_for(name)
    yield from (f"### rabbet {name}", "", f"{summary[:1].upper()}{summary[1:]}.", "")
    told = (parser.description or "").partition("\n\n")[2]
    if told:
        yield from (" ".join(told.split()), "")
    rows = [row for row in map(_row, parser._actions) if row]  # noqa: SLF001 - argparse has no other way
    if rows:
        yield from ("| argument | what it does |", "|---|---|", *rows, "")


def _row(action: argparse.Action) -> str:
    if action.help == argparse.SUPPRESS or set(action.option_strings) & {"--help", "--quiet", "--verbose"}:
        return ""
    shown = action.metavar or ("|".join(action.choices) if action.choices else action.dest)
    shown = " ".join(shown) if isinstance(shown, tuple) else shown
    takes_value = action.nargs != 0 and not isinstance(action, argparse._StoreTrueAction)  # noqa: SLF001
    if action.option_strings:
        text = f"{action.option_strings[0]}{f' {shown}' if takes_value else ''}"
    else:
        text = shown
    told = (action.help or "").replace("%(default)s", str(action.default)).replace("|", "\\|")
    return f"| `{text.replace('|', chr(92) + '|')}` | {told} |"


def documents() -> Iterator[tuple[str, str, list[str]]]:
    """The JSON documents by their names, with what each is, and the keys at its top."""
    for path in sorted((PROJECT / "docs" / "schemas").glob("*.json")):
        schema = json.loads(path.read_text(encoding="utf-8"))
        keys = [key for key in schema["properties"] if key not in ("schema", "traffic")]
        yield path.name.partition(".")[0], schema["title"], keys


def manual() -> str:
    """One page for `man`, of all commands."""
    lines = [f'.TH RABBET 1 "" "Rabbet {__version__}" "User Commands"', ".SH NAME"]
    lines += [r"rabbet \- declare, resolve and recreate a project's runtime and libraries, and notice drift"]
    lines += [".SH SYNOPSIS", r"\fBrabbet\fR [\-\-trace] \fICOMMAND\fR \&..."]
    for name, (_, _, summary) in COMMANDS.items():
        parser = parser_for(name)
        lines += [f'.SH "RABBET {name.upper()}"', _roff(f"{summary[:1].upper()}{summary[1:]}.")]
        told = (parser.description or "").partition("\n\n")[2]
        lines += [".PP", _roff(" ".join(told.split()))] if told else []
        for row in filter(None, map(_row, parser._actions)):  # noqa: SLF001 - as above
            _, argument, help_text, _ = row.replace("\\|", "\0").split("|")
            lines += [".TP", rf"\fB{_roff(argument.strip().strip('`'))}\fR", _roff(help_text.strip())]
    lines += [".SH EXIT STATUS"]
    for code in ExitCode:
        lines += [".TP", f"\\fB{int(code)}\\fR", _roff(EXIT_CODES[code])]
    return "\n".join([*lines, ""])


def _roff(text: str) -> str:
    """A text as roff reads it."""
    text = text.replace("\0", "|").replace("\\", r"\e").replace("-", r"\-").replace("`", "")
    return rf"\&{text}" if text[:1] in ".'" else text


if __name__ == "__main__":
    sys.exit(main())
