"""The words of the commands, all in one place: a season's work, held against `data/words.txt`.

Other tests look at what commands do, in `--json` and in files. After a change of words,
`python -m tests.interface.test_words --write` writes the file again: its difference shows what changed.
"""

import platform
import re
import sys
import unittest
from pathlib import Path

from rabbet.demo.by_hand import put_there
from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase

WORDS = Path(__file__).parents[1] / "data" / "words.txt"
# command, exit code; a line that begins with `*` is done by the test itself
SEASON = """\
0 begin --name hivescale --source ADDRESS
0 declare nectarplot tallywax<2
0 declare --group checks mitewatch
0 declare
3 declare skepio==
0 resolve
0 resolve
0 explain tallywax
0 explain --held-back
0 lookup tallywax
4 lookup tallywacks
0 recreate --plan
0 recreate
0 recreate
0 run python -c pass
0 status
0 drift
* put skepio
1 drift
0 recreate
1 imports
* commit
0 declare queenmark
0 resolve
0 compare git:HEAD
0 past
0 past queenmark
0 envs
0 export list
0 declare skepio<0.1
4 resolve
0 retract skepio
2 retract skepio
0 census record --label loft --to loft.json
0 census show --from loft.json
2 run --variant old true
"""


class Words(ProgramCase):
    """A project from its beginning on."""

    maxDiff = None

    def spoken(self) -> str:
        """Everything that the commands print, without what differs between machines and days."""
        index = self.serve(StandIn())
        (self.project / "hivescale.py").write_text("import nectarplot, combframe\n")
        parts = []
        for line in SEASON.splitlines():
            code, _, command = line.partition(" ")
            if code == "*":
                self.do(command)
                continue
            words = command.replace("ADDRESS", index.address).split(" ")
            done = self.rabbet(*words, code=int(code))
            parts.append(f"$ rabbet {command}\n{done.out}{done.err}")
        return self.plain("\n".join(parts).replace(index.address, "ADDRESS/"))

    def do(self, what: str) -> None:
        """What somebody does beside Rabbet."""
        if what == "commit":
            for arguments in (("init", "--quiet"), ("add", "."), ("commit", "--quiet", "--message", "one")):
                self.git(*arguments)
        else:
            site = next((self.project / ".venv").glob("lib/python*/site-packages"))
            put_there(site, "skepio", "0.3", installer="handy", asked=True)

    def plain(self, text: str) -> str:
        """Without paths, days, digests, sizes, times and versions of Python."""
        for pattern, shown in (
            (re.escape(str(self.root)), "ROOT"),
            (re.escape(platform.python_version()), "PYTHON"),
            (rf"\b{sys.version_info.major}\.{sys.version_info.minor}\b( to 3\.14)?", "MINOR"),
            (r"\b[0-9a-f]{64}\b", "DIGEST"),
            (r"\b[0-9a-f]{10}\b", "COMMIT"),
            (r"\b20\d\d-\d\d-\d\d\b", "DAY"),
            (r"\d+(\.\d)? (B|kB|MB|GB)\b", "SIZE"),
            (r"\b(linux|macos)-(x86_64|aarch64|arm64)\b", "PLATFORM"),
            (r" +\n", "\n"),
            (r"(?<=\S) {3,}", "  "),  # how wide a column is follows from paths
        ):
            text = re.sub(pattern, shown, text)
        return text

    def test_words(self) -> None:
        self.assertEqual(self.spoken(), WORDS.read_text())


def write() -> None:
    """Write the file again."""
    case = Words()
    case.setUp()
    WORDS.write_text(case.spoken())
    case.doCleanups()


if __name__ == "__main__":
    write() if sys.argv[1:] == ["--write"] else unittest.main()
