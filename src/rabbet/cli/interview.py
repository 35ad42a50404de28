"""How `begin` comes to its answers: from what was given, or by asking."""

from argparse import Namespace

from packaging.requirements import Requirement

from rabbet.cli.context import Context
from rabbet.cli.prompt import ask, ask_choice
from rabbet.core.model.declaration import Declaration
from rabbet.core.wording import specifiers_text
from rabbet.formats.requirement import parse_requirement, parse_runtime
from rabbet.tasks.begin import Answers, Draft, default_name, offered_runtimes
from rabbet.tasks.settings import users_source

__all__ = ["asked", "given", "show_draft"]


def given(arguments: Namespace, context: Context, present: Declaration | None) -> Answers:
    """Take what was given, and defaults for the rest; an existing file needs none."""
    runtime = arguments.runtime
    if runtime is None and present is None:
        runtime = _default_runtime(context)
    return Answers(
        name=arguments.name or default_name(context.machine.folder),
        python=specifiers_text(parse_runtime(runtime)) if runtime else "",
        source=arguments.source,
        requirements=[parse_requirement(library) for library in arguments.libraries],
    )


def _default_runtime(context: Context) -> str | None:
    offered = _choices(context)
    return offered[0] if offered else None


def asked(arguments: Namespace, context: Context, present: Declaration | None) -> Answers:
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
    libraries = arguments.libraries or ask(context, "first libraries (empty: none)", "", _libraries)
    requirements = [one if isinstance(one, Requirement) else parse_requirement(one) for one in libraries]
    return Answers(
        name=name or default_name(context.machine.folder),
        python=specifiers_text(parse_runtime(runtime)) if runtime else "",
        source=source,
        requirements=requirements,
    )


def _choices(context: Context) -> list[str]:
    runtimes = offered_runtimes(context.machine)
    return [f"python>={runtime.minor}" for runtime in runtimes]


def _libraries(answer: str) -> list[Requirement]:
    return [parse_requirement(text) for text in answer.split()]


def show_draft(written: Draft, context: Context) -> None:
    """Print the file as it would be written."""
    context.show()
    context.show(f"{written.path.name}:")
    for line in written.after.splitlines():
        context.show(f"    {line}".rstrip())
    context.show()
