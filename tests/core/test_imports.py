"""What code imports: read from source code, and held against what libraries offer."""

import json
import tomllib
import unittest
from pathlib import Path

from rabbet.core.declaration.model import Section
from rabbet.core.needs.names import library_name
from rabbet.python.code.imports import Code, ImportSite, LibraryContents, import_findings, role_of
from rabbet.python.code.module_names import module_names
from rabbet.python.code.python_source import SourceBroken, imports_in, imports_in_notebook

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "imports.toml").read_text())


class Sources(unittest.TestCase):
    """From the table."""

    def test_imports(self) -> None:
        for case in TABLE["sources"]:
            with self.subTest(case["about"]):
                found = imports_in(case["code"].encode("latin-1"))
                expected = [tuple(imported) for imported in case["imports"]]
                self.assertEqual(
                    [(finding.module, finding.line, finding.guard) for finding in found], expected
                )

    def test_broken(self) -> None:
        for case in TABLE["broken"]:
            with self.subTest(case["code"]), self.assertRaisesRegex(SourceBroken, case["said"]):
                imports_in(case["code"].encode())
        for hostile in (b"(" * 5000, b"-" * 100_000 + b"1", b"if x:\n" + b" if y:\n" * 300, b"\0import a"):
            with self.subTest(hostile[:10]), self.assertRaises(SourceBroken):
                imports_in(hostile)

    def test_notebook(self) -> None:
        """Lines are counted through all cells, and what is no Python is passed over."""
        cells = [
            {"cell_type": "markdown", "source": ["import nothing"]},
            {"cell_type": "code", "source": ["%matplotlib inline\n", "import a\n", "!pip\n"]},
            {"cell_type": "code", "source": "import b"},
            {"cell_type": "code", "source": "\n%%bash\nimport nothing\nif [ x ]; then"},
            {"cell_type": "code", "source": "%%time -n 3\nif x:\n    y = !ls\n    a, b = %magic\nimport c"},
            {"cell_type": "code", "source": ["z = ('%d'\n", "  % 7)\n", "import d\n"]},
            {"cell_type": "code", "source": ["z?\n", "import e"]},
            {"cell_type": "code", "source": []},
        ]
        found = imports_in_notebook(json.dumps({"cells": cells}).encode())
        expected = [("a", 2), ("b", 4), ("c", 13), ("d", 16), ("e", 18)]
        self.assertEqual([(finding.module, finding.line) for finding in found], expected)
        for line in (" " * 100_000 + "((", "x" * 100_000 + "((", "x" + "? " * 50_000 + "(("):
            cell = {"cell_type": "code", "source": line}
            with self.subTest(line[:9]), self.assertRaises(SourceBroken):
                imports_in_notebook(json.dumps({"cells": [cell]}).encode())
        about = {"metadata": {"language_info": {"name": "R"}}}
        other = {"cells": [{"cell_type": "code", "source": "library(x)?("}], **about}
        self.assertEqual(imports_in_notebook(json.dumps(other).encode()), ())
        for broken in (
            b"{}",
            b"[",
            b'{"cells": [1]}',
            b'{"cells": [{"cell_type": "code", "source": ["(("]}]}',
        ):
            with self.subTest(broken), self.assertRaises(SourceBroken):
                imports_in_notebook(broken)

    def test_installed(self) -> None:
        """What lines of a notebook install, by their commands, is told by its names."""
        table = {
            "%tool install skepio": ["skepio"],
            "!tool -q install 'combframe>=2' \"hive_wire[fast]==1.*\" # plots": ["combframe", "hive_wire"],
            "!python -m tool install --upgrade -r list.txt -c bounds.txt skepio && ls": ["skepio"],
            "!tool install ./wheels/a.whl git+https://apiary.example/x": [],
            "!tool install": [],
            "install = 1": [],
            "x = 3 % install (skepio)": [],
            "# !tool install skepio": [],
            "!ls skepio": [],
            "!" + " install" * 20_000: ["install"] * 19_999,
        }
        for line, names in table.items():
            with self.subTest(line[:60]):
                cell = {"cell_type": "code", "source": f"y = 1\n{line}\n"}
                try:
                    found = imports_in_notebook(json.dumps({"cells": [cell]}).encode())
                except SourceBroken:  # it is no Python either
                    found = ()
                installed = [(one.module, one.line) for one in found if one.guard == "installed"]
                self.assertEqual(installed, [(name, 2) for name in names])


class Findings(unittest.TestCase):
    """From the table."""

    def test_cases(self) -> None:
        libraries = {
            library_name(name): LibraryContents(modules=module_names(files))
            for name, files in TABLE["libraries"].items()
        }
        for case in TABLE["cases"]:
            with self.subTest(case["about"]):
                sites = [
                    ImportSite(name.removeprefix("?"), (), file, 1, role_of(file), name.startswith("?"))
                    for file, names in case["code"].items()
                    for name in names
                ]
                found = import_findings(
                    Code(
                        sites=sites,
                        libraries=libraries,
                        declared={
                            library_name(name): frozenset([Section("group", group) if group else None])
                            for name, group in case["declared"].items()
                        },
                        brought_by={},
                        standard=frozenset(["os"]),
                        own=frozenset(["plot"]),
                    )
                )
                self.assertEqual(
                    [[finding.kind, finding.name, finding.weight] for finding in found], case["findings"]
                )
