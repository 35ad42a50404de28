"""Runs rabbet and kills it at the Nth change to the file system below a folder: `killed N FOLDER ARGUMENT…`.

Python reports every change beforehand (PEP 578); each is printed. Without a kill if N is 0.
"""

import os
import signal
import sys
from itertools import count

from rabbet.cli.main import main

CHANGES = {
    "os.chmod", "os.link", "os.mkdir", "os.remove", "os.rename", "os.rmdir", "os.symlink", "os.utime",
}  # fmt: skip

WRITING = os.O_WRONLY | os.O_RDWR


def kill_at(number: int, folder: str) -> None:
    """From now on, print changes, and do not live to see the last."""
    numbers = count(1)

    def look(event: str, arguments: tuple[object, ...]) -> None:
        writes = event == "open" and isinstance(arguments[2], int) and arguments[2] & WRITING
        if (event in CHANGES or writes) and folder in str(arguments[0]):
            os.write(1, f"{event} {arguments[0]}\n".encode())
            if next(numbers) == number:
                os.kill(os.getpid(), signal.SIGKILL)

    sys.addaudithook(look)


kill_at(int(sys.argv[1]), sys.argv[2])
sys.exit(main(sys.argv[3:]))
