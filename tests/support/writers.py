"""Every writer of text that holds what somebody else named, and what of it must not depend on the names."""

import csv
import io
import json
import os
import random
import subprocess
import tempfile
import tomllib
from collections.abc import Callable, Iterator, Mapping
from html.parser import HTMLParser
from pathlib import Path
from typing import NamedTuple
from unittest import mock

from packaging.version import Version

from rabbet.cli.failures.failure import document, reasons, ways
from rabbet.cli.failures.run_log import log_file, note_run
from rabbet.cli.terminal.observer import observer_for
from rabbet.cli.terminal.style import COLOURED, table
from rabbet.core.culprit.outcome import Symptom
from rabbet.core.declaration.edit import Edit
from rabbet.core.model.lock import (
    Lock,
    LockedArchive,
    LockedCheckout,
    LockedCommit,
    LockedLibrary,
    LockedWheel,
    Selection,
)
from rabbet.core.needs.names import library_name
from rabbet.errors import RabbetError, Way
from rabbet.exports.bill import bill
from rabbet.exports.container import Container, containerfile, editor_description
from rabbet.exports.lists import lock_table, requirement_list
from rabbet.formats.project.pyproject_edit import apply
from rabbet.formats.pylock import write_lock
from rabbet.formats.text.address import NotAnAddress, parse_address
from rabbet.formats.text.csv_text import csv_lines
from rabbet.proving.evidence import show_script
from rabbet.proving.runner import TestedCommand
from rabbet.python.choosing.targets import named_target
from rabbet.team.sheet import Cell, Column, Line, Sheet, page

TARGET = named_target("linux-x86_64", "3.12", {})
DIGEST = "ab" * 32
# What ends a line, a string, a tag or a comment somewhere, or begins something else.
_MORSELS = (
    *("\n", "\r", "\r\n", "\v", "\f", "\0", "\x1b[2J", "\x1b]0;x\x07", "\x85", "\u2028", "\u2029", "\u202e"),
    *('"', "'", "\\", "\\\n", "`touch HERE`", "$(touch HERE)", "${HOME}", "%(x)s", "{{ 1 }}", "{% raw %}"),
    *("</style>", "<script>", "<!--", "-->", "]]>", "&lt;", "#", ";", "&&", "|", ",", "=1+1", "@x", "\t"),
    *(" --index-url x", "\nRUN x", "\n[tool.x]\n", '"""', "'''", "<<END", "://u:p@h/", "é", " ", "\ud800"),
)


class Writer(NamedTuple):
    """A text around a name, and the parts of it that no name may change."""

    write: Callable[[str], str]
    shape: Callable[[str], object]


def _utf8(name: str) -> str:
    """A name as a text in UTF-8 can hold it: readers refuse what it can't."""
    return name.encode("utf-8", "replace").decode()


def names(chance: random.Random) -> Iterator[str]:
    """Endless names that nobody would give, made of what means something to some reader."""
    while True:
        yield "".join(["a", *(chance.choice(_MORSELS) for _ in range(chance.randrange(1, 5))), "b"])


