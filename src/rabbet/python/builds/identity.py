"""The inputs of a build: its sources, runtime, environment and options."""

from pathlib import Path

from msgspec.structs import replace

from rabbet.core.model.lock import BuildSource, LockedCheckout, LockedCommit, Needed, ToInstall, Unbuilt
from rabbet.core.model.runtime import PythonRuntime
from rabbet.python.builds.folder_state import modules_state, sources_state, tree_state
from rabbet.python.choosing.origin import MODULES
from rabbet.python.formats.built_wheels import identity_of

__all__ = ["digest_of", "facts_of", "identified"]


def identified(item: ToInstall, runtime: PythonRuntime, folder: Path) -> ToInstall:
    """A build's input, with the digest of all that the result depends on.

    Checkouts are relative to a `folder`. Patches of a runtime build alike.
    """
    if isinstance(item, Needed):
        return item
    environment = tuple(identified(part, runtime, folder) for part in item.environment)
    known = replace(item, environment=environment)
    return replace(known, digest=digest_of(known, runtime, folder))


def digest_of(unbuilt: Unbuilt, runtime: PythonRuntime, folder: Path) -> str:
    """The digest of what a build follows from; of an editable one, the modules' names stand behind it."""
    digest, source = identity_of(facts_of(unbuilt, runtime, folder)), unbuilt.source
    if isinstance(source, LockedCheckout) and source.editable:
        return f"{digest}{MODULES}{modules_state(str(folder / source.path))}"
    return digest


def facts_of(unbuilt: Unbuilt, runtime: PythonRuntime, folder: Path) -> dict[str, object]:
    """The inputs of a build in JSON; its environment's libraries have their digests."""
    facts: dict[str, object] = {
        "kind": unbuilt.kind,
        "source": _source(unbuilt.source, folder),
        "runtime": [runtime.distributor, runtime.minor, runtime.abi_flags, runtime.word_bits, *runtime.libc],
        "machine": [runtime.markers.get("sys_platform"), runtime.markers.get("platform_machine")],
        "environment": sorted(_of_part(part) for part in unbuilt.environment),
    }
    if unbuilt.options.facts:
        facts["options"] = unbuilt.options.facts
    return facts


def _of_part(part: ToInstall) -> str:
    """The identity of a library in the environment; of one that was built here, that of its build."""
    if isinstance(part, Unbuilt):
        return part.digest
    return part.build.digest if part.build else part.artifact.sha256


def _source(source: BuildSource, folder: Path) -> list[str]:
    if isinstance(source, LockedCheckout):
        tree = str(folder / source.path)
        return ["checkout", sources_state(tree), *([] if source.editable else [tree_state(tree)])]
    if isinstance(source, LockedCommit):
        return ["commit", source.commit, source.subdirectory or ""]
    return ["archive", source.sha256]
