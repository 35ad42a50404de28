"""Asking questions on a terminal."""

from collections.abc import Callable, Sequence
from typing import TypeVar

from rabbet.cli.context import Context
from rabbet.core.shown_text import visible
from rabbet.errors import Interrupted, NotAgreed, RabbetError

__all__ = ["agreed", "agreed_to_build", "ask", "ask_choice", "confirm"]

Answer = TypeVar("Answer")


def ask(context: Context, question: str, default: str, read: Callable[[str], Answer]) -> Answer:
    """Ask until the answer can be read; an empty one means the default."""
    shown = f"{question} [{default}]: " if default else f"{question}: "
    while True:
        try:
            return read(_line(context, shown) or default)
        except Interrupted:
            raise
        except RabbetError as error:
            for line in (str(error), *error.because):
                context.show(f"  {line}")


def ask_choice(
    context: Context, question: str, choices: Sequence[str], read: Callable[[str], Answer]
) -> Answer:
    """Ask for one of the choices by its number, or for a text of one's own; the first is the default."""
    context.show(question)
    for number, choice in enumerate(choices, 1):
        context.show(f"  {number}  {choice}")

    def chosen(answer: str) -> Answer:
        numbered = answer.isdecimal() and 0 < int(answer) <= len(choices)
        return read(choices[int(answer) - 1] if numbered else answer)

    return ask(context, "number, or your own", "1", chosen)


def confirm(context: Context, question: str, *, default: bool = True) -> bool:
    """Ask for a yes or a no; an empty answer is the default."""
    answer = _line(context, f"{question} [{'Y/n' if default else 'y/N'}]: ").lower()
    return answer in ("y", "yes") or (not answer and default)


def agreed(context: Context, question: str, *, yes: bool, may_ask: bool = True) -> bool:
    """Whether a change that was shown may be written: by an option, or by the user's answer."""
    return yes or (may_ask and context.interactive and confirm(context, question))


def agreed_to_build(error: NotAgreed, context: Context) -> bool:
    """Ask whether the project's own build may run; a yes is kept."""
    from rabbet.workspace.agreement import agree_to_build  # here: few projects have one

    for line in (str(error), *error.because):
        context.show(f"{line[:1].upper()}{line[1:]}.")
    agreed = confirm(context, "Run it, and not ask again for this folder and back end?")
    if agreed:
        agree_to_build(context.session())
    return agreed


def _line(context: Context, prompt: str) -> str:
    """One line of input. Raises `Interrupted` at its end (`Ctrl-D`), and for `Ctrl-C`."""
    context.output.write(visible(prompt))
    context.output.flush()
    try:
        line = context.input.readline()
    except KeyboardInterrupt as error:
        raise Interrupted("interrupted, before the question was answered") from error
    if not line:
        raise Interrupted("the input ended before the question was answered")
    return line.strip()
