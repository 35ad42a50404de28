"""Pages of the documentation with commands: taken apart, played, and written again with what came back."""

import re
import subprocess
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

from rabbet.demo.libraries import RELEASES
from rabbet.demo.regression import SEASON
from rabbet.demo.stand_in import StandIn

__all__ = ["Played", "plain", "play", "with_outputs"]

SHOWN = "http://127.0.0.1:8437/simple/"  # the address that pages show
MORE = "…"  # the rest of an output is left out
_BLOCK = re.compile(r"(```console\n)(.*?)(```)", re.DOTALL)
_UNLIKE = (
    (r"\b[0-9a-f]{7,64}\b", "DIGEST"),
    (r"\b20\d\d-\d\d-\d\d\b", "DAY"),
    (r"\d+(\.\d+)? (B|kB|MB|GB)\b", "SIZE"),
    (r"\d+(\.\d+)? (s|seconds?)\b", "TIME"),
    (r"\b3\.\d+(\.\d+)?( to 3\.\d+)?\b(?=[ ,.;)]|$)", "PYTHON"),
    (r"\b(linux|macos)-(x86_64|aarch64|arm64)\b", "PLATFORM"),
    (r" +$", ""),
    (r"(?<=\S) {2,}", "  "),  # how wide a column is follows from what is in it
)


class Played(NamedTuple):
    """A command, the exit code and the output that are shown behind it, and what came back.

    Of a command that fails, its errors are a part of the output. `MORE` stands for any number of lines.
    """

    command: str
    code: int
    shown: tuple[str, ...]
    came: int
    out: tuple[str, ...]

    @property
    def differs(self) -> bool:
        """Whether something else came back than is shown; nothing shown is no promise."""
        any_lines = r"(?:.*\n)*?"
        wanted = "".join(any_lines if line == MORE else re.escape(f"{plain(line)}\n") for line in self.shown)
        came = "".join(f"{plain(line)}\n" for line in self.out)
        return bool(self.shown) and not re.fullmatch(wanted, came)


def plain(line: str) -> str:
    """A line of output without what differs between machines and days."""
    for pattern, shown in _UNLIKE:
        line = re.sub(pattern, shown, line)
    return line


def _commands(block: str) -> Iterator[tuple[str, int, tuple[str, ...]]]:
    for part in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
        line, *shown = part.removesuffix("\n").split("\n")
        found = re.fullmatch(r"(.*?)(?: # exit (\d+))?", line)
        assert found is not None, line
        yield found.group(1), int(found.group(2) or 0), tuple(shown)


def play(text: str, project: Path, variables: Mapping[str, str]) -> list[Played]:
    """Run a page's commands one after the other, in one folder, beside the demo's index."""
    programs = project.parent / "programs"
    programs.mkdir()
    (programs / "rabbet").write_text(f'#!/bin/sh\nexec {sys.executable} -m rabbet "$@"\n')
    (programs / "rabbet").chmod(0o755)
    bee = {f"GIT_{who}_{what}": "bee" for who in ("AUTHOR", "COMMITTER") for what in ("NAME", "EMAIL")}
    environ = {**variables, **bee, "PATH": f"{programs}:{variables['PATH']}"}
    played = []
    with StandIn([*RELEASES, *SEASON]) as index:
        for block in _BLOCK.findall(text):
            for command, code, shown in _commands(block[1]):
                done = subprocess.run(
                    ["bash", "-c", command.replace(SHOWN, index.address)],
                    cwd=project,
                    env=environ,
                    stdin=subprocess.DEVNULL,
                    capture_output=True,
                    text=True,
                    check=False,
                )
                text = done.stdout + (done.stderr if code else "")
                text = text.replace(index.address, SHOWN).replace(str(project.parent), "~")
                out = tuple(line for line in text.splitlines() if not line.startswith(f"{MORE} "))
                played.append(Played(command, code, shown, done.returncode, out))
    return played


def with_outputs(text: str, played: list[Played]) -> str:
    """The page with the outputs that came, wherever another one is shown."""
    left = iter(played)

    def written(block: re.Match[str]) -> str:
        lines = []
        for command, code, shown in _commands(block[2]):
            lines.append(f"$ {command}{f' # exit {code}' if code else ''}")
            step = next(left)
            lines += [line.rstrip() for line in step.out] if step.differs else shown
        return "\n".join([block[1].rstrip(), *lines, block[3]])

    return _BLOCK.sub(written, text)
