"""Requirements as people write them (PEP 508), with errors that point at the place."""

import re

from packaging.markers import Marker, UndefinedComparison, UndefinedEnvironmentName
from packaging.requirements import InvalidRequirement
from packaging.specifiers import InvalidSpecifier, SpecifierSet

from rabbet.core.limits import beyond
from rabbet.core.needs.misspelled import corrected
from rabbet.core.needs.need import Need
from rabbet.errors import NotUnderstood
from rabbet.formats.text.address import NotAnAddress, parse_address, shown

_DIGITS = {"sha256": 64, "sha512": 128}
_HEXADECIMAL = "0123456789abcdef"
_VERSION = re.compile(r"([A-Za-z][A-Za-z0-9-]*?)?\s*[=@]?\s*([0-9]{1,6}(?:\.[0-9]{1,6}){0,3})\Z")
_BARE_VERSION = re.compile(r"v?[0-9][0-9A-Za-z.+!*_-]*\Z")
_COMPARED = "versions are compared by ==, !=, >=, <=, >, < and ~="
_QUOTED = re.compile(r"""(["'])(.*?)\1(?=[\s,]|\Z)""")
_NEXT_NAME = re.compile(r"[\s,]+[\"'A-Za-z]")
_DOUBTFUL = ("~=", "===", "extras", "dependency_groups")  # only markers with one of these may mean nothing

__all__ = [
    "check_marker",
    "is_digest",
    "is_file",
    "is_repository",
    "is_sha256",
    "parse_requirement",
    "parse_runtime",
    "parse_specifiers",
    "parse_versions",
    "read_requirement",
    "split_requirements",
]


def read_requirement(text: str) -> Need:
    """One requirement, whose marker can be evaluated.

    Raises `InvalidRequirement`, with the position of the error; `ValueError` for what is beyond a bound, and
    for a marker that means nothing, such as `python_version ~= '3'`.
    """
    reason = beyond(text)
    if reason:
        raise ValueError(reason)
    need = Need.parse(text)
    if need.marker is not None and any(word in text for word in _DOUBTFUL):
        check_marker(need.marker)
    return need


def check_marker(marker: Marker, *, in_lock: bool = False) -> None:
    """Raises `ValueError` for a marker that compares what can't be compared, or names what there is not."""
    try:
        if in_lock:
            nothing: frozenset[str] = frozenset()
            marker.evaluate({"extras": nothing, "dependency_groups": nothing}, context="lock_file")
        else:
            marker.evaluate({"extra": ""})
    except (UndefinedComparison, UndefinedEnvironmentName) as error:
        raise ValueError(f"its marker can't be evaluated: {' '.join(map(str, error.args))}") from error


def parse_requirement(text: str) -> Need:
    """One requirement on a library, as people write it.

    Raises `NotUnderstood`, with the position of the error marked below the text.
    """
    try:
        need = read_requirement(text)
    except InvalidRequirement as error:
        message, *marked = str(error).splitlines()
        right = corrected(text)
        raise NotUnderstood(
            f"'{text}' is not a requirement",
            because=[_COMPARED, f"'{right}' may be meant"] if right else [message, *marked],
            note="" if right else "it takes a name and versions: NAME, 'NAME>=2' or 'NAME[EXTRA]>=2,<3'",
            meant=(text, right) if right else None,
        ) from error
    except ValueError as error:
        raise NotUnderstood(f"'{text[:60]}' is not a requirement", because=[str(error)]) from error
    if need.url is not None:
        _check_address(need.written_name, need.url, text)
    return need


def split_requirements(line: str) -> list[str]:
    """Requirements that somebody wrote on one line, with spaces, commas or quotes between and around them.

    A comma or a space parts two of them where a name follows; what stands behind a `;` belongs to its marker.
    """
    found, rest = [], line.strip(" ,\t")
    while rest:
        quoted = _QUOTED.match(rest)
        if quoted:
            found.append(quoted.group(2).strip())
            rest = rest[quoted.end() :].lstrip(" ,\t")
            continue
        depth, end = 0, len(rest)
        for place, character in enumerate(rest):
            depth += (character == "[") - (character == "]")
            if character == ";":
                break
            behind_at = rest[:place].rstrip().endswith("@")
            if character in " ,\t" and not (depth or behind_at) and _NEXT_NAME.match(rest, place):
                end = place
                break
        found.append(rest[:end].strip(" ,\t"))
        rest = rest[end:].lstrip(" ,\t")
    return found


