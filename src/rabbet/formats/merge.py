"""A file with the marks of an unfinished merge → the two files that were to be merged."""

from rabbet.errors import NotUnderstood

__all__ = ["merge_sides"]

_OURS, _BASE, _MIDDLE, _THEIRS = "<<<<<<<", "|||||||", "=======", ">>>>>>>"
_FOLLOWERS = {"": (_OURS,), _OURS: (_BASE, _MIDDLE), _BASE: (_MIDDLE,), _MIDDLE: (_THEIRS,)}


def merge_sides(text: str, where: str) -> tuple[str, ...]:
    """Both sides of a merge that git left to people; of a text without its marks, that text alone.

    Lines outside of marks belong to both sides, and the common ancestor's (between `|||||||` and `=======`)
    to none.

    Raises `NotUnderstood` when the marks don't make pairs.
    """
    ours: list[str] = []
    theirs: list[str] = []
    state, marks = "", 0
    for number, line in enumerate(text.splitlines(keepends=True), 1):
        mark = _mark(line)
        if not mark:
            if state in ("", _OURS):
                ours.append(line)
            if state in ("", _MIDDLE):
                theirs.append(line)
        elif mark not in _FOLLOWERS[state]:
            raise _unpaired(where, f"line {number}: {line.rstrip()[:60]}")
        else:
            state, marks = ("" if mark == _THEIRS else mark), marks + 1
    if state:
        raise _unpaired(where, "the last one has no end")
    return ("".join(ours), "".join(theirs)) if marks else (text,)


def _mark(line: str) -> str:
    head, rest = line[:7], line[7:8]
    return head if head in (_OURS, _BASE, _MIDDLE, _THEIRS) and rest.strip() == "" else ""


def _unpaired(where: str, because: str) -> NotUnderstood:
    return NotUnderstood(
        f"{where} holds the marks of an unfinished merge, and they don't make pairs",
        because=[because],
        remedy="rabbet resolve",
    )
