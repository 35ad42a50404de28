"""Script metadata: read as the standard's own expression reads it, edited without touching anything else."""

import re
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rabbet.core.declaration.edit import Edit
from rabbet.errors import NotUnderstood
from rabbet.formats.project.pyproject_edit import apply
from rabbet.formats.project.script_block import (
    declaration_of,
    script_block,
    toml_of,
    with_block,
    without_block,
)

# As in PEP 723, "Reference Implementation".
STANDARD = re.compile(r"(?m)^# /// (?P<type>[a-zA-Z0-9-]+)$\s(?P<content>(^#(| .*)$\s)+)^# ///$")
LINES = [
    "# /// script",
    "# ///",
    "# /// other",
    "#",
    '# x = "y"',
    "#x",
    "",
    "import x",
    "# # a",
    "#  ",
    "  # ///",
]
VALID = [
    "\ufeff# /// script\n# dependencies = []\n# ///\n",
    "# /// script\n# dependencies = []\n# ///\n",
    '#!/usr/bin/env python\n# /// script\n# requires-python = ">=3"\n# dependencies = ["nectarplot"]\n# ///',
    "# /// script\r\n# dependencies = [\r\n#   'nectarplot',  # plots\r\n# ]\r\n#\r\n# [tool]\r\n# \r\n# ///",
    "# /// other\n# x\n# ///\n\n# /// script\n# dependencies = ['combframe']\n# # ///\n# ///\n'ä\udcff'\n",
]
BARE = [
    "\ufeffimport x\n",
    "",
    "import x",
    "#!/usr/bin/env python\nimport x\n",
    "#!x",
    "# -*- coding: latin-1 -*-\r\nx = 1\r\n",
    "\n\nx = 1\n",
]
BROKEN = {
    "# /// script\n# x = 1\n": "never closed",
    "x\n# /// script\n\n# ///\n": "line 2",
    "# /// script\n# ///\n# x\n\n# /// script\n# x = 1\n# ///\n": "lines 1, 5",
    "#/// script\n# x = 1\n# ///\n": "has to be just '# /// script'",
    "#!x\n# /// script\n# x = \n# ///\n": "line 3",
    "# /// script\n# name = 'x'\n# ///\n": "project.name: is not known here",
    "# /// script\n# [project]\n# ///\n": "not valid TOML",
    "# /// script\n# [dependency-groups]\n# a = []\n# ///\n": "dependency-groups: is not known here",
    "# /// script\n# [tool.rabbet]\n# build-from-source = ['a']\n# ///\n": "is for projects",
}


class Blocks(unittest.TestCase):
    """Valid ones and others."""

    @given(st.lists(st.sampled_from(LINES), max_size=14))
    def test_read(self, lines: list[str]) -> None:
        """What the standard's expression finds is what is read; more than one, or half of one, is refused."""
        text = "".join(f"{line}\n" for line in lines)
        wanted = [found for found in STANDARD.finditer(text) if found["type"] == "script"]
        try:
            block = script_block(text, "report.py")
        except NotUnderstood as error:
            self.assertTrue(len(wanted) > 1 or "never closed" in str(error), (text, error))
            return
        if block is None or not block.toml:  # an empty one is none for the expression
            self.assertEqual(wanted, [])
        else:
            content = wanted[0]["content"].splitlines(keepends=True)
            self.assertEqual(
                block.toml, "".join(line[2:] if line.startswith("# ") else line[1:] for line in content)
            )

    def test_broken(self) -> None:
        for text, told in BROKEN.items():
            with self.subTest(text), self.assertRaises(NotUnderstood) as caught:
                declaration_of(script_block(text, "report.py"), "report.py")
            self.assertIn(told, "\n".join([str(caught.exception), *caught.exception.because]))

    def test_lines(self) -> None:
        """Errors in a declaration that stands for a block name the script's own lines."""
        for text in VALID:
            block = script_block(text, "report.py")
            assert block is not None
            told = declaration_of(block, "report.py").splitlines()
            lines = re.split("\r\n|\n", text)
            for number in range(block.opening, block.closing - 1):
                self.assertEqual(f"# {told[number]}".rstrip(), lines[number].rstrip())

    def test_edited_and_back(self) -> None:
        """To declare a library and take it back leaves every byte; nothing but the block changes."""
        for text in (*VALID, *BARE):
            with self.subTest(text):
                after = self.edited(text, "declare")
                self.assertIn("skepio", script_block(after, "report.py").toml)  # type: ignore[union-attr]
                self.assertEqual(rest_of(after), rest_of(text))
                back = self.edited(after, "retract")
                block = script_block(back, "report.py")
                assert block is not None
                self.assertIn(text, (back, *without_block(back, block)) if text in BARE else (back,))
                self.assertEqual(self.edited(back, "declare"), after)

    def edited(self, text: str, verb: str) -> str:
        """A script in which skepio was declared, or retracted."""
        block = script_block(text, "report.py")
        edit = Edit(verb=verb, what="library", value="skepio")  # type: ignore[arg-type] # one of the two
        after, _ = apply(declaration_of(block, "report.py"), [edit])
        return with_block(text, block, toml_of(after))


def rest_of(text: str) -> list[str]:
    """The lines of a script without its block, but for empty ones."""
    block = script_block(text, "report.py")
    rest = text if block is None else next(without_block(text, block))
    return [line for line in re.split("[\r\n\ufeff]+", rest) if line]
