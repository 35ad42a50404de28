"""All that is declared, entry by entry, as it is shown and compared."""

from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple

from rabbet.core.declaration.keys import KEYS, Key, Shape
from rabbet.core.declaration.model import Declaration
from rabbet.core.needs.wording import build_options_texts, need_text, specifiers_text

__all__ = ["DeclaredEntry", "entries", "key_entries"]


class DeclaredEntry(NamedTuple):
    """A declared entry: its kind, such as `limit`, its subject, and its text as people write it."""

    what: str
    name: str
    text: str


def entries(declaration: Declaration) -> Iterator[DeclaredEntry]:
    """All of them, the project itself first."""
    yield DeclaredEntry("project", declaration.name, _project_text(declaration))
    if declaration.by_build:
        when = "" if declaration.told else ", when it is asked: rabbet resolve"
        yield DeclaredEntry("needs", "", f"its build tells them{when}")
    yield DeclaredEntry("runtime", "python", f"python{specifiers_text(declaration.python)}")
    for key in KEYS:
        yield from key_entries(declaration, key)
        if key.name == "runtimes":
            for requirement in declaration.declared():
                yield DeclaredEntry(
                    str(requirement.section or "library"), requirement.need.name, need_text(requirement.need)
                )


def key_entries(declaration: Declaration, key: Key) -> Iterator[DeclaredEntry]:
    """The entries under one key."""
    if key.name in _OWN:
        yield from _OWN[key.name](declaration)
    elif key.shape is not Shape.OWN:
        what, held = key.listed or key.entry, getattr(declaration, key.field)
        if key.shape is Shape.NAMES:
            yield from (DeclaredEntry(what, name, name) for name in sorted(held))
        elif key.shape is Shape.TEXTS:
            yield from (DeclaredEntry(what, text, text) for text in held)
        elif key.shape is Shape.BOUNDS:
            yield from (DeclaredEntry(what, need.name, need_text(need)) for need in held)
        elif key.shape is Shape.TEXT:
            yield from (DeclaredEntry(what, "", text) for text in ([held] if held else []))
        elif key.shape is Shape.TABLE:
            yield from (DeclaredEntry(what, name, f"{name}={text}") for name, text in held.items())
        else:
            yield from (DeclaredEntry(what, entry.name, f"{entry.name}={entry.url}") for entry in held)


def _project_text(declaration: Declaration) -> str:
    """The project's name and version, and how it is built."""
    version = str(declaration.version or ("(its build tells the version)" if declaration.dynamic else ""))
    backend = f", built by {declaration.build_system.backend}" if declaration.build_system else ""
    return f"{declaration.name} {version}".rstrip() + backend


def _runtimes(declaration: Declaration) -> Iterator[DeclaredEntry]:
    return (DeclaredEntry("runtime", runtime.language, str(runtime)) for runtime in declaration.runtimes)


def _corrections(declaration: Declaration) -> Iterator[DeclaredEntry]:
    return (
        DeclaredEntry("correction", f"of {correction.applies_to}", str(correction))
        for correction in declaration.corrections
    )


def _newest(declaration: Declaration) -> Iterator[DeclaredEntry]:
    if declaration.same_versions:
        yield DeclaredEntry("newest", "", "the same for all targets")


def _variants(declaration: Declaration) -> Iterator[DeclaredEntry]:
    for name, variant in sorted(declaration.variants.items()):
        what = f"variant {name}"
        if variant.python:
            yield DeclaredEntry(what, "python", f"python{specifiers_text(variant.python)}")
        yield from (DeclaredEntry(what, runtime.language, str(runtime)) for runtime in variant.runtimes)
        yield from (DeclaredEntry(what, need.name, need_text(need)) for need in variant.needs)


def _checkouts(declaration: Declaration) -> Iterator[DeclaredEntry]:
    return (
        DeclaredEntry("checkout", name, f"{name} in {path}")
        for name, path in sorted(declaration.local.items())
    )


def _builds(declaration: Declaration) -> Iterator[DeclaredEntry]:
    for name, options in sorted(declaration.builds.items()):
        yield from (DeclaredEntry(f"build of {name}", name, text) for text in build_options_texts(options))


def _system(declaration: Declaration) -> Iterator[DeclaredEntry]:
    for what, packages in (("system", declaration.system), ("for builds", declaration.system_for_builds)):
        for distribution, names in sorted(packages.items()):
            yield DeclaredEntry(what, distribution, f"{', '.join(names)} ({distribution})")


def _rules(declaration: Declaration) -> Iterator[DeclaredEntry]:
    """The names of the rules that the declaration states; `rabbet rules` tells what they want."""
    rules = declaration.rules
    if rules is None:
        return
    if rules.shared:
        yield DeclaredEntry("rules", "shared", f"shared={rules.shared}")
    for place in rules.advisories:
        yield DeclaredEntry("rules", place, f"advisories={place}")
    for accepted in rules.accepted:
        yield DeclaredEntry("accept", accepted.id, f"{accepted.id} until {accepted.until}")
    stated = {
        "stale-after": rules.stale_after,
        "severity": rules.severity,
        "licences": rules.licences,
        "age": rules.age,
        "from": rules.origin,
    }
    names = [name for name, value in stated.items() if value is not None]
    if names:
        yield DeclaredEntry("rules", "", ", ".join(names))


def _sources(declaration: Declaration) -> Iterator[DeclaredEntry]:
    yield from (
        DeclaredEntry("source", source.name, f"{source.name}={source.url}") for source in declaration.sources
    )
    for build in declaration.team_builds:
        yield DeclaredEntry("builds of the team", build.name, f"{build.name}={build.url}")


_OWN: Mapping[str, Callable[[Declaration], Iterator[DeclaredEntry]]] = {
    "runtimes": _runtimes,
    "corrections": _corrections,
    "newest": _newest,
    "variants": _variants,
    "local": _checkouts,
    "builds": _builds,
    "system": _system,
    "sources": _sources,
    "rules": _rules,
}
