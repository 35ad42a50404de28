"""The program's entry: finds the command, runs it, and is the only place that prints errors.

Kept light on purpose: what `--version` and `--help` don't need is imported inside the functions that do.
"""

import gc
import os
import sys
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import partial
from importlib import import_module
from io import TextIOWrapper
from time import monotonic
from typing import TYPE_CHECKING, NoReturn

from rabbet import __version__
from rabbet.cli.registry import COMMANDS, HEADINGS, WRITING
from rabbet.cli.terminal.output import MutedStream, flush, in_ascii, only_ascii, write_line
from rabbet.errors import ExitCode, Interrupted, NotAgreed, RabbetError

if TYPE_CHECKING:
    from argparse import Namespace

    from rabbet.cli.context import Context

__all__ = ["main", "program"]

_WORTH_NOTING = 0.2  # seconds: shorter runs that go well, such as those of prompts, are not logged
_ANOTHERS = ("run", "enter")  # commands whose arguments are mostly those of another program

_USAGE = """\
usage: rabbet [--version] [--help] [--trace] COMMAND …
Declare a project's needs, resolve them, recreate them anywhere, see the drift."""


def program() -> NoReturn:
    """Run this process's command line and exit.

    It leaves without taking the interpreter apart, which would cost up to a tenth of a run: all that is to
    stay was written and closed by then.
    """
    _leave_now(main())


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command line (default: this process's) and return its exit code."""
    gc.set_threshold(
        100_000
    )  # a run is short and makes few cycles: looking for them would take a tenth of it
    if "_ARGCOMPLETE" in os.environ:
        from rabbet.cli.completing import complete

        complete()
    _mend_streams()
    given = list(sys.argv[1:] if arguments is None else arguments)
    trace = given[:1] == ["--trace"]
    if trace:
        del given[0]
        sys.addaudithook(_tell_forgotten)
    begun = monotonic()
    try:
        code = _dispatch(given)
        flush(sys.stdout)
        _log(given, code, begun)
        return code
    except RabbetError as error:
        if error.meant is not None:
            from rabbet.cli.failures.failure import as_meant

            error.ways = as_meant(error, given)
        if error.undone:
            from rabbet.cli.failures.failure import for_undone

            error.ways = for_undone(error, given)
        _log(given, error.exit_code, begun, str(error))
        return _report(error, trace=trace, as_json=_wants_json(given))
    except KeyboardInterrupt:
        _log(given, ExitCode.INTERRUPTED, begun, "interrupted")
        interrupted = Interrupted("interrupted", note="the same command again finishes what is left")
        _leave_now(_report(interrupted, as_json=_wants_json(given)))
    except BrokenPipeError:
        # The reader of our output is gone; drop the rest.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return ExitCode.UNREAD
    except Exception as error:  # noqa: BLE001 - what nobody foresaw: never a bare traceback
        from rabbet.cli.failures.fault import failure_of

        failure = failure_of(error, given)
        _log(given, failure.exit_code, begun, repr(error))
        return _report(failure, trace=trace, as_json=_wants_json(given))


def _log(given: Sequence[str], code: int, begun: float, error: str = "") -> None:
    """Note a run that failed, or was no short one."""
    seconds = monotonic() - begun
    if error or seconds > _WORTH_NOTING:
        from rabbet.cli.failures.run_log import note_run

        note_run(given, code, seconds, error)


def _wants_json(given: list[str]) -> bool:
    """Whether an error is to be told as JSON too; what stands behind `--` is somebody else's."""
    own = given[: given.index("--")] if "--" in given else given
    return "--json" in own and own[0] not in _ANOTHERS


def _tell_forgotten(event: str, arguments: tuple[object, ...]) -> None:
    """Audit hook: print a trace line for each damaged cache entry that was dropped."""
    if event == "rabbet.forgotten":
        from rabbet.cli.failures.failure import plain

        print(f"trace: damaged, so forgotten: {plain(str(arguments[0]))}", file=sys.stderr)  # noqa: T201


def _mend_streams() -> None:
    """Replace closed streams by the null device; escape characters that an encoding lacks."""
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, mode))  # noqa: PTH123, SIM115 - pathlib is heavy; it stays open
    if type(sys.stderr) is TextIOWrapper:
        sys.stderr = MutedStream(sys.stderr, ascii_only=only_ascii(sys.stderr, os.environ))
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


def _ascii_only() -> bool:
    return only_ascii(sys.stdout, os.environ)


