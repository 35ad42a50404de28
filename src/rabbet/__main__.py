"""The program begins here, as `rabbet` and as `python -m rabbet`.

It imports next to nothing by itself: an interruption is answered like any other, even while the rest loads.
"""

import os
import sys

__all__ = ["program"]


def program() -> None:
    """Load and run the program, which ends the process."""
    try:
        from rabbet.cli.main import program as loaded
    except KeyboardInterrupt:
        sys.stderr.write("error: interrupted\n")
        os._exit(130)
    loaded()


if __name__ == "__main__":
    program()
