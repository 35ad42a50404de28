"""One command for the project and each of its variants: `--variant all`."""

import json
import subprocess
from argparse import Namespace
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import ClassVar, NamedTuple

from msgspec import Struct

from rabbet.cli.context import Context
from rabbet.documents.amounts import count
from rabbet.errors import ExitCode
from rabbet.work.own_program import own_program

__all__ = ["EveryVariantView", "run_for_each"]

_MOST_JOBS = 64
_WORDS: Mapping[int, str] = {ExitCode.DONE: "yes", ExitCode.NO: "no"}


class _Outcome(NamedTuple):
    """A variant (`None`: the project itself), the exit code, and what was printed."""

    variant: str | None
    code: int
    out: str
    err: str

    @property
    def name(self) -> str:
        """The variant's name in tables."""
        return self.variant or "(project)"

    @property
    def last(self) -> str:
        """The error, else the last line of the result, else the last one beside it, such as progress."""
        out, err = (
            [line.strip() for line in text.splitlines() if line.strip()] for text in (self.out, self.err)
        )
        wrong = [line for line in err if line.startswith("error: ")]
        return (wrong or out or err or [""])[-1]


class EveryVariantView(Struct, frozen=True):
    """The outcome for each variant."""

    schema: ClassVar[str] = "every-variant"

    outcomes: tuple[_Outcome, ...]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "variants": [
                {"variant": outcome.variant, "exit_code": outcome.code, "document": _document(outcome.out)}
                for outcome in self.outcomes
            ]
        }

    def show(self, context: Context) -> None:
        """Print what was told of those that failed, then one row a variant."""
        for outcome in self.outcomes:
            if outcome.code != ExitCode.DONE:
                context.show(f"The variant {outcome.name}:")
                context.show_text(outcome.out + outcome.err)
                context.show()
        rows = [(outcome.name, _word(outcome.code), outcome.last) for outcome in self.outcomes]
        context.show_table(("variant", "done", "told"), rows)
        context.show()
        failed = sum(outcome.code != ExitCode.DONE for outcome in self.outcomes)
        context.show(f"{count(len(self.outcomes), 'variant')}, {failed or 'none'} of them failed.")


def run_for_each(given: Sequence[str], arguments: Namespace, context: Context) -> int:
    """Run a command line for the project and for each variant, as many at once as `--jobs` says.

    Each is a program of its own. Gives 1 if any of them fails. Raises as `Project.declaration`.
    """
    variants: list[str | None] = [None, *sorted(context.project().declaration().variants)]
    name, *words = given
    anothers = list(getattr(arguments, "command", ()))  # the words of the command that `run` starts
    own = list(_without_all(words[: len(words) - len(anothers)]))

    def outcome(variant: str | None) -> _Outcome:
        chosen = ["--variant", variant] if variant else []
        done = subprocess.run(
            own_program(name, *chosen, *own, *anothers),
            cwd=context.machine.folder,
            env=dict(context.machine.environ),
            stdin=subprocess.DEVNULL,
            capture_output=True,
            encoding="utf-8",
            errors="backslashreplace",  # what `run` starts may print any bytes
            check=False,
        )
        return _Outcome(variant, done.returncode, done.stdout, done.stderr)

    with ThreadPoolExecutor(max(1, min(arguments.jobs, _MOST_JOBS))) as pool:
        outcomes = tuple(pool.map(outcome, variants))
    context.present(EveryVariantView(outcomes), as_json=getattr(arguments, "json", False))
    return ExitCode.NO if any(outcome.code != ExitCode.DONE for outcome in outcomes) else ExitCode.DONE


def _without_all(own: Sequence[str]) -> Iterator[str]:
    """The words of a command line without those that asked for all variants, and for jobs."""
    words = iter(own)
    for word in words:
        if word in ("--variant", "--jobs"):
            next(words, None)
        elif not word.startswith(("--variant=", "--jobs=")):
            yield word


def _word(code: int) -> str:
    return _WORDS.get(code, f"no ({code})")


def _document(text: str) -> object:
    """The document that a command printed; `None` where it printed something else."""
    try:
        return json.loads(text)
    except ValueError:
        return None
