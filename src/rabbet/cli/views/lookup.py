"""What `lookup` lists."""

from rabbet.cli.context import Context
from rabbet.cli.style import count, table
from rabbet.core.lock.offers import Offer
from rabbet.tasks.lookup import LookedUp

__all__ = ["document", "show"]


def show(found: LookedUp, context: Context, *, most: int | None) -> None:
    """Print the releases, at most so many besides the locked one."""
    offers = found.offers
    shown = [one for number, one in enumerate(offers) if most is None or number < most or one.locked]
    rows = [
        (str(one.version), one.uploaded or "-", one.python or "any", _systems(one), _remark(one))
        for one in shown
    ]
    for line in table(("release", "uploaded", "python", "wheels for", ""), rows, context.style):
        context.show(line)
    context.show()
    hidden = f", {len(shown)} of them shown (--all for the rest)" if len(shown) < len(offers) else ""
    context.show(f"{found.name}: {count(len(offers), 'release')} in the source '{found.source}'{hidden}.")


def document(found: LookedUp) -> dict[str, object]:
    """The content of the JSON document."""
    return {
        "name": found.name,
        "source": found.source,
        "target": str(found.target),
        "releases": [
            {
                "version": str(one.version),
                "uploaded": one.uploaded or None,
                "python": one.python or None,
                "systems": list(one.systems),
                "yanked": one.yanked,
                "refused": one.refused or None,
                "allowed": one.allowed,
                "locked": one.locked,
            }
            for one in found.offers
        ],
    }


def _systems(one: Offer) -> str:
    return "any" if "any" in one.systems else ", ".join(one.systems)


def _remark(one: Offer) -> str:
    """What sets a release apart, the weightiest first."""
    words = ["locked"] if one.locked else []
    if one.yanked is not None:
        words.append(f"yanked: {one.yanked}" if one.yanked else "yanked")
    elif one.refused:
        words.append(one.refused)
    elif not one.allowed:
        words.append("pre-release" if one.version.is_prerelease else "not allowed by the declaration")
    return ", ".join(words)