def _dispatch(given: list[str]) -> int:
    if given[:1] == ["help"] and given[1:]:
        return _run(given[1], ["--help"])
    if not given or given[0] in ("--help", "-h", "help"):
        shown = help_text()
        write_line(sys.stdout, in_ascii(shown) if _ascii_only() else shown)
        return ExitCode.DONE
    if given[0] in ("--version", "-V"):
        write_line(sys.stdout, f"rabbet {__version__}")
        return ExitCode.DONE
    return _run(given[0], given[1:])


def help_text() -> str:
    """All commands under their headings; further ones by name alone, so that it fits a screen."""
    lines = [_USAGE]
    for heading in HEADINGS:
        rows = [(name, summary) for name, (place, _, summary) in COMMANDS.items() if place == heading]
        if heading == "more":
            lines.append(f"{heading:<8}  {', '.join(name for name, _ in rows)}")
            continue
        for number, (name, summary) in enumerate(rows):
            lines.append(f"{heading if number == 0 else '':<8}  {name:<8}  {summary}")
    lines += ["Details: rabbet COMMAND --help. New here? Run: rabbet demo"]
    return "\n".join(lines)


def _run(name: str, given: list[str]) -> int:
    from rabbet.cli.parsers import parser_for

    try:
        helping = "--help" in given or "-h" in given
        parser = parser_for(name, given, helping=helping, ascii_only=helping and _ascii_only())
        arguments = parser.parse_args(given)
    except SystemExit:  # argparse has shown the help
        return ExitCode.DONE
    from rabbet.cli.context import make_context

    # Who raises something wants the newest there is, whatever is said to be fresh.
    refresh = any(getattr(arguments, name, False) for name in ("fresh_listings", "raised", "raise_all"))
    loudness = {name: getattr(arguments, name, False) for name in ("quiet", "verbose", "all_rows")}
    loudness["quiet"] |= getattr(arguments, "silent", False)
    carried = getattr(arguments, "carried", None) is not None  # then no network is asked
    offline = carried or getattr(arguments, "offline", False)
    with make_context(**loudness, offline=offline, fresh_listings=refresh) as context:
        if getattr(arguments, "place", None) is not None:
            from rabbet.cli.placed import carry_out_in

            locking = name == "resolve" and not arguments.verify
            work = partial(_run_in, name, given, arguments)
            return carry_out_in(arguments.place, work, context, writing=name in WRITING, locking=locking)
        return _run_in(name, given, arguments, context)


def _run_in(name: str, given: list[str], arguments: "Namespace", context: "Context") -> int:
    """Run a command, for each variant where that is asked for."""
    if context.place is not None:
        context.place.refuse_variant(getattr(arguments, "variant", None))
    try:
        if getattr(arguments, "variant", None) == "all" and hasattr(arguments, "each_variant"):
            from rabbet.cli.every_variant import run_for_each

            return run_for_each([name, *given], arguments, context)
        return _carry_out(COMMANDS[name][1], arguments, context)
    except RabbetError as error:
        if getattr(arguments, "variant", None):
            from rabbet.cli.failures.failure import for_variant

            error.ways = for_variant(error.ways, arguments.variant)
        raise


def _carry_out(module: str, arguments: "Namespace", context: "Context") -> int:
    """Run a command; once more where that took an agreement which was given."""
    run: Callable[[Namespace, Context], int] = import_module(module).run
    try:
        return run(arguments, context)
    except NotAgreed as error:
        from rabbet.cli.terminal.prompt import agreed_to_build

        if not agreed_to_build(error, context):
            raise
    return run(arguments, context)


def _report(error: RabbetError, *, trace: bool = False, as_json: bool = False) -> int:
    """Print an error for people: what, because, try; for programs also as a document on standard output."""
    from rabbet.cli.failures.failure import document, plain, reasons, ways

    if as_json:
        with suppress(RabbetError, OSError):
            write_line(sys.stdout, document(error))
    lines = [] if error.told else reasons(str(error), error.because, sys.stderr)
    lines += ways(error.note, error.ways, sys.stderr)
    if trace:
        import traceback

        from rabbet.cli.failures.run_log import log_file

        lines += [f"trace: earlier runs are in {plain(str(log_file()))}"]
        lines = [plain(line) for line in "".join(traceback.format_exception(error)).splitlines()] + lines
    with suppress(OSError):  # a full or closed output must not hide the error
        sys.stdout.flush()
    print("\n".join(lines), file=sys.stderr, flush=True)  # noqa: T201 - the one place that prints errors
    return error.exit_code


def _leave_now(code: int) -> NoReturn:
    """Exit at once, without waiting for other threads' downloads."""
    sys.stderr.flush()
    os._exit(code)
