"""Words on a command line, read back by the shells themselves."""

import json
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from rabbet.cli.registry import COMMANDS, OF_PLACES
from rabbet.core.shell import in_place, joined_words
from tests.core.test_explanations import TABLE

SHELLS = {"bash": ["--norc"], "zsh": ["-f"], "fish": ["--no-config"], "sh": []}
PRINT = "import json, sys; print(json.dumps(sys.argv[1:]))"
ODD = [
    "=3.12", "~/wheels", "%1", "it's", "a\\", "\\'", "$HOME `ls` $(ls)", "!!", "#x", "{a,b}", "*", "a;b", "",
    "skepio; os_name == 'nt' and python_version < \"3.9\"", "new\nline",
]  # fmt: skip


class Words(unittest.TestCase):
    """What is printed to be pasted means the same in every shell."""

    def test_odd_words(self) -> None:
        self.check([ODD])

    def test_place(self) -> None:
        """Every command that takes `--in` is given it, once, and no other one is."""
        for name in COMMANDS:
            text = f"Next: rabbet {name} combframe"
            told = text.replace(name, f"{name} --in tries", 1) if name in OF_PLACES - {"lend"} else text
            self.assertEqual(in_place(text, " --in tries"), told)
            self.assertEqual(in_place(told, " --in tries"), told)

    @settings(max_examples=5, deadline=None)
    @given(
        st.lists(
            st.lists(st.text(st.characters(min_codepoint=32, max_codepoint=126)), max_size=4), max_size=40
        )
    )
    def test_any_words(self, lines: list[list[str]]) -> None:
        self.check(lines)

    def test_suggestions(self) -> None:
        """The explanations' own: each is one command, or several behind each other."""
        for shell in filter(shutil.which, SHELLS):
            texts = [
                text.partition(": rabbet")[2] or text for case in TABLE["case"] for text in case["suggested"]
            ]
            text = "\n".join(text if text.startswith("rabbet") else f"rabbet{text}" for text in texts)
            done = subprocess.run([shell, "-n"], input=text, capture_output=True, text=True, check=False)
            self.assertEqual((done.returncode, done.stderr), (0, ""), shell)

    def check(self, lines: list[list[str]]) -> None:
        """Each line's words, as each shell hands them on."""
        with tempfile.TemporaryDirectory() as folder:
            script = Path(folder, "script")
            start = joined_words([sys.executable, "-c", PRINT])
            script.write_text("".join(f"{start} {joined_words(line)}\n" for line in lines))
            for shell, options in SHELLS.items():
                if shutil.which(shell):
                    run = [shell, *options, str(script)]
                    done = subprocess.run(run, capture_output=True, text=True, check=True)
                    self.assertEqual([json.loads(line) for line in done.stdout.splitlines()], lines, shell)
