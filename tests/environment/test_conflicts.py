"""Which libraries' files can't lie in one environment."""

import tempfile
import unittest
from pathlib import Path

from packaging.utils import NormalizedName

from rabbet.errors import IntegrityFailed
from rabbet.python.environment.put.conflicts import folds_case, refuse_conflicts

# the places and digests of two libraries, whether the file system folds case → what is wrong, if anything
CASES: list[tuple[dict[str, str | None], dict[str, str | None], bool, str]] = [
    ({"a.py": "1"}, {"b.py": "1"}, True, ""),
    ({"a.py": "1"}, {"a.py": "1"}, False, ""),
    ({"a.py": "1"}, {"a.py": "2"}, False, "hive and wax can't be installed together"),
    ({"a.pyc": None}, {"a.pyc": None}, False, ""),
    ({"Hive.py": "1"}, {"hive.py": "1"}, False, ""),
    ({"Hive.py": "1"}, {"hive.py": "1"}, True, "hive and wax can't be installed together"),
    ({"Hive.py": "1", "hive.py": "2"}, {}, False, ""),
    ({"Hive.py": "1", "hive.py": "2"}, {}, True, "hive can't be installed here"),
]


class Conflicts(unittest.TestCase):
    """The table."""

    def test_cases(self) -> None:
        for hive, wax, fold_case, wrong in CASES:
            with self.subTest(hive=hive, wax=wax, fold_case=fold_case):
                files = {NormalizedName("hive"): [*hive.items()], NormalizedName("wax"): [*wax.items()]}
                try:
                    refuse_conflicts(files, fold_case=fold_case)
                    found = ""
                except IntegrityFailed as error:
                    found = str(error)
                self.assertEqual(found, wrong)

    def test_folding(self) -> None:
        """A file system that folds case is one where the other spelling is there, too."""
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "hive.toml").touch()
            first = folds_case(folder, "hive.toml")
            (folder / "HIVE.TOML").touch()
            self.assertTrue(folds_case(folder, "hive.toml"))
            self.assertEqual(first, len(list(folder.iterdir())) == 1)
