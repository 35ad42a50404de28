"""The answers that `begin` needs: from its arguments, or asked for."""

from argparse import Namespace

from rabbet.cli.context import Context
from rabbet.cli.terminal.prompt import ask, ask_choice
from rabbet.core.declaration.model import Declaration
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import specifiers_text
from rabbet.core.shell import quoted
from rabbet.errors import NotUnderstood
from rabbet.formats.project.pyproject import wrong_source
from rabbet.formats.text.requirement import parse_requirement, parse_runtime, split_requirements
from rabbet.tasks.declaring.begin import Answers, Draft, checked_name, default_name, offered_runtimes
from rabbet.workspace.known_sources import users_source

__all__ = ["asked", "given", "show_draft"]


def given(arguments: Namespace, context: Context, present: Declaration | None) -> Answers:
    """Answers from the arguments, with defaults unless the file exists."""
    runtime = arguments.runtime
    if runtime is None and present is None:
        runtime = _default_runtime(context)
    return Answers(
        name=arguments.name or default_name(context.machine.folder),
        named=arguments.name is not None,
        python=_versions(runtime),
        source=arguments.source,
        needs=[parse_requirement(library) for library in arguments.libraries],
    )


def _default_runtime(context: Context) -> str | None:
    offered = _choices(context)
    return offered[0] if offered else None


def asked(arguments: Namespace, context: Context, present: Declaration | None) -> Answers:
    """Ask for what the arguments and an existing file leave open, until each answer is valid."""
    name, python, source = arguments.name, _versions(arguments.runtime), arguments.source
    if present is None:
        default = default_name(context.machine.folder)
        name = name or ask(context, "name of the project", default, checked_name)
        if arguments.runtime is None:
            choices = _choices(context) or ["python>=3.11"]
            question = "runtime (found on this machine, the newest first)"
            python = ask_choice(context, question, choices, _versions)
    if source is None and not (present and present.sources):
        known = users_source(context.machine)
        question = "source: an index's address or a folder of wheels" + (" (empty: yours)" if known else "")
        source = ask(context, question, "", _source) or None
    libraries = [parse_requirement(library) for library in arguments.libraries]
    return Answers(
        name=name or default_name(context.machine.folder),
        named=arguments.name is not None,
        python=python,
        source=source,
        needs=libraries or ask(context, "first libraries (empty: none)", "", _libraries),
    )


def _versions(runtime: str | None) -> str:
    if not runtime:
        return ""
    need = parse_runtime(runtime)
    if need.name != "python":
        raise NotUnderstood(
            f"'{runtime}' is not a version of Python",
            note="other languages are declared once the project is there",
            remedy=f"rabbet begin && rabbet declare --runtime {quoted(runtime)}",
        )
    return specifiers_text(need.specifier)


def _source(answer: str) -> str:
    """A source, checked. Raises `NotUnderstood`."""
    wrong = wrong_source(answer) if answer else ""
    if wrong:
        raise NotUnderstood(f"that {wrong}")
    return answer


def _choices(context: Context) -> list[str]:
    runtimes = offered_runtimes(context.machine)
    return [f"python>={runtime.minor}" for runtime in runtimes]


def _libraries(answer: str) -> list[Need]:
    return [parse_requirement(text) for text in split_requirements(answer)]


def show_draft(written: Draft, context: Context) -> None:
    """Print the file as it would be written."""
    context.show()
    context.show(f"{written.path.name}:")
    for line in written.after.splitlines():
        context.show(f"    {line}".rstrip())
    context.show()
