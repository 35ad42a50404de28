"""Whether declared bounds are true: the oldest and the newest releases with which a command passes."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.culprit.consistency import Consistency, in_order
from rabbet.core.culprit.outcome import Ledger, Outcome
from rabbet.core.culprit.search import Search
from rabbet.core.declaration.edit import Edit
from rabbet.core.declaration.model import Declaration, Declared, allows_minor
from rabbet.core.model.lock import Lock
from rabbet.core.model.options import ResolveOptions
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text
from rabbet.core.prove.bounds import Edge, EdgeSearch, edge_of
from rabbet.core.prove.requirements import LibraryBounds, admits, bounded, judged
from rabbet.core.solve.problem.provider import Policy
from rabbet.errors import BuildFailed, EnvironmentFailed, NoRuntime, NoSolution, NotUnderstood, RabbetError
from rabbet.formats.text.requirement import parse_requirement
from rabbet.proving.attempts import Attempts, MixtureOracle
from rabbet.proving.combination import Combination, combination_of
from rabbet.proving.edited_lock import EditedLocks
from rabbet.proving.runner import RunRecord
from rabbet.proving.sides import sides_of
from rabbet.proving.two_states import two_states
from rabbet.python.choosing.targets import MINORS, target_of
from rabbet.runtimes.choose import newest_first
from rabbet.workspace.fetching.sources import open_sources
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of
from rabbet.workspace.session import Session
from rabbet.workspace.states.states import ComparedState

__all__ = ["Bounds", "PythonProof", "prove_bounds"]

_NONE = Version("0.dev0")  # before all others
_UNTRIED = (NoSolution, NoRuntime, EnvironmentFailed, BuildFailed, NotUnderstood)


class PythonProof(Struct, frozen=True, kw_only=True):
    """A version of Python: whether the command passes with it, or why that could not be tried."""

    minor: str
    passes: bool | None
    reason: str = ""
    lines: tuple[str, ...] = ()


class Bounds(Struct, frozen=True, kw_only=True):
    """What was proven of each library and Python, and the edits that make the declaration true.

    With these the lowest releases that are allowed pass together (`joint`); `None` where that was not tried.
    `raised_for_joint` are bounds that had to be raised for it. A command that `fails_now` proves nothing.
    """

    command: tuple[str, ...]
    libraries: tuple[LibraryBounds, ...] = ()
    pythons: tuple[PythonProof, ...] = ()
    edits: tuple[Edit, ...] = ()
    joint: bool | None = None
    raised_for_joint: tuple[str, ...] = ()
    skipped: tuple[str, ...] = ()
    fails_now: bool = False
    failure: tuple[str, ...] = ()


def prove_bounds(
    session: Session, attempts: Attempts, only: Sequence[NormalizedName], *, jobs: int
) -> Bounds:
    """Try the bounds of all declared libraries, or `only` of some, and of Python; nothing is written.

    Raises `NoLock`, what resolving raises, and what making the environment of the present lock raises.
    """
    return _Work(session, attempts, only, jobs).found()


class _Work:
    """One run, from the present lock."""

    def __init__(
        self, session: Session, attempts: Attempts, only: Sequence[NormalizedName], jobs: int
    ) -> None:
        self._session = session
        self._attempts = attempts
        self._only = only
        self._jobs = jobs
        self._declaration = session.declaration()
        self._present = session.lock()
        self._locks = EditedLocks(session)
        self._pythons = pythons_of(session)
        self._python = chosen_runtime(self._declaration, self._pythons, self._present)
        self._targets = (target_of(self._python),)
        self._releases: dict[NormalizedName, list[Version]] = {}
        self._here: dict[NormalizedName, Version] = {}

    def found(self) -> Bounds:
        """Try everything, one after the other."""
        words = self._attempts.runner.command.words
        now = combination_of(self._present, self._declaration, self._python, self._session)
        self._attempts.require(now)
        self._here = {library.locked.name: library.locked.version for library in now.libraries}
        if not self._attempts.passes([now], "trying what is locked")[0]:
            record = self._attempts.record(now) or RunRecord()
            told = record.lines or ((record.reason,) if record.reason else ())
            return Bounds(command=words, fails_now=True, failure=told)
        declared, skipped = self._declared()
        libraries = self._libraries(declared)
        edits = [edit for library in libraries for edit in _edits(library.needs)]
        pythons = () if self._only else tuple(self._proven_pythons())
        edits += _python_edits(pythons, self._declaration, self._python.minor)
        joint, raised = self._joint(edits, libraries) if libraries else (None, [])
        return Bounds(
            command=words,
            libraries=tuple(libraries),
            pythons=pythons,
            edits=tuple({_place_of(edit): edit for edit in (*edits, *raised)}.values()),
            joint=joint,
            raised_for_joint=tuple(edit.value for edit in raised),
            skipped=tuple(skipped),
        )

    def _declared(self) -> tuple[dict[NormalizedName, list[Declared]], list[str]]:
        """The requirements of each library whose bounds can be tried, and why others can't."""
        found: dict[NormalizedName, list[Declared]] = {}
        skipped: dict[str, None] = {}
        for requirement in self._declaration.declared():
            name = requirement.need.name
            if self._only and name not in self._only:
                continue
            if requirement.need.url is not None or name in self._declaration.local:
                skipped[f"{name}: it comes from one place, and not from releases"] = None
            elif name not in self._here or not self._targets[0].admits(requirement.need.marker):
                skipped[f"{name}: the lock has none for this machine"] = None
            else:
                found.setdefault(name, []).append(requirement)
        return found, [*skipped]

    def _libraries(self, declared: Mapping[NormalizedName, list[Declared]]) -> list[LibraryBounds]:
        """The bounds of each library, all side by side."""
        releases = self._releases = self._offered(declared)
        searches: dict[tuple[NormalizedName, bool], EdgeSearch] = {}
        for name, requirements in declared.items():
            locked = self._here[name]
            older = [version for version in reversed(releases[name]) if version < locked]
            newer = [version for version in releases[name] if version > locked]
            admitted = [version for version in older if admits(requirements, version)]
            searches[name, False] = edge_of(older, admitted[-1] if admitted else None)
            searches[name, True] = edge_of(newer)
        edges = self._searched(searches, declared)
        return [
            judged(name, tuple(requirements), self._here[name], edges, releases[name])
            for name, requirements in declared.items()
        ]

    def _offered(self, declared: Mapping[NormalizedName, object]) -> dict[NormalizedName, list[Version]]:
        """The releases of each library, oldest first, without yanked ones and pre-releases."""
        sources = open_sources(self._session, self._declaration, always=True)
        with sources.catalogue(self._declaration, self._targets[0], Policy()) as catalogue:
            catalogue.expect(Need(name, SpecifierSet()) for name in declared)
            return {
                name: [
                    release.version
                    for release in catalogue.candidates(name).releases
                    if not (release.yanked or release.version.is_prerelease)
                ]
                for name in declared
            }

    def _searched(
        self,
        searches: Mapping[tuple[NormalizedName, bool], EdgeSearch],
        declared: Mapping[NormalizedName, list[Declared]],
    ) -> dict[tuple[NormalizedName, bool], Edge]:
        """Carry all searches out, and try at once what they want to know."""
        found: dict[tuple[NormalizedName, bool], Edge] = {}
        answers: dict[tuple[NormalizedName, bool], bool | None] = dict.fromkeys(searches)
        while answers:
            wanted: dict[tuple[NormalizedName, bool], Version] = {}
            for key, answer in answers.items():
                try:
                    wanted[key] = searches[key].send(answer)
                except StopIteration as end:
                    found[key] = end.value
            combinations = {key: self._with(declared[key[0]], version) for key, version in wanted.items()}
            able = {key: made for key, made in combinations.items() if made is not None}
            left = f"{len(wanted)} bounds left" if len(wanted) > 1 else "1 bound left"
            passed = dict(zip(able, self._attempts.passes([*able.values()], left), strict=True))
            answers = {key: passed.get(key) for key in wanted}
        return found

    def _with(self, requirements: Sequence[Declared], version: Version) -> Combination | None:
        """The present lock with another release of one library; `None` where that has no solution."""
        pinned = [
            replace(requirement, need=replace(requirement.need, specifier=SpecifierSet(f"=={version}")))
            for requirement in requirements
        ]
        return self._combination(_edits(pinned))

    def _combination(
        self, edits: Sequence[Edit], options: ResolveOptions | None = None
    ) -> Combination | None:
        try:
            lock, declaration = self._locks.lock(
                edits, options, earlier=[self._present], targets=self._targets
            )
            return combination_of(lock, declaration, self._python, self._session)
        except _UNTRIED:
            return None

    def _joint(
        self, edits: Sequence[Edit], libraries: Sequence[LibraryBounds]
    ) -> tuple[bool | None, list[Edit]]:
        """Whether the lowest releases pass together, and the bounds that have to be raised for that."""
        raised: dict[NormalizedName, Edit] = {}
        tried: dict[NormalizedName, Version] = {}
        by_name = {library.name: library for library in libraries}
        while True:
            lowest = self._lowest([*edits, *raised.values()])
            if lowest is None:
                return None, [*raised.values()]
            lock, declaration, combination = lowest
            if self._attempts.passes([combination], "the lowest releases together")[0]:
                return True, [*raised.values()]
            guilty = [name for name in self._guilty(lock, declaration) if name in by_name]
            blamed = next((name for name in guilty if lock.versions[name] < by_name[name].locked), None)
            if blamed is None or lock.versions[blamed] <= tried.get(blamed, _NONE):
                return False, [*raised.values()]
            tried[blamed] = lock.versions[blamed]
            others = [edit for name, edit in raised.items() if name != blamed]
            raised[blamed] = self._raised(by_name[blamed], lock.versions[blamed], [*edits, *others])

    def _lowest(self, edits: Sequence[Edit]) -> tuple[Lock, Declaration, Combination] | None:
        try:
            lock, declaration = self._locks.lock(edits, ResolveOptions(lowest=True), targets=self._targets)
            return lock, declaration, combination_of(lock, declaration, self._python, self._session)
        except _UNTRIED:
            return None

    def _guilty(self, lock: Lock, declaration: Declaration) -> list[NormalizedName]:
        """The changes from the present lock to another one that make it fail."""
        now = ComparedState(name="the lock", lock=self._present, declaration=self._declaration)
        two = two_states(
            now, ComparedState(name="the lowest", lock=lock, declaration=declaration), self._session
        )
        changes = frozenset(two.changes)
        good, bad = sides_of(two, self._session.machine, lambda *_: None)
        oracle = MixtureOracle(two, self._attempts, self._attempts.runner.command.symptom)
        ledger, order = Ledger(oracle), in_order(changes, good, bad)
        if ledger.ask([frozenset(), changes], "which of them is too low?") != [Outcome.PASS, Outcome.FAIL]:
            return []
        culprit = Search(order, Consistency(good, bad, changes), ledger, self._jobs).culprit(changes)
        return [name for name in order if name in culprit.guilty]

    def _raised(self, library: LibraryBounds, below: Version, edits: Sequence[Edit]) -> Edit:
        """The edit with which the lowest releases pass, by as low a bound as will do.

        Where other libraries are too low as well, it asks for the next release.
        """
        requirement = (library.needs or library.declared)[0]
        known = {*self._releases[library.name], library.locked}
        releases = sorted((one for one in known if below < one <= library.locked), reverse=True)

        def edit(version: Version) -> Edit:
            return _edits([bounded(requirement, lower=f">={version.public}")])[0]

        def passes(version: Version) -> bool | None:
            found = self._lowest([*edits, edit(version)])
            told = f"how low {library.name} may be"
            return None if found is None else self._attempts.passes([found[2]], told)[0]

        if not passes(releases[0]):
            return edit(releases[-1])
        search, answer = edge_of(releases[1:], releases[-1]), None
        while True:
            try:
                answer = passes(search.send(answer))
            except StopIteration as end:
                return edit(end.value.passing or releases[0])

    def _proven_pythons(self) -> Iterator[PythonProof]:
        """Each version of Python that is allowed, and that this machine has or lacks."""
        here: dict[str, PythonRuntime] = {}
        for runtime in newest_first(self._pythons):
            here.setdefault(runtime.minor, runtime)
        minors = [minor for minor in {*here, *MINORS} if allows_minor(self._declaration.python, minor)]
        able: dict[str, Combination] = {}
        for minor in sorted(minors, key=Version):
            if minor not in here:
                continue
            try:
                able[minor] = self._under(here[minor])
            except RabbetError as error:
                yield PythonProof(minor=minor, passes=None, reason=str(error))
        passed = dict(zip(able, self._attempts.passes([*able.values()], "versions of Python"), strict=True))
        for minor, combination in able.items():
            record = self._attempts.record(combination)
            lines = () if passed[minor] or record is None else record.lines
            yield PythonProof(minor=minor, passes=passed[minor], lines=lines)
        for minor in sorted({*minors} - {*here}, key=Version):
            yield PythonProof(minor=minor, passes=None, reason="it is not on this machine")

    def _under(self, python: PythonRuntime) -> Combination:
        """The present lock under another Python; what it lacks for that is resolved."""
        try:
            return combination_of(self._present, self._declaration, python, self._session)
        except EnvironmentFailed:
            lock, declaration = self._locks.lock([], earlier=[self._present], targets=[target_of(python)])
            return combination_of(lock, declaration, python, self._session)


