"""A target: the platform and runtime version that a solution serves."""

from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace
from packaging.markers import Marker
from packaging.version import Version

__all__ = ["LATEST_PATCH", "Target", "environment_of", "targets_text"]

LATEST_PATCH = 99
"""Stands for the latest patch release of a minor version of Python that is served without being here."""


class Target(Struct, frozen=True, kw_only=True):
    """A platform and a runtime version, with what markers and wheel tags mean there.

    `tags` maps each compatibility tag (PEP 425), such as `cp312-cp312-manylinux_2_28_x86_64`, to its rank: 0
    is the best. `alike` are other targets with the same markers: no lock can tell them apart, so what is
    chosen has to serve them all. `libc` is the C library (on macOS, `macos`) with its version: that of a
    machine, or (`named`) the baseline that a declaration's target is assumed to have at least.
    """

    platform: str
    python: Version
    markers: Mapping[str, str]
    tags: Mapping[str, int]
    alike: "tuple[Target, ...]" = ()
    libc: tuple[str, str] = ("", "")
    named: bool = False

    def __hash__(self) -> int:
        """Of what tells targets apart: markers and tags follow from it."""
        return hash((self.platform, self.python, self.alike, self.libc, self.named))

    @property
    def minor(self) -> str:
        """The first two numbers of Python's version."""
        return f"{self.python.major}.{self.python.minor}"

    def admits(self, marker: Marker | None, extra: str = "") -> bool:
        """Whether a requirement under this marker (PEP 508) counts here, asked for by this extra."""
        return marker is None or marker.evaluate({**self.markers, "extra": extra})

    def depends_on_patch(self, marker: Marker | None, extra: str = "") -> bool:
        """Whether a marker counts on some patch releases of this version of Python, and not on others."""
        if marker is None or "full_version" not in str(marker):
            return False
        answers = {
            marker.evaluate({**self.markers, "extra": extra, "python_full_version": f"{self.minor}.{patch}"})
            for patch in range(LATEST_PATCH + 1)
        }
        return len(answers) > 1

    @property
    def environment(self) -> str:
        """The marker that tells this target from others, for a lock's `environments` (PEP 751)."""
        return environment_of(self.markers)

    @property
    def each(self) -> "tuple[Target, ...]":
        """The target and those that are alike, each on its own."""
        return (replace(self, alike=()), *self.alike) if self.alike else (self,)

    def __str__(self) -> str:
        """Such as `linux-x86_64 with Python 3.12`."""
        platforms = " and ".join(target.platform for target in (self, *self.alike))
        return f"{platforms} with Python {self.minor}"


def environment_of(markers: Mapping[str, str]) -> str:
    """The marker that tells a target with these values of markers from others (PEP 751)."""
    keys = ("implementation_name", "platform_machine", "python_version", "sys_platform")
    return " and ".join(f"{key} == '{markers[key]}'" for key in keys)


def targets_text(targets: Sequence[Target]) -> str:
    """The one target, the versions of Python for one platform, or how many targets there are."""
    platforms = {str(target).partition(" with ")[0] for target in targets}
    minors = sorted({target.python.release[:2] for target in targets})
    if len(platforms) == 1:
        first, last = (".".join(map(str, minors[place])) for place in (0, -1))
        whole = len(minors) == minors[-1][1] - minors[0][1] + 1 > 1
        each = ", ".join(".".join(map(str, minor)) for minor in minors)
        return f"{platforms.pop()} with Python {f'{first} to {last}' if whole else each}"
    return f"{sum(len(target.each) for target in targets)} targets"