class _Tags(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.found: list[object] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.found.append((tag, [name for name, _ in attrs]))

    def handle_endtag(self, tag: str) -> None:
        self.found.append(tag)

    def handle_comment(self, data: str) -> None:
        self.found.append(data)


def _tags(text: str) -> object:
    tags = _Tags()
    tags.feed(text)
    tags.close()
    return tags.found


def _keys(value: object) -> object:
    """The keys of a document, and the lengths of its lists."""
    if isinstance(value, dict):
        return {key: _keys(inner) for key, inner in value.items()}
    return [_keys(inner) for inner in value] if isinstance(value, list) else type(value).__name__


def _json(text: str) -> object:
    return _keys(json.loads(text))


def _lines(text: str) -> object:
    """How many lines there are, what begins them, and that none does something to a terminal."""
    plain = text.replace(COLOURED.heading, "").replace(COLOURED.end, "").replace("\n", "")
    assert plain.isprintable(), ascii(text)
    return [line.split(" ", 1)[0][:1] for line in text.split("\n")]


def _words(text: str) -> object:
    """The same with the first word of each line."""
    return _lines(text), [line.split(" ", 1)[0] for line in text.splitlines() if line[:1] != " "]


def _toml(text: str) -> object:
    return _keys(tomllib.loads(text))


def _rows(text: str) -> object:
    rows = list(csv.reader(io.StringIO(text)))
    assert not any(cell[:1] in "=+@" for row in rows for cell in row if len(cell) > 1), rows
    return [len(row) for row in rows]


def _lock(name: str) -> Lock:
    """A lock with a name wherever a lock holds a text that nobody checks."""
    try:
        url = parse_address(f"https://apiary.example/{name}").text
    except NotAnAddress:
        url = "https://apiary.example/"
    wheel = "combframe-1.0-py3-none-any.whl"
    origins = {
        "mitewatch": LockedCheckout(path=name),
        "skepio": LockedCommit(url=url, commit="a" * 40, requested=name, subdirectory=name),
        "tallywax": LockedArchive(filename="tallywax-1.0.tar.gz", url=url, sha256=DIGEST),
        "combframe": LockedWheel(filename=wheel, sha256=DIGEST, size=1, url=url),
    }
    libraries = [
        LockedLibrary(name=library_name(named), version=Version("1.0"), artifacts=(origin,))
        for named, origin in origins.items()
    ]
    return Lock(
        requires_python=None, environments=(), groups=(), libraries=tuple(libraries), fingerprint=None
    )


def _list(name: str) -> str:
    return requirement_list(_lock(name), [TARGET], Selection(), name)


def _container(name: str) -> str:
    return containerfile(
        Container(
            base=name,
            python="3.12",
            distribution="debian",
            packages=("libpq5",),
            options=name,
            carrying=name,
            environment=name,
            installed=True,
            command=(name, name),
        )
    )


def _bill(name: str) -> str:
    return bill(_lock(name), {"name": name}, (), lambda _: name, "1")


def _edited(name: str) -> str:
    before = '[project]\nname = "hivescale"\n'
    return apply(before, [Edit(verb="declare", what="local", name="combframe", value=name)])[0]


def _sheet(name: str) -> str:
    column = Column(name=name, labels=(name, name), text=name, mend=name, weight=name)
    cell = Cell(text=name, weight=name, detail=name)
    line = Line(name=name, breaking=1, differing=2, cells=(cell,))
    sheet = Sheet(
        title=name, outcome=name, legend=name, columns=(column,), lines=(line, line), doubts=(name,)
    )
    return page(sheet)


def _observed(name: str, *, verbose: bool) -> str:
    """What an observer tells of a stage, a step and a failure."""
    stream = io.StringIO()
    observer = observer_for(stream, quiet=False, verbose=verbose)
    observer.stage(name, 3, size=5)
    observer.step(name)
    observer.waiting(name)
    observer.told(name, [name])
    observer.close()
    return stream.getvalue()


def _failure(name: str) -> str:
    told = [*reasons(name, [name, name], io.StringIO()), *ways("", [Way(f"rabbet {name}")], io.StringIO())]
    return "\n".join(told)


def _failure_document(name: str) -> str:
    return document(RabbetError(name, because=[name], note=name, remedy=f"rabbet {name}"))


def _logged(name: str) -> str:
    with tempfile.TemporaryDirectory() as folder, mock.patch.dict(os.environ, RABBET_STATE=folder):
        note_run(["lookup", name], 5, 1.0, name)
        return log_file().read_text()


def _log_lines(text: str) -> object:
    return [_json(line) for line in text.splitlines()]


def _script(name: str) -> str:
    """The script for two folders of that name."""
    told = name.translate({0: None, ord("/"): None, ord(":"): None})
    command = TestedCommand(
        words=("python", name.replace("\0", "")),
        folder=Path("/") / told,
        symptom=Symptom(),
        seconds=1,
        repeat=1,
    )
    with tempfile.TemporaryDirectory() as folder:
        roots = {state: Path(folder) / told / state for state in ("passing", "failing")}
        for root in roots.values():
            (root / "bin" / "python").mkdir(parents=True)
        return show_script(roots, command)


def _said(text: str) -> object:
    """What the script does when it is run: folders and commands are replaced by what tells their words."""
    told = (
        'cd() { echo cd $#; }; env() { for word do :; done; echo env $#; }; echo() { printf "%s\\n" "$#"; }'
    )
    done = subprocess.run(["sh", "-c", f"{told}\n{text}"], capture_output=True, text=True, check=False)
    assert not done.stderr, done.stderr
    return done.stdout


def _csv(name: str) -> str:
    return "\n".join(csv_lines([name, name], [[name, name, name], [name, name, name]]))


WRITERS: Mapping[str, Writer] = {
    "requirement list": Writer(_list, _words),
    "Containerfile": Writer(_container, _words),
    "description for editors": Writer(lambda name: editor_description(name, name), _json),
    "bill of materials": Writer(lambda name: _bill(_utf8(name)), _json),
    "lock that is written": Writer(lambda name: write_lock(_lock(_utf8(name))), _toml),
    "declaration that is edited": Writer(lambda name: _edited(_utf8(name)), _toml),
    "census page": Writer(_sheet, _tags),
    "comma-separated values": Writer(_csv, _rows),
    "table of a lock": Writer(lambda name: lock_table(_lock(name), (), lambda _: name), _rows),
    "table": Writer(lambda name: "\n".join(table(["a", "b"], [[name, name]], COLOURED)), _lines),
    "lines of progress": Writer(lambda name: _observed(name, verbose=False), _lines),
    "steps of progress": Writer(lambda name: _observed(name, verbose=True), _lines),
    "failure": Writer(_failure, _words),
    "failure as a document": Writer(_failure_document, _json),
    "log of runs": Writer(_logged, _log_lines),
    "script that shows a culprit": Writer(lambda name: _script(_utf8(name)), _said),
}
