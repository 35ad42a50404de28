"""Start a declaration here.

Writes pyproject.toml in the current folder, or adds to the one that is there what it lacks. On a terminal it
asks for what was not given and shows the file before it writes it.
"""

from argparse import ArgumentParser, Namespace

from packaging.requirements import Requirement

from rabbet.cli.context import Context
from rabbet.cli.prompt import ask, ask_choice, confirm
from rabbet.core.model.declaration import Declaration
from rabbet.errors import ExitCode
from rabbet.formats.requirement import parse_requirement, parse_runtime
from rabbet.tasks.begin import Answers, Draft, default_name, draft, existing, offered_runtimes, save
from rabbet.tasks.settings import users_source


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    parser.add_argument("library", nargs="*", help="first libraries, such as 'nectarplot>=2'")
    parser.add_argument("--name", help="the project's name (default: the folder's)")
    parser.add_argument("--runtime", metavar="CONSTRAINT", help="such as 'python>=3.11'")
    parser.add_argument("--source", metavar="URL_OR_FOLDER", help="an index's address, or a folder of wheels")
    parser.add_argument("--yes", action="store_true", help="ask nothing, take defaults")


def run(arguments: Namespace, context: Context) -> int:
    """Collect the answers and write the file."""
    asking = context.interactive and not arguments.yes
    present = existing(context.machine.folder)
    answers = (_asked if asking else _given)(arguments, context, present)
    written = draft(context.machine.folder, answers)
    if not written.changed:
        context.show("pyproject.toml has all that Rabbet needs. Next: rabbet declare LIBRARY")
        return ExitCode.DONE
    if asking:
        _show(written, context)
        if not confirm(context, "Write this file?"):
            context.show("Nothing was written.")
            return ExitCode.NO
    save(written)
    verb = "Wrote" if written.before is None else "Completed"
    following = "rabbet resolve" if answers.requirements else "rabbet declare LIBRARY, then: rabbet resolve"
    context.show(f"{verb} {written.path.name}. Next: {following}")
    return ExitCode.DONE


def _given(arguments: Namespace, context: Context, present: Declaration | None) -> Answers:
    runtime = arguments.runtime
    if runtime is None and present is None:
        runtime = _default_runtime(context)
    return Answers(
        name=arguments.name or default_name(context.machine.folder),
        python=str(parse_runtime(runtime)[1]) if runtime else "",
        source=arguments.source,
        requirements=[parse_requirement(library) for library in arguments.library],
    )


def _default_runtime(context: Context) -> str | None:
    offered = _choices(context)
    return offered[0] if offered else None


def _asked(arguments: Namespace, context: Context, present: Declaration | None) -> Answers:
    """Ask for what was not given; an existing file answers for itself."""
    name, runtime, source = arguments.name, arguments.runtime, arguments.source
    if present is None:
        name = name or ask(context, "name of the project", default_name(context.machine.folder), str)
        if runtime is None:
            choices = _choices(context) or ["python>=3.11"]
            runtime = ask_choice(context, "runtime (found on this machine, the newest first)", choices)
    if source is None and not (present and present.sources):
        known = users_source(context.machine)
        question = "source: an index's address or a folder of wheels" + (" (empty: yours)" if known else "")
        source = ask(context, question, "", str) or None
    libraries = arguments.library or ask(context, "first libraries (empty: none)", "", _libraries)
    requirements = [one if isinstance(one, Requirement) else parse_requirement(one) for one in libraries]
    return Answers(
        name=name or default_name(context.machine.folder),
        python=str(parse_runtime(runtime)[1]) if runtime else "",
        source=source,
        requirements=requirements,
    )


def _choices(context: Context) -> list[str]:
    runtimes = offered_runtimes(context.machine)
    return [f"python>={runtime.minor}" for runtime in runtimes]


def _libraries(answer: str) -> list[Requirement]:
    return [parse_requirement(text) for text in answer.split()]


def _show(written: Draft, context: Context) -> None:
    context.show()
    context.show(f"{written.path.name}:")
    for line in written.after.splitlines():
        context.show(f"    {line}".rstrip())
    context.show()