def _check_address(name: str, text: str, whole: str) -> None:
    """Raise `NotUnderstood` for an unsupported address, and for unknown parts behind its `#`."""
    try:
        address = parse_address(text)
    except NotAnAddress as error:
        raise NotUnderstood(
            f"what {name} is required from is not an address", because=[shown(text), str(error)]
        ) from error
    if _BARE_VERSION.match(text):
        right = f"{name}=={text}"
        raise NotUnderstood(f"'{whole}' is not a requirement", because=[_COMPARED], meant=(whole, right))
    if not (is_file(text) or is_repository(text)):
        raise NotUnderstood(
            f"{name} is not required from a place that Rabbet knows",
            because=[
                address.text,
                "an address must be that of a wheel or a source archive (https:, http: or file:),",
                "or of a git repository (git+https:, git+ssh: or git+file:)",
            ],
        )
    known = {"sha256", "subdirectory"} if is_file(text) else {"subdirectory"}
    for key, value in address.marks.items():
        if key not in known:
            raise NotUnderstood(
                f"the address of {name} ends with '#{key}=', which Rabbet does not know",
                because=[address.text, f"known are: {', '.join(sorted(known))}"],
            )
        if key == "sha256" and not is_sha256(value):
            raise NotUnderstood(
                f"the sha256 in the address of {name} is not one",
                because=[f"'{value}' is not 64 hexadecimal digits"],
            )


def is_sha256(text: str) -> bool:
    """Whether a text is a SHA-256 digest in lower-case hexadecimal digits."""
    return is_digest("sha256", text)


def is_digest(algorithm: str, text: str) -> bool:
    """Whether a text is a digest by this algorithm (`sha256`, `sha512`), in lower-case hexadecimal digits."""
    return len(text) == _DIGITS[algorithm] and not text.strip(_HEXADECIMAL)


def is_file(address: str) -> bool:
    """Whether a direct reference names a wheel or a source archive."""
    parts = parse_address(address)
    return parts.scheme in ("https", "http", "file") and parts.filename.endswith((".whl", ".tar.gz", ".zip"))


def is_repository(address: str) -> bool:
    """Whether a direct reference names a git repository."""
    return parse_address(address).scheme in ("git+https", "git+ssh", "git+file")


def parse_runtime(text: str) -> Need:
    """A constraint on a language's runtime, such as `python>=3.11,<3.14`, or `node 20` for that whole line.

    `node=20` and `node@20` are read like `node 20`.

    Versions alone are Python's: `>=3.11`, and `3.12` for all of its patches.
    """
    alone = _VERSION.match(text.strip())
    if alone:
        text = f"{alone.group(1) or 'python'}{_line(alone.group(2))}"
    elif text.lstrip()[:1] in ("=", "<", ">", "~", "!"):
        text = f"python{text}"
    need = parse_requirement(text)
    if need.extras or need.marker or need.url:
        raise NotUnderstood(f"'{text}' is not a runtime", remedy="rabbet declare --runtime 'python>=3.11'")
    return need


def parse_versions(text: str) -> SpecifierSet:
    """Versions of a runtime: specifiers, or the beginning of a version for its whole line."""
    alone = _VERSION.match(text.strip())
    return parse_specifiers(_line(alone.group(2)) if alone and not alone.group(1) else text)


def _line(digits: str) -> str:
    """All versions that begin so; three numbers name one version, whatever stands behind them."""
    return f"=={digits}" if digits.count(".") > 1 else f"=={digits}.*"


def parse_specifiers(text: str) -> SpecifierSet:
    """Version specifiers such as `>=3.11,<3.14` (PEP 440). Raises `NotUnderstood`."""
    reason = beyond(text)
    try:
        if not reason:
            return SpecifierSet(text)
    except InvalidSpecifier as error:
        reason = str(error)
    raise NotUnderstood(f"'{text[:60]}' names no versions", because=[reason])
