"""Requirements as people write them (PEP 508), with errors that point at the place."""

from urllib.parse import urlsplit

from packaging.requirements import InvalidRequirement, Requirement
from packaging.specifiers import InvalidSpecifier, SpecifierSet

from rabbet.core.limits import LONGEST_TEXT
from rabbet.errors import NotUnderstood

__all__ = ["is_file", "is_repository", "parse_requirement", "parse_runtime", "parse_specifiers"]


def parse_requirement(text: str) -> Requirement:
    """One requirement on a library.

    Raises `NotUnderstood`, with the position of the error marked below the text.
    """
    _check_length(text, "is not a requirement")
    try:
        requirement = Requirement(text)
    except InvalidRequirement as error:
        message, *marked = str(error).splitlines()
        raise NotUnderstood(
            f"'{text}' is not a requirement",
            because=[message, *marked],
            remedy="a name, extras in brackets, versions: 'combframe[fast]>=2,<4'",
        ) from error
    if requirement.url is not None and not (is_file(requirement.url) or is_repository(requirement.url)):
        raise NotUnderstood(
            f"'{text}' is not required from a place that Rabbet knows",
            because=[
                "an address must be that of a wheel or a source archive (https:, http: or file:),",
                "or of a git repository (git+https:, git+ssh: or git+file:)",
            ],
            remedy=f"'{requirement.name} @ git+https://HOST/{requirement.name}.git@main'",
        )
    return requirement


def is_file(address: str) -> bool:
    """Whether a direct reference names a wheel or a source archive."""
    parts = urlsplit(address)
    return parts.scheme in ("https", "http", "file") and parts.path.endswith((".whl", ".tar.gz", ".zip"))


def is_repository(address: str) -> bool:
    """Whether a direct reference names a git repository."""
    return urlsplit(address).scheme in ("git+https", "git+ssh", "git+file")


def parse_runtime(text: str) -> SpecifierSet:
    """A constraint on a language runtime, such as `python>=3.11,<3.14` → its versions."""
    requirement = parse_requirement(text)
    if requirement.extras or requirement.marker:
        raise NotUnderstood(f"'{text}' is not a runtime", remedy="a language and versions: 'python>=3.11'")
    if requirement.name.lower() != "python":
        raise NotUnderstood(
            f"Rabbet can't provide the runtime '{requirement.name}'",
            because=["it knows one language: python"],
        )
    return requirement.specifier


def parse_specifiers(text: str) -> SpecifierSet:
    """Version specifiers such as `>=3.11,<3.14` (PEP 440). Raises `NotUnderstood`."""
    _check_length(text, "names no versions")
    try:
        return SpecifierSet(text)
    except InvalidSpecifier as error:
        raise NotUnderstood(f"'{text}' names no versions", because=[str(error)]) from error


def _check_length(text: str, wrong: str) -> None:
    if len(text) > LONGEST_TEXT:
        raise NotUnderstood(f"'{text[:60]}…' {wrong}", because=[f"it has {len(text)} characters"])
