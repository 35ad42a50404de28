"""A language: how its runtimes are found on a machine, and what they tell of themselves."""

import re
from collections.abc import Mapping

from msgspec import Struct, field
from packaging.specifiers import SpecifierSet
from packaging.version import InvalidVersion, Version

__all__ = ["PLACEHOLDER", "Language", "is_language", "version_of"]

PLACEHOLDER = "{version}"
_NAME = re.compile(r"[a-z][a-z0-9-]{0,50}\Z")
_VERSION = (
    r"([0-9]+(?:[._][0-9]+)*(?:[-.]?(?:alpha|beta|pre|preview|rc|dev|ea|nightly)[-.]?[0-9]*)?(?:\+[0-9]+)?)"
)
_FIRST_LINES = 5  # of an answer, in which a version stands
_UNDECIDED = re.compile(r"[-.]?(?:ea|nightly)\b")  # builds of every day, which PEP 440 calls development


class Language(Struct, frozen=True, kw_only=True):
    """A language and the programs of its runtimes, of which the first is asked for its version.

    `ask` are the arguments it is asked with. `told` are texts of which one is in its answer, with `{version}`
    where the version stands. `variables` are those that the language's programs want, with `{home}` for the
    folder that a runtime was installed into. `distributors` are names of who makes runtimes, each with a text
    that tells them in the answer. `needs` are versions of other languages that its runtimes need. `is_script`
    says that the program may be a script. `files` tell a runtime's version where it can't be run: places
    below its folder (`{program}` is the program itself), each with texts whose versions, joined by dots, are
    it. A language that only a project describes is not `trusted`: then none of its programs is run to ask
    it something.
    """

    name: str
    programs: tuple[str, ...]
    ask: tuple[str, ...]
    told: tuple[str, ...]
    variables: Mapping[str, str] = field(default_factory=dict)
    distributors: Mapping[str, str] = field(default_factory=dict)
    needs: Mapping[str, SpecifierSet] = field(default_factory=dict)
    files: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    is_script: bool = False
    trusted: bool = True

    @property
    def facts(self) -> list[object]:
        """All of it in a form that is the same for the same content."""
        return [
            self.name,
            *map(list, (self.programs, self.ask, self.told)),
            *(sorted(table.items()) for table in (self.variables, self.distributors, self.files)),
            sorted((name, str(versions)) for name, versions in self.needs.items()),
            self.is_script,
        ]

    def version_in(self, answer: str) -> Version | None:
        """The version that an answer tells in its first lines, if it tells one.

        A text that says no more than a version is the whole first line: `v3` stands in any licence.
        """
        lines = [line.strip() for line in answer.splitlines() if line.strip()][:_FIRST_LINES]
        for text in self.told:
            before, _, after = text.partition(PLACEHOLDER)
            pattern = f"{re.escape(before)}{_VERSION}{re.escape(after)}"
            if f"{before}{after}" in ("", "v"):
                found = re.fullmatch(rf"{pattern}\S*", lines[0]) if lines else None
            else:
                found = re.search(pattern, "\n".join(lines))
            version = version_of(found.group(1)) if found else None
            if version is not None:
                return version
        return None

    def distributor_in(self, answer: str) -> str:
        """Who made the runtime, as far as its answer tells; empty if it does not."""
        return next((name for name, text in self.distributors.items() if text in answer), "")

    def variables_of(self, home: str) -> dict[str, str]:
        """The variables for a runtime that was installed into a folder."""
        return {name: text.replace("{home}", home) for name, text in self.variables.items()}


def is_language(text: str) -> bool:
    """Whether a text can be a language's name, which is a part of folders' names, too."""
    return bool(_NAME.match(text))


def version_of(text: str) -> Version | None:
    """A version as languages write them, such as `1.8.0_392` or `23-ea+11`, as PEP 440 orders them."""
    try:
        return Version(_UNDECIDED.sub(".dev", text.replace("_", ".")))
    except InvalidVersion:
        return None