def _place_of(edit: Edit) -> tuple[object, ...]:
    """What an edit is about: a later one for the same place stands for both."""
    return edit.section, edit.what, parse_requirement(edit.value).name


def _edits(requirements: Sequence[Declared]) -> list[Edit]:
    """The edits that declare these requirements in their places."""
    return [
        Edit(
            verb="declare",
            what="library",
            value=need_text(requirement.need, whole=True),
            section=requirement.section,
            exactly=True,
        )
        for requirement in requirements
    ]


def _python_edits(proofs: Sequence[PythonProof], declaration: Declaration, here: str) -> list[Edit]:
    """The edit that leaves out versions of Python that fail, next to the one that is used `here`."""
    tried = [proof for proof in proofs if proof.passes is not None]
    tried.sort(key=lambda proof: Version(proof.minor))
    place = next((number for number, proof in enumerate(tried) if proof.minor == here), 0)
    below = [proof.minor for proof in tried[:place] if not proof.passes]
    above = [proof.minor for proof in tried[place + 1 :] if not proof.passes]
    if not (below or above):
        return []
    after = {proof.minor: later.minor for proof, later in pairwise(tried)}
    bounds = [f">={after[below[-1]]}"] if below else []
    bounds += [f"<{above[0]}"] if above else []
    replaced = {clause[0] for clause in bounds}
    kept = [str(clause) for clause in declaration.python if clause.operator[0] not in replaced]
    return [Edit(verb="declare", what="runtime", value=f"python{','.join([*kept, *bounds])}", exactly=True)]
