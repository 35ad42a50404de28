"""Python source files and notebooks → what they import, without anything of them being run."""

import ast
import io
import json
import re
import tokenize
import warnings
from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import Literal, NamedTuple, TypeAlias

from rabbet.core.limits import UNREADABLE

__all__ = ["Guard", "Imported", "SourceBroken", "imports_in", "imports_in_notebook"]

Guard: TypeAlias = Literal["", "optional", "typing", "lazy", "conditional", "installed"]
"""How an import is guarded: it may fail (`optional`), is there for type checkers alone (`typing`), happens
only when a function is called (`lazy`), or under some other condition, such as a platform. What a line of a
notebook has `installed` is a library by its name, and no import."""

_ORDER: tuple[Guard, ...] = ("typing", "optional", "conditional", "lazy", "")  # of several, the first counts
_MAY_BE_MISSING = "importorskip"  # of a test that is left out without the module
# Functions that import a module by its name, and how they call that.
_IMPORTING = {"import_module": "name", "__import__": "name", _MAY_BE_MISSING: "modname"}
# What begins a cell that is Python all the same. Lines that are not: commands, also where their answer gets a
# name, and questions for help.
_OF_PYTHON = re.compile(r"%%(?:time|timeit|capture|prun|debug)\b")
_NOT_PYTHON = re.compile(r"^(\s*+)(?:[%!?].*|[\w.,\s\[\]'\"]++=\s*+[%!].*|[^#]*\?\s*)$")
_INSTALLING = re.compile(r"\s*[%!]{1,2}[^#]*?\sinstall\s+([^#;&|]+)")  # a command that a cell gives a shell
_NAMED = re.compile(r"[\"']?([A-Za-z0-9](?:[A-Za-z0-9._-]*[A-Za-z0-9])?)(?:\[[^]]*\])?(?:[<>=!~].*)?[\"']?\Z")
_TAKING_A_VALUE = ("-r", "-c", "-e", "-i", "-f", "-t", "--requirement", "--index-url", "--target")
_FAILING = {"ImportError", "ModuleNotFoundError", "Exception", "BaseException"}


class SourceBroken(ValueError):
    """A file that is not source code of this version of Python; the text says where."""


class Imported(NamedTuple):
    """A module that is imported, in full; of `from a import b`, also what might be a module in it (`a.b`)."""

    module: str
    inside: tuple[str, ...]
    line: int
    guard: Guard


def imports_in(source: bytes) -> tuple[Imported, ...]:
    """All imports of a source file but relative ones, in their order. Raises `SourceBroken`."""
    try:
        encoding, _ = tokenize.detect_encoding(io.BytesIO(source).readline)
        return _imports(source.decode(encoding))
    except (UnicodeDecodeError, LookupError) as error:
        raise SourceBroken(str(error)) from error
    except SyntaxError as error:
        raise SourceBroken(f"{error.msg} (line {error.lineno})" if error.lineno else str(error)) from error


def imports_in_notebook(content: bytes) -> tuple[Imported, ...]:
    """The same of a notebook's code cells, with lines counted through all of them. Raises `SourceBroken`.

    A notebook for another language imports nothing, and so does a cell that is given to another program.
    """
    try:
        notebook = json.loads(content)
        cells, about = notebook["cells"], notebook.get("metadata", {})
        texts = ["".join(cell["source"]) for cell in cells if cell["cell_type"] == "code"]
        language = about.get("language_info", {}).get("name", "python")
    except (AttributeError, KeyError, TypeError, *UNREADABLE) as error:
        raise SourceBroken(f"it is not a notebook: {type(error).__name__}") from error
    if language not in ("python", "ipython"):
        return ()
    try:
        lines = "\n".join(text for text in texts if text).split("\n")
        installed = tuple(_installed(lines))
        return (*_imports("\n".join(_python_of(text) for text in texts if text)), *installed)
    except SyntaxError as error:
        raise SourceBroken(f"{error.msg} (line {error.lineno})") from error


def _installed(lines: Sequence[str]) -> Iterator[Imported]:
    """The libraries that commands in a notebook install, such as those of `%tool install skepio`."""
    for number, line in enumerate(lines, 1):
        found = _INSTALLING.match(line)
        words = found[1].split() if found else []
        for before, word in pairwise(["", *words]):
            named = _NAMED.match(word)
            if named is not None and before not in _TAKING_A_VALUE:
                yield Imported(named[1], (), number, "installed")


def _python_of(cell: str) -> str:
    """A cell as Python has it, line for line: without what a notebook's shell does itself."""
    lines = cell.splitlines()
    first = next((number for number, line in enumerate(lines) if line.strip()), 0)
    if lines[first].startswith("%%"):
        if not _OF_PYTHON.match(lines[first]):
            return "\n" * (len(lines) - 1)
        lines[first] = ""
    try:
        ast.parse("\n".join(lines))
    except (SyntaxError, *UNREADABLE):
        # Not before: a line that begins with `%` may belong to an expression.
        lines = [_NOT_PYTHON.sub(r"\1pass", line) for line in lines]
    return "\n".join(lines)


