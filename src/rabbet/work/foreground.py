"""A program that takes over the terminal: in place of this process, or while this one waits for it."""

import os
from collections.abc import Mapping, Sequence
from typing import NoReturn

__all__ = ["become", "run_to_end"]


def become(command: Sequence[str], variables: Mapping[str, str]) -> NoReturn:
    """Replace this process by a program that `PATH` leads to. Raises `OSError` when it can't be started."""
    os.execvpe(command[0], list(command), variables)  # noqa: S606 - running commands is the job


def run_to_end(program: str, command: Sequence[str], variables: Mapping[str, str]) -> int:
    """Run a program and wait for it; its exit code, or 128 and the number of the signal that ended it.

    Interruptions from the terminal reach the program itself, and others are passed on to it. Raises `OSError`
    when it can't be started.
    """
    import signal

    child = 0

    def pass_on(number: int, _: object) -> None:
        if child:
            os.kill(child, number)

    passed = (signal.SIGTERM, signal.SIGHUP)
    before = {number: signal.signal(number, pass_on) for number in passed}
    before |= {number: signal.signal(number, signal.SIG_IGN) for number in (signal.SIGINT, signal.SIGQUIT)}
    try:
        usual = [number for number, handler in before.items() if handler != signal.SIG_IGN]
        mask = signal.pthread_sigmask(signal.SIG_BLOCK, passed)  # until it is known whom to pass them on to
        try:
            child = os.posix_spawn(program, list(command), variables, setsigdef=usual, setsigmask=mask)
        finally:
            signal.pthread_sigmask(signal.SIG_SETMASK, mask)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
    return code if code >= 0 else 128 - code
