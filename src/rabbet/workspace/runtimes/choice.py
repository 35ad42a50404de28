"""Which runtimes of languages other than Python a project gets: in its lock, and of those on this machine."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet

from rabbet.core.declaration.model import Declaration, DeclaredRuntime
from rabbet.core.model.language import Language
from rabbet.core.model.lock import LockedRuntime
from rabbet.core.model.runtime import LinkedRuntime, PythonRuntime, Refusal, Runtime, RuntimeOffer
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.shell import quoted
from rabbet.errors import NoRuntime, NoSolution, NotObtained, Way, WrongUsage
from rabbet.formats.text.requirement import parse_runtime
from rabbet.python.choosing.targets import target_of
from rabbet.runtimes.choose import no_runtime
from rabbet.runtimes.linking import linked_runtime
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.runtimes.languages import found_runtimes, languages_for, unknown_language
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.core.solve.solver import Refutation
    from rabbet.workspace.runtimes.obtaining import RuntimeCatalogues

__all__ = [
    "RuntimesHere",
    "newest_runtime",
    "runtime_under",
    "runtimes_here",
    "runtimes_to_lock",
    "to_be_obtained",
]


class RuntimesHere(Struct, frozen=True, kw_only=True):
    """The runtime of this machine that a project gets for each language, and what is missing, by language.

    `languages` are all that were searched for.
    """

    chosen: Mapping[str, Runtime] = field(default_factory=dict)
    missing: Mapping[str, NoRuntime] = field(default_factory=dict)
    languages: Mapping[str, Language] = field(default_factory=dict)


def runtimes_here(
    declaration: Declaration,
    session: Session,
    python: PythonRuntime,
    locked: Sequence[LockedRuntime],
) -> RuntimesHere:
    """Choose among this machine's runtimes of the locked languages: the locked versions before others.

    What the declaration allows counts, and where the lock says how to obtain a runtime for this machine, only
    the locked version. Raises `NotUnderstood` for a locked language that nobody tells of any more.

    Raises `NoSolution` where each language could be had, but not together.
    """
    others = [earlier for earlier in locked if earlier.language != "python"]
    if not others:
        return RuntimesHere()
    languages = languages_for(declaration, session.machine)
    for other in others:
        if other.language not in languages:
            raise unknown_language(other.language, languages, "rabbet resolve")
    known = {runtime.language: runtime for runtime in declaration.runtimes}
    wanted = [
        known.get(other.language) or DeclaredRuntime(language=other.language, versions=SpecifierSet())
        for other in others
    ]
    search = _Search(
        replace(declaration, runtimes=tuple(wanted)), session.project, session.machine, python, others
    )
    exactly = search.only_locked(others)
    missing = {declared.language: error for declared, error in search.missing(exactly)}
    present = [
        exactly.get(runtime.language, runtime) for runtime in wanted if runtime.language not in missing
    ]
    answer = search.choose(present, search.offers)
    if not isinstance(answer, Mapping):
        raise search.why_not(answer, search.offers)
    by_place = {runtime.executable: runtime for found in search.found.values() for runtime in _working(found)}
    return RuntimesHere(
        chosen={name: by_place[offer.where] for name, offer in answer.items() if name != "python"},
        missing=missing,
        languages=search.languages,
    )


def runtimes_to_lock(
    declaration: Declaration,
    shelf: "RuntimeCatalogues",
    python: PythonRuntime,
    locked: Sequence[LockedRuntime],
    raised: Sequence[str],
) -> tuple[LockedRuntime, ...]:
    """The runtimes to lock: the locked ones stay wherever they can, whether this machine has them or not.

    Others are those of this machine, and those that a catalogue offers for it: one that nobody named only
    where there is nothing else, or a language is to be `raised`. Raises `SourceFailed`,
    `NoRuntime` for one that could be had nowhere, `NoSolution` for some that can't be had together.
    """
    if not declaration.runtimes:
        return ()
    search = _Search(declaration, shelf.project, shelf.machine, python, locked)
    known = [
        RuntimeOffer(
            language=earlier.language,
            version=earlier.version,
            where="the lock",
            distributor=earlier.distributor,
            needs=earlier.needs or search.needs(earlier.language),
        )
        for earlier in locked
        if earlier.language != "python"
    ]
    offers = [*known, *search.offers, *search.offered(shelf)]
    lacking = {
        runtime.language
        for runtime in declaration.runtimes
        if not any(_fits(offer, runtime) for offer in offers if offer.language == runtime.language)
    }
    offers = search.closed([*offers, *search.offered(shelf, lacking | {*raised})], shelf)
    for declared, error in search.missing():
        if not any(_fits(offer, declared) for offer in offers if offer.language == declared.language):
            raise shelf.with_way(error, Need(library_name(declared.language), declared.versions))
    answer = search.choose(declaration.runtimes, offers, raised)
    if not isinstance(answer, Mapping):
        raise search.why_not(answer, offers)
    asked = {runtime.language: runtime.distributor for runtime in declaration.runtimes}
    before = {(earlier.language, earlier.version): earlier for earlier in locked}
    return tuple(
        replace(
            before.get((name, offer.version), _to_lock(offer, shelf)),
            distributor=asked.get(name, ""),
            needs={} if offer.needs == search.needs(name) else offer.needs,
        )
        for name, offer in sorted(answer.items())
        if name != "python"
    )


def _to_lock(offer: RuntimeOffer, shelf: "RuntimeCatalogues") -> LockedRuntime:
    catalogue = shelf.relative(offer.where) if offer.archives else ""
    return LockedRuntime(language=offer.language, version=offer.version, catalogue=catalogue)


def runtime_under(session: Session, constraint: str) -> LinkedRuntime:
    """The newest runtime of this machine that a constraint such as `java>=14` allows.

    Raises `NotUnderstood`, `NoRuntime`, and `WrongUsage` for Python: libraries are installed for one of them.
    """
    need = parse_runtime(constraint)
    if need.name == "python":
        raise WrongUsage(
            "an environment's libraries are installed for its own Python, so it can't run under another one",
            note="a variant with another Python gets an environment of its own",
            remedy=f"rabbet declare --variant other --runtime {quoted(constraint)}",
        )
    return newest_runtime(need, session.declaration(), session.project, session.machine)


def newest_runtime(
    need: Need, declaration: Declaration | None, project: Project | None, machine: Machine
) -> LinkedRuntime:
    """The newest runtime of another language than Python that is allowed, in a project or outside of one.

    Raises `NotUnderstood` for an unknown language, `NoRuntime`.
    """
    languages = languages_for(declaration, machine)
    if need.name not in languages:
        raise unknown_language(need.name, languages)
    found = found_runtimes([languages[need.name]], machine, project)[need.name]
    fitting = [runtime for runtime in _working(found) if need.specifier.contains(runtime.version)]
    if not fitting:
        from rabbet.workspace.runtimes.obtaining import with_way_to_obtain

        missing = no_runtime(need.name, need.specifier, found)
        plain = NoRuntime(str(missing), because=missing.because, note="install one")
        raise with_way_to_obtain(plain, need, project, machine)
    newest = max(fitting, key=lambda runtime: runtime.version)
    return linked_runtime(newest, languages[need.name])


class _Search:
    """The runtimes of this machine for the declared languages, and for those that they need."""

    def __init__(
        self,
        declaration: Declaration,
        project: Project | None,
        machine: Machine,
        python: PythonRuntime,
        locked: Sequence[LockedRuntime],
    ) -> None:
        self.languages = languages_for(declaration, machine)
        self._declared = declaration.runtimes
        self._name = declaration.name
        self._project = project
        self._machine = machine
        self._target = target_of(python)
        self._locked = [earlier for earlier in locked if earlier.language != "python"]
        self.found: dict[str, Sequence[Runtime | Refusal]] = {}
        self.offers = [
            *self._here(self._wanted()),
            RuntimeOffer(language="python", version=python.version, where=python.executable),
        ]

    def needs(self, language: str) -> Mapping[str, SpecifierSet]:
        """The languages that a language's runtimes need, by the tables."""
        return self.languages[language].needs if language in self.languages else {}

    def only_locked(self, locked: Sequence[LockedRuntime]) -> Mapping[str, DeclaredRuntime]:
        """The declared languages whose locked versions can be obtained for this machine, with just these."""
        versions = {
            earlier.language: earlier.version
            for earlier in locked
            if any(archive.platform == self._target.platform for archive in earlier.archives)
        }
        return {
            runtime.language: replace(runtime, versions=SpecifierSet(f"=={versions[runtime.language]}"))
            for runtime in self._declared
            if runtime.language in versions
            and runtime.versions.contains(versions[runtime.language], prereleases=True)
        }

    def missing(
        self, exactly: Mapping[str, DeclaredRuntime] | None = None
    ) -> Iterator[tuple[DeclaredRuntime, NoRuntime]]:
        """The declared languages of which this machine has nothing that is allowed."""
        for declared in self._declared:
            named = (exactly or {}).get(declared.language, declared)
            found = self.found[named.language]
            if not any(_fits(runtime, named) for runtime in _working(found)):
                error = no_runtime(named.language, named.versions, found, distributor=named.distributor)
                yield named, to_be_obtained(error) if named is not declared else error

    def offered(
        self, shelf: "RuntimeCatalogues", languages: Iterable[str] | None = None
    ) -> Iterator[RuntimeOffer]:
        """Offers for this machine: of named catalogues for wanted languages, of any for `languages`."""
        for language in self._wanted() if languages is None else sorted(languages):
            for offer in shelf.offers(language, self._target, only_named=languages is None):
                if offer.archive is not None:
                    yield replace(offer.offer, needs=offer.offer.needs or self.needs(language))

    def closed(self, offers: Iterable[RuntimeOffer], shelf: "RuntimeCatalogues") -> list[RuntimeOffer]:
        """These offers, with what is there of all languages that any of them needs, directly or not.

        The needs that a catalogue states for a version apply to it from any source.
        """
        told = {
            (offer.language, offer.version): offer.needs for offer in offers if offer.archives and offer.needs
        }
        found = [
            offer if offer.needs else replace(offer, needs=told.get((offer.language, offer.version), {}))
            for offer in offers
        ]
        known = {*self._wanted(), "python"}
        for found_offer in found:  # it grows on the way
            needed = [language for language in found_offer.needs if language not in known]
            known |= {*needed}
            here = list(self._here(needed))
            lacking = {*needed} - {offer.language for offer in here}
            found += [*here, *self.offered(shelf, lacking)]
        return found

    def choose(
        self,
        declared: Sequence[DeclaredRuntime],
        offers: Sequence[RuntimeOffer],
        raised: Sequence[str] = (),
    ) -> "Mapping[str, RuntimeOffer] | Refutation":
        """Choose among these offers, locked versions before others."""
        from rabbet.core.solve.runtimes import choose_runtimes  # here: most projects have Python alone

        kept = {earlier.language: earlier.version for earlier in self._locked}
        return choose_runtimes(declared, offers, self._target, kept=kept, raised=raised)

    def why_not(self, refutation: "Refutation", offers: Sequence[RuntimeOffer]) -> NoRuntime | NoSolution:
        """Why there is no choice: a language that another one needs is nowhere, or versions clash."""
        from rabbet.core.solve.explain.prose import explained

        explanation = explained(refutation, self._name)
        for language in dict.fromkeys((*self._wanted(), explanation.clash)):
            if not any(offer.language == language for offer in offers):
                return no_runtime(language, SpecifierSet(), self.found.get(language, ()))
        ways = list(self._ways(offers))
        return NoSolution(
            f"no runtimes go together as is declared: they clash on {explanation.clash}",
            because=explanation.sentences,
            note="" if ways else "no single change of what is declared helps; another version may",
            remedy=ways[0] if ways else "rabbet runtimes",
            or_else=ways[1:],
        )

    def _ways(self, offers: Sequence[RuntimeOffer]) -> Iterator[Way]:
        """Single changes of what is declared that were tried and help."""
        for runtime in self._declared:
            others = [other for other in self._declared if other is not runtime]
            if runtime.distributor or runtime.needs:
                continue
            free = self.choose([*others, replace(runtime, versions=SpecifierSet())], offers)
            if isinstance(free, Mapping):
                version = free[runtime.language].version
                bound = replace(runtime, versions=SpecifierSet(f">={version}"))
                enough = isinstance(self.choose([*others, bound], offers), Mapping)
                text = f"{runtime.language}{'>=' if enough else '=='}{version}"
                command = f"rabbet declare --exactly --runtime {quoted(text)}"
                yield Way(command, f"gives {runtime.language} {version}:")
            if isinstance(self.choose(others, offers), Mapping):
                yield Way(f"rabbet retract --runtime {quoted(runtime.language)}")

    def _wanted(self) -> list[str]:
        """The declared languages, and those that they need, directly or not."""
        wanted = [runtime.language for runtime in self._declared]
        declared = {runtime.language: runtime.needs for runtime in self._declared}
        for language in wanted:  # it grows on the way
            needs = declared.get(language) or self.needs(language)
            wanted += [name for name in needs if name not in wanted and name != "python"]
        return wanted

    def _here(self, languages: Iterable[str]) -> Iterator[RuntimeOffer]:
        """The runtimes of this machine for these languages, which are added to `found`."""
        known = [self.languages[name] for name in languages if name in self.languages]
        found = found_runtimes(known, self._machine, self._project) if known else {}
        self.found.update(found)
        yield from (self._offer(runtime) for some in found.values() for runtime in _working(some))

    def _offer(self, runtime: Runtime) -> RuntimeOffer:
        locked = (earlier for earlier in self._locked if earlier.language == runtime.language)
        told = next((earlier.needs for earlier in locked if earlier.version == runtime.version), {})
        return RuntimeOffer(
            language=runtime.language,
            version=runtime.version,
            where=runtime.executable,
            distributor=runtime.distributor,
            needs=told or self.needs(runtime.language),
        )


def to_be_obtained(error: NoRuntime) -> NotObtained:
    """The failure where the lock says how to obtain what is missing."""
    return NotObtained(
        str(error),
        because=error.because,
        note="the lock says where to get it",
        remedy="rabbet recreate --obtain",
    )


def _working(found: Sequence[Runtime | Refusal]) -> Iterator[Runtime]:
    return (runtime for runtime in found if isinstance(runtime, Runtime))


def _fits(runtime: Runtime | RuntimeOffer, declared: DeclaredRuntime) -> bool:
    allowed = list(declared.versions.filter([runtime.version]))  # a pre-release if there is nothing else
    return bool(allowed) and declared.distributor in ("", runtime.distributor)
