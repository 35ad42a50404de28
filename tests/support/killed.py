"""Runs rabbet, with a signal at the Nth change to files below a folder: `killed SIGNAL N FOLDER ARGUMENT…`.

Python reports every change beforehand (PEP 578); each is printed. No signal if N is 0.
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


def kill_at(sent: signal.Signals, number: int, folder: str) -> None:
    """From now on, print changes, and send the signal before the last."""
    numbers = count(1)

    def look(event: str, arguments: tuple[object, ...]) -> None:
        writes = event == "open" and isinstance(arguments[2], int) and arguments[2] & WRITING
        # Names that are relative to an opened folder are the environment's; of a link, the second one counts.
        named = [str(argument) for argument in arguments[:2] if isinstance(argument, str | os.PathLike)]
        places = [name for name in named if folder in name or not name.startswith("/")]
        if (event in CHANGES or writes) and places:
            os.write(1, f"{event} {places[0]}\n".encode())
            if next(numbers) == number:
                os.kill(os.getpid(), sent)

    sys.addaudithook(look)


kill_at(signal.Signals[sys.argv[1]], int(sys.argv[2]), sys.argv[3])
sys.exit(main(sys.argv[4:]))
