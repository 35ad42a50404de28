"""What the documents show is what happens: every command of the tutorial and the how-to pages is run."""

import ast
import re
import subprocess
import sys
import unittest
from collections.abc import Iterator
from pathlib import Path

from rabbet.demo.libraries import RELEASES
from rabbet.demo.regression import SEASON
from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase

ROOT = Path(__file__).resolve().parent.parent
DOCS = ROOT / "docs"
SHOWN = "http://127.0.0.1:8437/simple/"  # the address that pages show


# What nobody in this field writes: each has a plain word, such as "compare with" for "hold against".
_ODD_WORDS = re.compile(
    r"\b(whoever|anew|beware|in\s+vain|can\s+be\s+had|are\s+none|told\s+(by|in|as|of))\b"
    r"|\b(held|hold)\s([^.]{0,40}\s)?against\b"
    r"|(?<!there )\bis\s+no\s+(?!(longer|more|newer|note|such|other)\b)",
    re.IGNORECASE,
)


def commands(text: str) -> Iterator[tuple[str, int]]:
    """The commands of a page's console blocks, each with the exit code that is shown behind it."""
    for block in re.findall(r"```console\n(.*?)```", text, re.DOTALL):
        for line in block.splitlines():
            found = re.fullmatch(r"\$ (.*?)(?: # exit (\d+))?", line)
            assert found is not None, line
            yield found.group(1), int(found.group(2) or 0)


def shown_texts(module: ast.Module) -> Iterator[str]:
    """The texts of a module that are no docstrings of functions or classes."""
    skipped = {
        id(node.body[0].value)
        for node in ast.walk(module)
        if isinstance(node, ast.FunctionDef | ast.ClassDef) and isinstance(node.body[0], ast.Expr)
    }
    for node in ast.walk(module):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in skipped:
            yield node.value


class Documents(ProgramCase):
    """Pages with commands."""

    def play(self, text: str) -> int:
        """Run a page's commands one after the other, in one folder; how many there were."""
        with StandIn([*RELEASES, *SEASON]) as index:
            programs = self.root / "programs"
            programs.mkdir()
            (programs / "rabbet").write_text(f'#!/bin/sh\nexec {sys.executable} -m rabbet "$@"\n')
            (programs / "rabbet").chmod(0o755)
            variables = {
                **self.variables,
                "PATH": f"{programs}:{self.variables['PATH']}",
                **{
                    f"GIT_{who}_{what}": "bee"
                    for who in ("AUTHOR", "COMMITTER")
                    for what in ("NAME", "EMAIL")
                },
            }
            found = list(commands(text.replace(SHOWN, index.address)))
            for command, code in found:
                done = subprocess.run(
                    ["bash", "-c", command],
                    cwd=self.project,
                    env=variables,
                    stdin=subprocess.DEVNULL,
                    capture_output=True,
                    text=True,
                    check=False,
                )
                self.assertEqual(done.returncode, code, f"{command}\n{done.stdout}\n{done.stderr}")
        return len(found)

    def test_tutorial(self) -> None:
        """From an empty folder to a team of four."""
        self.assertGreater(self.play((DOCS / "tutorial.md").read_text()), 30)

    def test_how_to(self) -> None:
        """Each section stands for itself."""
        sections = (DOCS / "howto.md").read_text().split("\n## ")[1:]
        self.assertEqual(len(sections), 11)
        for section in sections:
            self.fresh()
            with self.subTest(section.partition("\n")[0]):
                self.assertGreater(self.play(section), 3)


class Pages(unittest.TestCase):
    """What can be checked without running anything."""

    def test_reference_is_what_the_code_says(self) -> None:
        done = subprocess.run(
            [sys.executable, "tools/reference.py", "--check"],
            cwd=ROOT,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

    def test_plain_words(self) -> None:
        """Neither pages, helps nor messages use the words that readers stumbled over."""
        pages = [*DOCS.glob("*.md"), *ROOT.glob("*.md")]
        texts = [(page.name, page.read_text()) for page in pages]
        texts += [
            (file.name, text)
            for file in (ROOT / "src" / "rabbet").rglob("*.py")
            for text in shown_texts(ast.parse(file.read_text()))
        ]
        for name, text in texts:
            with self.subTest(name):
                self.assertIsNone(_ODD_WORDS.search(text), text if len(text) < 200 else "")

    def test_links_lead_somewhere(self) -> None:
        """Files and headings that pages refer to exist."""
        for page in (ROOT / "README.md", *DOCS.glob("*.md")):
            for target in re.findall(r"\]\(([^)\s]+)\)", page.read_text()):
                if "://" in target:
                    continue
                name, _, heading = target.partition("#")
                place = page.parent / name if name else page
                with self.subTest(page=page.name, target=target):
                    self.assertTrue(place.exists())
                    if heading:
                        titles = re.findall(r"^#+ (.*)", place.read_text(), re.MULTILINE)
                        known = {re.sub(r"[^\w -]", "", title.lower()).replace(" ", "-") for title in titles}
                        self.assertIn(heading, known)
