"""The names of the store's parts."""

__all__ = ["LAYOUT", "OBTAINED", "PACKED", "UNPACKED"]

# The folder of the store that holds everything in its present form.
# 1: first form. 2: with digests of everything that is kept; files are read-only. 3: the time of an unpacked
# file follows from its content.
LAYOUT = "layout-3"
PACKED = ".sqlite"  # the ending of files that hold many contents (`pack.py`)
UNPACKED = "unpacked"  # what wheels hold
OBTAINED = "obtained"  # runtimes that were obtained
