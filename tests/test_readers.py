"""Readers raise only their own error, for any bytes; minutes of the same are in `bench/fuzz.py`."""

import tempfile
import time
import unittest
from itertools import islice
from pathlib import Path

from tests.support.chance import dice
from tests.support.readers import READERS, mutations

SEED, ROUNDS = 20261125, 120


class Readers(unittest.TestCase):
    """Each reader on its sample, and on what becomes of it."""

    def test_samples(self) -> None:
        """What is well is read: a reader that refuses everything would pass all other tests."""
        for name, reader in READERS.items():
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                reader.read(reader.sample, Path(folder))

    def test_mutations(self) -> None:
        """No other error than the reader's own, and none takes long."""
        for name, reader in READERS.items():
            chance = dice(f"{name} {SEED}")
            with tempfile.TemporaryDirectory() as folder:
                for number, content in enumerate(islice(mutations(reader.sample, chance), ROUNDS)):
                    begun = time.process_time()
                    try:
                        reader.read(content, Path(folder))
                    except reader.own:
                        pass
                    except Exception as error:  # noqa: BLE001 - none other may come
                        self.fail(f"{name}, number {number} of seed {SEED}: {error!r} for {content[:300]!r}")
                    self.assertLess(time.process_time() - begun, 20, f"{name}: {content[:300]!r}")
