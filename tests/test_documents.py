"""What the documents show is what happens: every command of the tutorial and the how-to pages is run."""

import ast
import re
import subprocess
import sys
import unittest
from collections.abc import Iterator
from pathlib import Path

from tests.support.pages import play, with_outputs
from tests.support.program import ProgramCase

ROOT = Path(__file__).resolve().parent.parent
DOCS = ROOT / "docs"


# What nobody in this field writes: each has a plain word, such as "compare with" for "hold against".
_ODD_WORDS = re.compile(
    r"\b(whoever|anew|beware|in\s+vain|can\s+be\s+had|are\s+none|told\s+(by|in|as|of))\b"
    r"|\b(held|hold)\s([^.]{0,40}\s)?against\b"
    r"|(?<!there )\bis\s+no\s+(?!(longer|more|newer|note|such|other)\b)",
    re.IGNORECASE,
)


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


def pages() -> list[Path]:
    """The pages whose commands are run: the tutorial, and each of the how-to pages that has some."""
    how_to = [page for page in sorted((DOCS / "how-to").glob("*.md")) if "```console" in page.read_text()]
    return [DOCS / "tutorial.md", *how_to]


class Documents(ProgramCase):
    """Pages with commands, each in a new folder; `--write` writes the outputs that they show."""

    def test_commands(self) -> None:
        """Every command ends as it is shown, and its output is the one that stands there."""
        self.assertGreater(len(pages()), 15)
        for page in pages():
            self.fresh()
            played = play(page.read_text(), self.project, self.variables)
            self.assertGreater(len(played), 3)
            for step in played:
                with self.subTest(page.name, command=step.command):
                    self.assertEqual(step.came, step.code, step.out)
                    self.assertFalse(step.differs, f"{step.out}\n{step.shown}")


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
        texts = [(page.name, page.read_text()) for page in (*DOCS.rglob("*.md"), *ROOT.glob("*.md"))]
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
        for page in (*ROOT.glob("*.md"), *DOCS.rglob("*.md")):
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


def write(names: list[str]) -> None:
    """Write the outputs into these pages, or into all of them."""
    case = Documents()
    case.setUp()
    for page in [page for page in pages() if page.name in names or not names]:
        case.fresh()
        page.write_text(with_outputs(page.read_text(), play(page.read_text(), case.project, case.variables)))
    case.doCleanups()


if __name__ == "__main__":
    write(sys.argv[2:]) if sys.argv[1:2] == ["--write"] else unittest.main()
