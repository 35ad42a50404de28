"""Upper bounds for all input from outside, each with the reason for its value.

Beyond a bound a command ends with a clear message, in seconds and without taking up the memory.
"""

__all__ = [
    "DEEPEST",
    "LEAST_SPEED",
    "LONGEST_ANSWER",
    "LONGEST_FRESH",
    "LONGEST_LINE",
    "LONGEST_TEXT",
    "LONGEST_WAIT",
    "MOST_ADDRESS",
    "MOST_ANNOUNCED",
    "MOST_BY_HAND",
    "MOST_DECLARED",
    "MOST_DIRECTORY",
    "MOST_DISCARDED",
    "MOST_FILES",
    "MOST_METADATA",
    "MOST_NAMES",
    "MOST_NEAR",
    "MOST_NEEDS",
    "MOST_NOTES",
    "MOST_PAGE",
    "MOST_PROBLEMS",
    "MOST_ROWS",
    "MOST_SECONDS",
    "MOST_SOURCES",
    "MOST_TAGS",
    "MOST_TARGETS",
    "MOST_TEXT_FILE",
    "MOST_UNANNOUNCED",
    "MOST_VARIANTS",
    "UNREADABLE",
    "beyond",
    "is_size",
]

# Characters of a version, a constraint or a requirement: Python reads no number of over 4,300 digits.
LONGEST_TEXT = 4000
# Characters of a name, a reason or a member that is matched or shown: a terminal has some hundred.
LONGEST_LINE = 1000
# Characters of an address: what HTTP servers take (RFC 9110 asks for 8,000).
MOST_ADDRESS = 8000
# Levels of brackets in a marker, of tables in TOML, of includes among groups: people write three.
# Python's own parsers give up at about a thousand, some of them without a word.
DEEPEST = 50

# Bytes of a file that people write by hand: a declaration, settings.
MOST_BY_HAND = 2_000_000
# Bytes of a source file whose imports are read: people's have some 100 kB, generated ones a few MB.
MOST_SOURCE = 5_000_000
# Bytes of a text that programs write: a lock, a `RECORD`. A lock of 10,000 libraries has 20 MB.
MOST_TEXT_FILE = 50_000_000
# Bytes of what Rabbet itself notes in an environment or in the store about one thing.
MOST_NOTES = 100_000_000
# Bytes of a page of an index, decoded: the largest real ones have some 20 MB.
MOST_PAGE = 50_000_000
# Bytes of metadata, with the description below it: real ones have up to some 300 kB.
MOST_METADATA = 10_000_000
# Bytes of a file by what its source tells (the largest real wheels have 4 GB), and of one of which no size is
# told: servers that can't tell are rare.
MOST_ANNOUNCED = 5_000_000_000
MOST_UNANNOUNCED = 1_000_000_000

# Seconds that an answer may stand still, or come slower than so many bytes a second: what is slower than a
# modem is meant to keep one.
MOST_SECONDS = 30
LEAST_SPEED = 1000
# Seconds that a page may take as a whole: 64 pages of 500 kB at once over a line of 50 kB/s.
LONGEST_ANSWER = 600
# Bytes of a body that is not wanted, of a redirect or a refusal, which is read so that the connection stays.
MOST_DISCARDED = 65_536
# Seconds that a source may ask to wait before the next try (RFC 9110, `Retry-After`).
LONGEST_WAIT = 60
# Seconds that a listing may call itself fresh (RFC 9111, `max-age`).
LONGEST_FRESH = 86_400

# Bytes of any file that a text mentions: a petabyte, far below any overflow.
_LARGEST = 1 << 50
# Members of a wheel and rows of `RECORD`: the largest real wheels have 20,000.
MOST_ROWS = 300_000
# Bytes of a zip archive's table of contents, which takes ten times that much memory: real ones have 2 MB.
MOST_DIRECTORY = 12_000_000
# Values in a declaration, and requirements of it once groups and extras stand where they are included: real
# ones have some hundred. Sources that it names, and variants, each of which has a lock: people have five.
MOST_DECLARED = 20_000
MOST_SOURCES = 100
MOST_VARIANTS = 100
# Files of a listing: the largest real ones have some 20,000.
MOST_FILES = 100_000
# Tags that a wheel's name stands for: each part may name several, and real names come to 50.
MOST_TAGS = 200
# Requirements of a release, with those under extras: real ones have up to 500.
MOST_NEEDS = 10_000
# Names of an index that are looked through for near ones, and those that are compared letter by letter.
MOST_NAMES = 1_000_000
MOST_NEAR = 5_000
# Problems of a file, or findings, that one message tells at once: nobody reads more.
MOST_PROBLEMS = 50
# Targets of a lock: all platforms with six versions of Python.
MOST_TARGETS = 64


# What parsers raise for a text that is wrong, whose numbers are too large, or that is nested too deep.
UNREADABLE = (ValueError, OverflowError, RecursionError, MemoryError)


def is_size(value: int) -> bool:
    """Whether a number can be that of the bytes of a file."""
    return 0 <= value <= _LARGEST


def beyond(text: str) -> str | None:
    """Why a version, constraint, marker or requirement is too long or too nested to parse, if it is.

    It is asked before the text is parsed, for parsers of such texts call themselves for each bracket.
    """
    if len(text) > LONGEST_TEXT:
        return f"it has {len(text)} characters"
    if text.count("(") > DEEPEST:
        depth = 0
        for character in text:
            depth += (character == "(") - (character == ")")
            if depth > DEEPEST:
                return f"it holds more than {DEEPEST} brackets inside each other"
    return None
