"""The answers that `begin` needs: from its arguments, or asked for."""

from argparse import Namespace
from collections.abc import Sequence

from packaging.utils import NormalizedName

from rabbet.cli.context import Context
from rabbet.cli.terminal.prompt import ask, ask_choice, confirm
from rabbet.core.declaration.model import Declaration
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import specifiers_text
from rabbet.core.shell import quoted
from rabbet.documents.amounts import count
from rabbet.errors import NotUnderstood
from rabbet.formats.project.pyproject import wrong_source
from rabbet.formats.text.requirement import parse_requirement, parse_runtime, split_requirements
from rabbet.tasks.declaring.begin import Answers, Draft, checked_name, default_name, offered_runtimes
from rabbet.workspace.fetching.try_source import TriedSource, tried_source
from rabbet.workspace.known_sources import ABOUT_SOURCES, keep_for_all, users_source

__all__ = ["asked", "given", "show_draft"]


def given(arguments: Namespace, context: Context, present: Declaration | None) -> Answers:
    """Answers from the arguments, with defaults unless the file exists."""
    runtime = arguments.runtime
    if runtime is None and (present is None or not (present.python or present.by_build)):
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
    libraries = [parse_requirement(library) for library in arguments.libraries]
    if present is None:
        default = default_name(context.machine.folder)
        name = name or ask(context, "name of the project", default, checked_name)
        if arguments.runtime is None:
            choices = _choices(context) or ["python>=3.11"]
            question = "runtime (found on this machine, the newest first)"
            python = ask_choice(context, question, choices, _versions)
    libraries = libraries or ask(context, "first libraries (empty: none)", "", _libraries)
    if source is None and not (present and present.sources) and not users_source(context.machine):
        source = _asked_source(context, [need.name for need in libraries if need.url is None])
    return Answers(
        name=name or default_name(context.machine.folder),
        named=arguments.name is not None,
        python=python,
        source=source,
        needs=libraries,
    )


def _asked_source(context: Context, wanted: Sequence[NormalizedName]) -> str | None:
    """Ask for a source, and try each answer at once; one that works may be kept for all projects."""
    context.show(f"{ABOUT_SOURCES[:1].upper()}{ABOUT_SOURCES[1:]}.")

    def tried(answer: str) -> str:
        if _source(answer):
            _show_tried(tried_source(context.machine, answer, wanted), context)
        return answer

    source = ask(context, "source: an address or a folder (empty: none yet)", "", tried) or None
    if source and confirm(context, "Keep it for all your projects that declare none?", default=False):
        keep_for_all(context.machine, source)
    return source


def _show_tried(tried: TriedSource, context: Context) -> None:
    """Tell what a source answered."""
    listed = f"it lists {count(tried.listed, 'library')}" if tried.listed else "it answers"
    unknown = f", but knows no {', '.join(tried.unknown)}" if tried.unknown else ""
    context.show(f"  {listed}{unknown}")


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
