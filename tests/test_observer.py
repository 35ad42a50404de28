"""What the moving line says of bytes."""

import unittest

from rabbet.cli.terminal.observer import Traffic

# bytes in all, bytes that have come, seconds since the beginning → what is said
CASES = [
    ((0, 0), 3, ""),
    ((0, 5000), 3, ""),
    ((4_000_000, 0), 3, ""),
    ((4_000_000, 1_000_000), 2, ": 1.0 MB of 4.0 MB, 500 kB/s, 6 s left"),
    ((4_000_000, 3_000_000), 2, ": 3.0 MB of 4.0 MB, 1.5 MB/s"),
    ((4_000_000, 4_000_000), 2, ": all 4.0 MB"),
    ((900, 1000), 1, ": all 900 B"),
]


class Amounts(unittest.TestCase):
    """Amount, rate and time left."""

    def test_cases(self) -> None:
        for (size, done), seconds, expected in CASES:
            with self.subTest(size=size, done=done):
                self.assertEqual(Traffic(size, done, 10.0).text(10.0 + seconds), expected)
        self.assertEqual(Traffic(100, 50, 10.0).text(9.0), "", "the clock was set back")
