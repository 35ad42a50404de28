"""The view of `lookup`."""

from collections.abc import Sequence

from msgspec.structs import replace

from rabbet.cli.context import Context
from rabbet.core.model.target import Target
from rabbet.core.needs.wording import need_text
from rabbet.documents.amounts import count
from rabbet.documents.resolving.lookup import LookupDocument
from rabbet.python.choosing.release_overview import Offer

__all__ = ["LookupView"]


class LookupView(LookupDocument, frozen=True):
    """The releases of a library; as text at `most` so many besides the locked one."""

    most: int | None

    def show(self, context: Context) -> None:
        """Print the releases."""
        found, offers, most = self.found, self.found.offers, self.most
        asked = need_text(replace(found.asked, extras=frozenset()))
        if not offers and found.newest:
            context.show(
                f"No release matches {asked}: the newest in the source '{found.source}' is {found.newest}."
            )
            return
        shown = [
            offer for number, offer in enumerate(offers) if most is None or number < most or offer.locked
        ]
        rows = [
            (
                str(offer.version),
                offer.uploaded or "-",
                offer.python or "any",
                _wheels(offer, found.targets),
                _remark(offer),
            )
            for offer in shown
        ]
        context.show_table(("release", "uploaded", "python", "wheels for", ""), rows)
        context.show()
        behind = next((offer for offer in shown if offer.baseline), None)
        if behind is not None:
            command = f"rabbet declare --baseline {behind.baseline}"
            context.show(f"A baseline rules out {behind.version}. To raise it: {command}")
        hidden = f", {len(shown)} of them shown (--all for the rest)" if len(shown) < len(offers) else ""
        context.show(f"{asked}: {count(len(offers), 'release')} in the source '{found.source}'{hidden}.")


def _wheels(offer: Offer, targets: Sequence[Target]) -> str:
    """The targets that a release has wheels for; for one target, or if they are for any, the systems."""
    one_platform = len({target.platform for target in targets}) == 1
    if len(targets) == 1 or (one_platform and "any" in offer.systems and len(offer.serves) == len(targets)):
        return "any" if "any" in offer.systems else ", ".join(offer.systems)
    if len(offer.serves) in (0, len(targets)):
        return f"all {len(targets)} targets" if offer.serves else "no target"
    missing = [target for target in targets if target not in offer.serves]
    if len(missing) < len(offer.serves):
        return f"all but {_places(missing, targets)}"
    return _places(offer.serves, targets)


def _places(chosen: Sequence[Target], targets: Sequence[Target]) -> str:
    """Targets by their platforms, with the versions of Python where a platform is not there with all."""
    pythons = [_minor(target) for target in chosen]
    if len(chosen) == sum(_minor(target) in pythons for target in targets):
        return f"Python {', '.join(dict.fromkeys(pythons))}"
    places = []
    for platform in dict.fromkeys(target.platform for target in chosen):
        pythons = [_minor(target) for target in chosen if target.platform == platform]
        whole = len(pythons) == sum(target.platform == platform for target in targets)
        places.append(platform if whole else f"{platform} ({', '.join(pythons)})")
    return ", ".join(places)


def _minor(target: Target) -> str:
    return f"{target.python.major}.{target.python.minor}"


def _remark(offer: Offer) -> str:
    """The remarks on a release, weightiest first."""
    words = ["locked"] if offer.locked else []
    if offer.yanked is not None:
        words.append(f"yanked: {offer.yanked}" if offer.yanked else "yanked")
    elif not offer.serves:
        words.append(offer.refused)
    elif not offer.allowed:
        words.append("pre-release" if offer.version.is_prerelease else "not allowed by the declaration")
    return ", ".join(words)
