"""Python source files and notebooks → what they import, without anything of them being run."""

import ast
import io
import json
import tokenize
import warnings
from collections.abc import Iterator, Sequence
from typing import Literal, NamedTuple, TypeAlias

from rabbet.core.limits import UNREADABLE

__all__ = ["Guard", "Imported", "SourceBroken", "imports_in", "imports_in_notebook"]

Guard: TypeAlias = Literal["", "optional", "typing", "lazy", "conditional"]
"""How an import is guarded: it may fail (`optional`), is there for type checkers alone (`typing`), happens
only when a function is called (`lazy`), or under some other condition, such as a platform."""

_ORDER: tuple[Guard, ...] = ("typing", "optional", "conditional", "lazy", "")  # of several, the first counts
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
    """The same of a notebook's code cells, with lines counted through all of them. Raises `SourceBroken`."""
    try:
        cells = json.loads(content)["cells"]
        texts = ["".join(cell["source"]) for cell in cells if cell["cell_type"] == "code"]
    except (KeyError, TypeError, *UNREADABLE) as error:
        raise SourceBroken(f"it is not a notebook: {type(error).__name__}") from error
    lines = [line for text in texts for line in text.splitlines()]
    try:
        return _imports(
            "\n".join("" if line.lstrip().startswith(("%", "!", "?")) else line for line in lines)
        )
    except SyntaxError as error:
        raise SourceBroken(f"{error.msg} (line {error.lineno})") from error


def _imports(text: str) -> tuple[Imported, ...]:
    with warnings.catch_warnings():
        warnings.simplefilter(
            "ignore"
        )  # escapes and comparisons that Python frowns upon are not ours to tell
        try:
            tree = ast.parse(text)
            calling = "import_module" in text or "__import__" in text
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
        guard: Guard = next((one for one in _ORDER if one in guards), "")
        if isinstance(statement, ast.Import):
            for alias in statement.names:
                yield Imported(alias.name, (), statement.lineno, guard)
        elif isinstance(statement, ast.ImportFrom):
            if not statement.level and statement.module:
                inside = tuple(f"{statement.module}.{alias.name}" for alias in statement.names)
                yield Imported(statement.module, inside, statement.lineno, guard)
        elif calling:
            yield from _called(statement, guard)
        below = [(one, (*guards, more)) for block, more in _blocks(statement) for one in block]
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
        typing, main = _mentions(statement.test, "TYPE_CHECKING"), _mentions(statement.test, "__main__")
        yield statement.body, "typing" if typing else "" if main else "conditional"
        yield statement.orelse, "" if typing else "conditional"
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
    """`import_module("x")` and `__import__("x")` of a name that is written there, outside of blocks."""
    own = [
        value
        for field, value in ast.iter_fields(statement)
        if field not in ("body", "orelse", "handlers", "finalbody", "cases")
    ]
    nodes = [one for value in own for one in (value if isinstance(value, list) else [value])]
    for node in (inner for one in nodes if isinstance(one, ast.AST) for inner in ast.walk(one)):
        if isinstance(node, ast.Call) and node.args and isinstance(node.args[0], ast.Constant):
            name, called = node.args[0].value, ast.unparse(node.func).rpartition(".")[2]
            if called in ("import_module", "__import__") and isinstance(name, str) and name.isidentifier():
                yield Imported(name, (), node.lineno, guard or "lazy")
