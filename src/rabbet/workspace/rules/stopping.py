"""Commands that refuse to go on where the lock breaks a rule, and the one line that `status` has on it."""

from msgspec import Struct

from rabbet.core.rules.breach import MOVING, Breach, refusing
from rabbet.core.rules.model import Stop
from rabbet.core.shell import variant_option
from rabbet.errors import NoLock, RabbetError, RuleRefused
from rabbet.workspace.looking.result_cache import inputs_of, recall_rules_met, remember_rules_met
from rabbet.workspace.rules.judging import counted_rules, judged_lock
from rabbet.workspace.rules.rule_sets import KNOWN, Look, are_rules_stated
from rabbet.workspace.session import Session

__all__ = ["RulesState", "refuse_broken", "rules_state"]

_SHOWN = 5


class RulesState(Struct, frozen=True, kw_only=True):
    """What the lock breaks by what is known on this machine; why that can't be told, if it can't."""

    broken: tuple[Breach, ...] = ()
    unknown: str = ""


def refuse_broken(session: Session, command: Stop, *, always: bool = False) -> None:
    """Raise `RuleRefused` where the lock breaks a rule and that stops this command, or it stops `always`.

    Raises `SourceFailed` where that can't be told.
    """
    if recall_rules_met(session):
        return
    inputs = inputs_of(session)
    rules = counted_rules(session, KNOWN if command == "run" else Look())
    if rules is None or not (always or rules.stops(command)):
        return
    rules.records.refuse_old()
    lock = session.lock()
    if rules.lacks_ages(lock):
        raise RuleRefused(
            f"{session.project.lock_file.name} can't be judged, so `{command}` stops",
            because=["it was made before the age of releases counted, and doesn't tell it"],
            remedy="rabbet resolve",
        )
    broken = refusing(judged_lock(session, rules, lock))
    if not broken:
        remember_rules_met(session, inputs)
        return
    told = [f"{breach.name} {breach.version}: {breach.told}" for breach in broken]
    because = told[:_SHOWN] + ([f"and {len(told) - _SHOWN} more"] if len(told) > _SHOWN else [])
    of_variant = variant_option(session.project.variant)
    moving = any(breach.rule in MOVING for breach in broken)
    raise RuleRefused(
        f"{session.project.lock_file.name} breaks a rule, so `{command}` stops",
        because=because,
        remedy=f"rabbet resolve --mend{of_variant} && rabbet recreate{of_variant}" if moving else "",
        or_else=[f"rabbet rules{of_variant}"],
    )


def rules_state(session: Session) -> RulesState | None:
    """What the lock breaks, without asking anybody; `None` where no rules are stated."""
    if not are_rules_stated(session):
        return None
    try:
        rules = counted_rules(session, KNOWN)
        if rules is None:
            return None
        if rules.records.too_old:
            return RulesState(unknown=rules.records.too_old[0])
        return RulesState(broken=judged_lock(session, rules, session.lock()))
    except NoLock:
        return RulesState()
    except RabbetError as error:
        return RulesState(unknown="; ".join([str(error), *error.because[:1]]))
