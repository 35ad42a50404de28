"""No name forges a line, a tag or a command in what is written; `bench/fuzz.py` tries it for minutes."""

import unittest
from itertools import islice

from tests.support.chance import dice
from tests.support.writers import WRITERS, names

ROUNDS = 60


class Writers(unittest.TestCase):
    """Each writer with names that nobody would give."""

    def test_shapes(self) -> None:
        """What is written has the same parts as with a plain name."""
        for title, writer in WRITERS.items():
            plain = writer.shape(writer.write("ab"))
            for name in islice(names(dice(title)), ROUNDS):
                with self.subTest(title, name=ascii(name)):
                    self.assertEqual(writer.shape(writer.write(name)), plain)
