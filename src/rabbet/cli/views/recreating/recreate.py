"""The view of `recreate`: the steps done, or planned."""

from rabbet.cli.context import Context
from rabbet.cli.views.recreating.unchanged import fit_text, made_text, steps_table
from rabbet.core.model.plan import Action, Plan, Step
from rabbet.core.shell import variant_option
from rabbet.documents.amounts import count
from rabbet.documents.drifting.finding import step_reason
from rabbet.documents.recreating.recreate import RecreateDocument, wanted_version
from rabbet.tasks.recreating.recreate import RecreateReport

__all__ = ["RecreateView", "outcome"]

_DONE = {
    Action.ADD: "added",
    Action.REPLACE: "replaced",
    Action.REMOVE: "removed",
    Action.KEEP: "kept",
}
_TO_DO = {
    Action.ADD: "add",
    Action.REPLACE: "replace",
    Action.REMOVE: "remove",
    Action.KEEP: "keep",
}


class RecreateView(RecreateDocument, frozen=True):
    """The steps that make an environment match the lock: `done`, or only planned.

    Libraries that are `listed` already, by name and version, are not shown again.
    """

    listed: frozenset[tuple[str, str]] = frozenset()

    def show(self, context: Context) -> None:
        """Print the steps, and the outcome."""
        report, plan = self.report, self.report.plan
        steps = [step for step in plan.steps if step.action is not Action.KEEP]
        rows = [_row(step) for step in steps if (step.name, _version(step)) not in self.listed]
        rows += [("remove", place, "-", "untracked file") for place in plan.strays]
        if rows:
            steps_table(rows, context)
        if report.outdated:
            context.show("The declaration changed since the lock; to take it in: rabbet resolve")
        context.show(outcome(report, only_plan=not self.done))


def outcome(report: RecreateReport, *, only_plan: bool = False) -> str:
    """One sentence on what was done to the environment, or would be."""
    plan, runtimes, name = report.plan, report.runtimes, report.fit.environment
    if plan.idle:
        return fit_text(report.fit)
    if only_plan:
        command = f"rabbet recreate{variant_option(report.variant)}"
        change = f"make {name} with {runtimes} ({plan.rebuild})" if plan.rebuild else f"change {name}"
        due = [f"{verb} {len(plan.of(action))}" for action, verb in _TO_DO.items() if plan.of(action)]
        due += [f"remove {count(len(plan.strays), 'untracked file')}"] if plan.strays else []
        return f"Would {change}: {', '.join(due) or 'no libraries'}. To do it: {command}"
    if plan.rebuild:
        return made_text(name, runtimes, _summary(plan), report.variant)
    return f"Changed {name} to match the lock: {_summary(plan)}."


def _summary(plan: Plan) -> str:
    told = [f"{len(plan.of(action))} {word}" for action, word in _DONE.items() if plan.of(action)]
    told += [f"{count(len(plan.strays), 'untracked file')} removed"] if plan.strays else []
    return ", ".join(told) or "no libraries"


def _row(step: Step) -> tuple[str, str, str, str]:
    return str(step.action), step.name, _version(step), step_reason(step)


def _version(step: Step) -> str:
    version = wanted_version(step) if step.needed else str(step.installed[0].version)
    return version or "-"
