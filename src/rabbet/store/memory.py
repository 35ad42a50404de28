"""Small things that are remembered between runs, a file each; losing one costs time, never truth."""

import os
import tempfile
from contextlib import suppress
from pathlib import Path

__all__ = ["Memory"]


class Memory:
    """A folder of remembered contents. Keys are names of files: digests and the like."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def recall(self, key: str) -> bytes | None:
        """What was remembered under this key, if anything."""
        try:
            return (self._folder / key).read_bytes()
        except OSError:
            return None

    def remember(self, key: str, content: bytes) -> None:
        """Keep a content. A store that can't be written forgets it, which is no error."""
        with suppress(OSError):
            self._folder.mkdir(parents=True, exist_ok=True)
            descriptor, temporary = tempfile.mkstemp(dir=self._folder)
            with os.fdopen(descriptor, "wb") as file:
                file.write(content)
            Path(temporary).replace(self._folder / key)
