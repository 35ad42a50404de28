"""The JSON documents of `recreate`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.model.lock import UNTOLD
from rabbet.core.model.plan import Step
from rabbet.documents.drifting.finding import step_reason
from rabbet.tasks.recreating.recreate import RecreateReport

__all__ = ["BehindDocument", "RecreateDocument", "wanted_version"]


class RecreateDocument(Struct, frozen=True):
    """The steps that make an environment match the lock: `done`, or only planned."""

    schema: ClassVar[str] = "recreate"

    report: RecreateReport
    done: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        report = self.report
        return {
            "done": self.done,
            "environment": report.environment,
            "groups": sorted(report.selection.groups) if report.selection else None,
            "extras": sorted(report.selection.extras) if report.selection else None,
            "runtime": {"version": str(report.runtime.version), "executable": report.runtime.executable},
            "other_runtimes": [
                {
                    "language": other.runtime.language,
                    "version": str(other.runtime.version),
                    "executable": other.runtime.executable,
                }
                for other in report.others
            ],
            "rebuild": report.plan.rebuild,
            "outdated": report.outdated,
            "steps": [
                {
                    "action": str(step.action),
                    "name": step.name,
                    "installed": [str(installed.version) for installed in step.installed],
                    "locked": wanted_version(step),
                    "reason": step_reason(step),
                }
                for step in report.plan.steps
            ],
            "strays": list(report.plan.strays),
        }


class BehindDocument(Struct, frozen=True):
    """Why nothing was recreated: the lock is `behind` the declaration."""

    schema: ClassVar[str] = "recreate-behind"

    behind: str

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"done": False, "behind": self.behind}


def wanted_version(step: Step) -> str | None:
    """The version that comes, where it is known before it is built."""
    untold = step.needed is None or step.needed.locked.version == UNTOLD
    return None if untold or step.needed is None else str(step.needed.locked.version)
