"""`python -m rabbet` is the same as `rabbet`."""

import sys

from rabbet.cli.main import main

if __name__ == "__main__":
    sys.exit(main())
