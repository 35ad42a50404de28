"""A lock as a bill of materials: CycloneDX JSON 1.6 (ECMA-424), without dates, the same for the same lock."""

from collections.abc import Callable, Iterable, Mapping
from typing import TypeAlias

from packaging.utils import NormalizedName

from rabbet.core.model.lock import Lock, LockedCommit, LockedFile, LockedLibrary
from rabbet.core.rules.breach import Breach, Vulnerability
from rabbet.core.rules.severity import score_of
from rabbet.formats.cyclonedx import document_text, purl_of

__all__ = ["EXPRESSION", "Licence", "bill"]

Licence: TypeAlias = Callable[[LockedLibrary], str]
"""The licence that a release states: `SPDX:` and an expression, or a name; empty if unknown."""

_METHODS = {"CVSS:3.0": "CVSSv3", "CVSS:3.1": "CVSSv31", "CVSS:4.0": "CVSSv4"}
EXPRESSION = "SPDX:"  # begins what is an expression by that standard


def bill(
    lock: Lock,
    project: Mapping[str, str],
    declared: Iterable[NormalizedName],
    licence: Licence,
    program: str,
    broken: Iterable[Breach] = (),
) -> str:
    """All libraries with their files, licences and who needs whom; runtimes, too.

    `project` has a `name` and perhaps a `version`; `declared` is what it requires itself. Vulnerabilities
    among what is `broken` are told in the standard's place for them.
    """
    libraries = sorted(lock.libraries, key=lambda library: (library.name, library.version))
    by_name: dict[NormalizedName, list[str]] = {}
    for library in libraries:
        by_name.setdefault(library.name, []).append(purl_of(library.name, library.version))
    dependencies = [
        {"ref": "project", "dependsOn": sorted(ref for name in {*declared} for ref in by_name.get(name, ()))},
        *(
            {
                "ref": purl_of(library.name, library.version),
                "dependsOn": [ref for name in library.dependencies for ref in by_name.get(name, ())],
            }
            for library in libraries
        ),
    ]
    runtimes = [
        {
            "type": "platform",
            "bom-ref": f"runtime {runtime.language}",
            "name": runtime.language,
            "version": str(runtime.version),
        }
        for runtime in lock.runtimes
    ]
    return document_text(
        {
            "bomFormat": "CycloneDX",
            "specVersion": "1.6",
            "version": 1,
            "metadata": {
                "tools": {"components": [{"type": "application", "name": "rabbet", "version": program}]},
                "component": {"type": "application", "bom-ref": "project", **project},
            },
            "components": [*(_component(library, licence(library)) for library in libraries), *runtimes],
            "dependencies": dependencies,
            **_vulnerabilities(broken),
        }
    )


def _vulnerabilities(broken: Iterable[Breach]) -> dict[str, object]:
    """All vulnerabilities, each once with the libraries that it affects; nothing where there is none."""
    found: dict[str, tuple[Vulnerability, list[str]]] = {}
    for breach in broken:
        if breach.vulnerability is not None:
            known = found.setdefault(breach.vulnerability.id, (breach.vulnerability, []))
            known[1].append(purl_of(breach.name, breach.version))
    told = [_vulnerability(known, refs) for _, (known, refs) in sorted(found.items())]
    return {"vulnerabilities": told} if told else {}


def _vulnerability(known: Vulnerability, refs: Iterable[str]) -> dict[str, object]:
    ratings = [
        {"method": method, "vector": vector, **({"score": score} if score is not None else {})}
        for vector in known.vectors
        for score in [score_of([vector])]
        if (method := _METHODS.get(vector[:8]))
    ]
    told: dict[str, object] = {
        "bom-ref": known.id,
        "id": known.id,
        "references": [{"id": name, "source": {"name": _database(name)}} for name in known.aliases],
        "ratings": ratings,
        "description": known.summary,
        "advisories": [{"url": place} for place in known.references],
        "published": known.published,
        "affects": [{"ref": ref} for ref in sorted(set(refs))],
    }
    if known.mended is not None:
        told["recommendation"] = f"Take {known.mended} or later."
    if known.accepted is not None and not known.expired:
        told["analysis"] = {"detail": f"Accepted until {known.accepted.until}: {known.accepted.reason}"}
    return {key: value for key, value in told.items() if value}


def _database(name: str) -> str:
    """The database that an id is of, by what it begins with."""
    return name.partition("-")[0]


def _component(library: LockedLibrary, licence: str) -> dict[str, object]:
    purl = purl_of(library.name, library.version)
    found: dict[str, object] = {
        "type": "library",
        "bom-ref": purl,
        "name": library.name,
        "version": str(library.version),
        "purl": purl,
    }
    if licence.startswith(EXPRESSION):
        found["licenses"] = [{"expression": licence.removeprefix(EXPRESSION)}]
    elif licence:
        found["licenses"] = [{"license": {"name": licence}}]
    references = [_distribution(file) for file in library.files]
    references += [
        {"type": "vcs", "url": tree.url, "comment": tree.commit}
        for tree in library.artifacts
        if isinstance(tree, LockedCommit)
    ]
    if references:
        found["externalReferences"] = references
    if library.marker:
        found["properties"] = [{"name": "rabbet:marker", "value": library.marker}]
    return found


def _distribution(file: LockedFile) -> dict[str, object]:
    return {
        "type": "distribution",
        "url": file.url or file.path or file.filename,
        "hashes": [{"alg": "SHA-256", "content": file.sha256}],
    }
