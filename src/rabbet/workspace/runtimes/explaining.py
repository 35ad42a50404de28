"""Why a runtime is in the lock, where it is to be had, and what holds it back."""

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.language import Language
from rabbet.core.model.lock import Lock, LockedRuntime
from rabbet.core.model.runtime import Refusal, Runtime
from rabbet.core.needs.wording import specifiers_text
from rabbet.errors import SourceFailed
from rabbet.formats.text.requirement import parse_versions
from rabbet.workspace.runtimes.languages import found_runtimes, languages_for
from rabbet.workspace.runtimes.obtaining import RuntimeCatalogues
from rabbet.workspace.runtimes.pythons import own_target, pythons_of
from rabbet.workspace.session import Session

__all__ = ["Asked", "RuntimeExplained", "explained_runtime"]


_UPPER = ("<", "<=", "==", "~=", "===")  # that keep newer versions out


class Asked(Struct, frozen=True):
    """Who asks for a language, and in which versions."""

    who: str
    language: str
    versions: SpecifierSet

    def __str__(self) -> str:
        """Such as `hivescale needs node>=20`."""
        return f"{self.who} needs {self.language}{specifiers_text(self.versions)}"


class RuntimeExplained(Struct, frozen=True, kw_only=True):
    """A locked runtime, who asks for it in which versions, and the newest one that could be had.

    `holders` are those who ask and do not allow that; without any, it is the lock alone that holds it back.
    `here` are the versions that this machine has. `unasked` is why catalogues could not be asked.
    """

    runtime: LockedRuntime
    asked: tuple[Asked, ...]
    here: tuple[Version, ...]
    newest: Version | None
    unasked: str = ""

    @property
    def holders(self) -> tuple[Asked, ...]:
        """Who does not allow the newest one."""
        newest = self.newest
        if newest is None or newest <= self.runtime.version:
            return ()
        return tuple(asked for asked in self.asked if not asked.versions.contains(newest))


def explained_runtime(session: Session, language: str) -> RuntimeExplained | None:
    """Explain the locked runtime of a language; `None` if the lock names none.

    Raises `NoLock`, `NotUnderstood`.
    """
    lock, declaration = session.lock(), session.declaration()
    runtime = next((runtime for runtime in lock.runtimes if runtime.language == language), None)
    if runtime is None:
        return None
    languages = languages_for(declaration, session.machine)
    found: Sequence[Runtime | Refusal]
    if language == "python":
        found = pythons_of(session)
    else:
        known = {language: languages[language]} if language in languages else {}
        found = found_runtimes(known.values(), session.machine, session.project).get(language, ())
    here = {runtime.version for runtime in found if isinstance(runtime, Runtime)}
    offered, unasked = set[Version](), ""
    session.observer.stage("reading catalogues")
    try:
        offers = RuntimeCatalogues(session.project, session.machine).offers(
            language, own_target(session.machine)
        )
        offered = {offer.offer.version for offer in offers if offer.archive is not None}
    except SourceFailed as error:
        unasked = str(error)
    return RuntimeExplained(
        runtime=runtime,
        asked=tuple(_asked(declaration, lock, language, languages)),
        here=tuple(sorted(here, reverse=True)),
        newest=max((version for version in here | offered if not version.is_prerelease), default=None),
        unasked=unasked,
    )


def _asked(
    declaration: Declaration, lock: Lock, language: str, languages: Mapping[str, Language]
) -> Iterator[Asked]:
    """Who asks for a language: the project, other locked runtimes, libraries that keep newer Pythons out."""
    if language == "python":
        yield Asked(declaration.name, language, declaration.python)
        bounds = (parse_versions(library.requires_python or "") for library in lock.libraries)
        for library, versions in zip(lock.libraries, bounds, strict=True):
            if any(specifier.operator in _UPPER for specifier in versions):
                yield Asked(f"{library.name} {library.version}", language, versions)
    own = {runtime.language: runtime for runtime in declaration.runtimes}
    if language in own:
        yield Asked(declaration.name, language, own[language].versions)
    for other in lock.runtimes:
        declared = own[other.language].needs if other.language in own else {}
        needs = declared or (languages[other.language].needs if other.language in languages else {})
        if language in needs:
            yield Asked(f"{other.language} {other.version}", language, needs[language])
