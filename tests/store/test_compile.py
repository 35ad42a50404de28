"""Byte-compiling by a runtime that may be anything."""

import importlib.util
import sys
import tempfile
import unittest
from pathlib import Path

from rabbet.python.store.compile import Compilation, Compiler

MODULES = {"hum.py": "def hum():\n    return 1\n", "cells/comb.py": "x = 1\n", "broken.py": "def (:\n"}


class Compiling(unittest.TestCase):
    """A tree of three modules, one of which is no Python."""

    def setUp(self) -> None:
        root = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.work = Compilation(root / "tree", sorted(MODULES), root / "compiled")
        for path, text in MODULES.items():
            (root / "tree" / path).parent.mkdir(parents=True, exist_ok=True)
            (root / "tree" / path).write_text(text)

    def test_what_compiles(self) -> None:
        """It lands where this runtime looks for it; what can't be compiled is left out."""
        with Compiler(sys.executable) as compiler:
            self.assertTrue(compiler.compile(self.work))
            self.assertTrue(compiler.compile(self.work), "the same process again")
        found = {str(path.relative_to(self.work.folder)) for path in self.work.folder.rglob("*.pyc")}
        whole = [path for path in MODULES if path != "broken.py"]
        self.assertEqual(found, {importlib.util.cache_from_source(path) for path in whole})

    def test_no_runtime(self) -> None:
        """A program that is not there, exits at once or answers something else fails, twice in a row."""
        for program in ("/nowhere/python", "/bin/false", "/bin/echo"):
            with self.subTest(program), Compiler(program) as compiler:
                self.assertFalse(compiler.compile(self.work))
                self.assertFalse(compiler.compile(self.work), "the next one gets a process of its own")
                self.assertFalse(self.work.folder.exists())
