"""Requirements in the words and order that people use, without the secrets that addresses may hold."""

from packaging.specifiers import SpecifierSet

from rabbet.core.model.build import BuildOptions
from rabbet.core.needs.need import Need
from rabbet.core.shown_text import without_credentials

__all__ = ["build_options_texts", "need_text", "specifiers_text"]

_OPERATORS = ("===", "==", "~=", ">=", ">", "!=", "<=", "<")


def specifiers_text(specifiers: SpecifierSet) -> str:
    """Such as `>=2,<4`."""
    ordered = sorted(
        specifiers, key=lambda specifier: (_OPERATORS.index(specifier.operator), specifier.version)
    )
    return ",".join(str(clause) for clause in ordered)


def need_text(need: Need, *, marker: bool = True, whole: bool = False) -> str:
    """Such as `combframe[fast]>=2,<4; os_name == "nt"`; without the marker where it has done its work.

    Only the `whole` text has the credentials that its address may hold.
    """
    extras = f"[{','.join(sorted(need.extras))}]" if need.extras else ""
    behind = f"; {need.marker}" if marker and need.marker else ""
    if need.url is not None:
        url = need.url if whole else without_credentials(need.url)
        return f"{need.written_name}{extras} @ {url}{' ' if behind else ''}{behind}"
    return f"{need.written_name}{extras}{specifiers_text(need.specifier)}{behind}"


def build_options_texts(options: BuildOptions) -> tuple[str, ...]:
    """Each variable, setting and further requirement of a build."""
    return (
        *(f"{variable}={value}" for variable, value in options.variables.items()),
        *(f"setting {key}={value}" for key, value in options.settings.items()),
        *(f"needs {need_text(need)}" for need in options.needs),
    )