def _imports(text: str) -> tuple[Imported, ...]:
    with warnings.catch_warnings():
        warnings.simplefilter(
            "ignore"
        )  # escapes and comparisons that Python frowns upon are not ours to tell
        try:
            tree = ast.parse(text)
            calling = any(name in text for name in _IMPORTING)
            return tuple(_in_block(tree.body, (), calling=calling))
        except SyntaxError:
            raise
        except UNREADABLE as error:
            raise SourceBroken(str(error) or type(error).__name__) from error


def _in_block(body: Sequence[ast.stmt], guards: tuple[Guard, ...], *, calling: bool) -> Iterator[Imported]:
    """The imports of some statements and of all that stand in them, however deep."""
    waiting = [(statement, guards) for statement in reversed(body)]
    while waiting:
        statement, guards = waiting.pop()
        guard: Guard = next((kind for kind in _ORDER if kind in guards), "")
        if isinstance(statement, ast.Import):
            for alias in statement.names:
                yield Imported(alias.name, (), statement.lineno, guard)
        elif isinstance(statement, ast.ImportFrom):
            if not statement.level and statement.module:
                inside = tuple(f"{statement.module}.{alias.name}" for alias in statement.names)
                yield Imported(statement.module, inside, statement.lineno, guard)
        elif calling:
            yield from _called(statement, guard)
        below = [(inner, (*guards, more)) for block, more in _blocks(statement) for inner in block]
        waiting += reversed(below)


def _blocks(statement: ast.stmt) -> Iterator[tuple[Sequence[ast.stmt], Guard]]:
    """The blocks inside a statement, and how each guards what stands in it."""
    if isinstance(statement, ast.FunctionDef | ast.AsyncFunctionDef):
        yield statement.body, "lazy"
    elif isinstance(statement, ast.Try | ast.TryStar):
        able = any(_catches_failing_imports(handler) for handler in statement.handlers)
        yield statement.body, "optional" if able else ""
        for handler in statement.handlers:
            yield handler.body, "optional" if _catches_failing_imports(handler) else ""
        yield statement.orelse, ""
        yield statement.finalbody, ""
    elif isinstance(statement, ast.If):
        checking, main = _when_type_checking(statement.test), _mentions(statement.test, "__main__")
        yield statement.body, "conditional" if checking is None and not main else "typing" if checking else ""
        yield statement.orelse, "conditional" if checking is None else "" if checking else "typing"
    elif isinstance(statement, ast.With | ast.AsyncWith):
        able = any(_mentions(item.context_expr, "suppress") for item in statement.items)
        yield statement.body, "optional" if able else ""
    elif isinstance(statement, ast.Match):
        for case in statement.cases:
            yield case.body, "conditional"
    else:
        for field in ("body", "orelse"):
            block = getattr(statement, field, None)
            if isinstance(block, list):
                yield block, ""


def _when_type_checking(test: ast.expr) -> bool | None:
    """Whether a condition holds for type checkers alone, or (`False`) always but for these."""
    if isinstance(test, ast.UnaryOp) and isinstance(test.op, ast.Not):
        inner = _when_type_checking(test.operand)
        return None if inner is None else not inner
    if isinstance(test, ast.BoolOp):
        parts = [_when_type_checking(value) for value in test.values]
        # One part decides: an `and` by what holds for type checkers alone, an `or` by what always holds.
        decisive = isinstance(test.op, ast.And)
        return decisive if decisive in parts else not decisive if None not in parts else None
    return True if "TYPE_CHECKING" in (getattr(test, "id", None), getattr(test, "attr", None)) else None


def _mentions(expression: ast.expr, word: str) -> bool:
    """Whether a name, an attribute or a text in an expression is this word."""
    for node in ast.walk(expression):
        if word in (getattr(node, "id", None), getattr(node, "attr", None), getattr(node, "value", None)):
            return True
    return False


def _catches_failing_imports(handler: ast.ExceptHandler) -> bool:
    if handler.type is None:
        return True
    return any(isinstance(node, ast.Name) and node.id in _FAILING for node in ast.walk(handler.type))


def _called(statement: ast.stmt, guard: Guard) -> Iterator[Imported]:
    """Calls that import a module whose name is written there, outside of blocks."""
    own = [
        value
        for field, value in ast.iter_fields(statement)
        if field not in ("body", "orelse", "handlers", "finalbody", "cases")
    ]
    nodes = [child for value in own for child in (value if isinstance(value, list) else [value])]
    for node in (inner for child in nodes if isinstance(child, ast.AST) for inner in ast.walk(child)):
        if not isinstance(node, ast.Call):
            continue
        called = getattr(node.func, "attr", None) or getattr(node.func, "id", None)
        if called in _IMPORTING:
            name = _given_name(node, _IMPORTING[called])
            if all(part.isidentifier() for part in name.split(".")):
                yield Imported(name, (), node.lineno, _guard_of_call(called, guard))


def _given_name(call: ast.Call, keyword: str) -> str:
    """The text that is given as the name of a module; empty if it is none that is written there."""
    given = [*call.args[:1], *(argument.value for argument in call.keywords if argument.arg == keyword)]
    value = given[0].value if given and isinstance(given[0], ast.Constant) else ""
    return value if isinstance(value, str) else ""


def _guard_of_call(called: str, guard: Guard) -> Guard:
    return guard or ("optional" if called == _MAY_BE_MISSING else "lazy")
