"""Carrying out a command in a place (`--in`), whose commands in sentences and errors name that place."""

from argparse import Namespace
from collections.abc import Callable, Sequence
from contextlib import ExitStack

from rabbet.cli.context import Context
from rabbet.cli.now import bring_up_to_date
from rabbet.disk.named import path_named
from rabbet.disk.process_lock import claimed
from rabbet.errors import EnvironmentFailed, ExitCode, RabbetError
from rabbet.workspace.looking.result_cache import recall_fit
from rabbet.workspace.places import Place, place_in, script_file
from rabbet.workspace.project import behind
from rabbet.workspace.session import Session

__all__ = ["carry_out_in", "run_script"]


def carry_out_in(
    text: str, run: Callable[[Context], int], context: Context, *, writing: bool, locking: bool
) -> int:
    """The exit code of a command that works on the project of a place.

    One process at a time changes a script, in a command that is `writing`; one that is `locking` leaves the
    lock beside it. Raises what opening the place and the command raise.
    """
    with ExitStack() as claims:
        place = claimed_place(text, context, claims)
        if not writing:
            claims.close()
        try:
            code = run(context._replace(place=place))
        except RabbetError as error:
            raise named_in(error, place) from error.__cause__
        if writing and place.write_back(locking=locking and code == ExitCode.DONE):
            context.note(f"{place.beside.name} lies beside {place.project.only_file} now, and counts.")
        return code


def run_script(command: Sequence[str], arguments: Namespace, context: Context) -> int:
    """Replace this process by a script, in an environment with what its metadata asks for.

    Lock and environment are brought up to date first; a lock beside the script is followed, and not changed.
    Raises what resolving and recreating raise, and `EnvironmentFailed` where that lock is out of date.
    """
    from rabbet.tasks.recreating.run import become, inside, refuse_broken_rules

    with ExitStack() as claims:
        place = claimed_place(command[0], context, claims)
        context = context._replace(place=place)
        try:
            session = context.session(arguments.variant)
            if place.locked is None:
                bring_up_to_date(session, context)
            else:
                _follow_lock(session, context, arguments.carried)
            refuse_broken_rules(session)
            variables = inside(session)
        except RabbetError as error:
            raise named_in(error, place) from error.__cause__
    context.output.flush()
    return become(session, ["python", *command], variables)


def _follow_lock(session: Session, context: Context, carried: str | None) -> None:
    """Recreate the environment from the lock beside the script, if it does not fit; perhaps from a folder."""
    if recall_fit(session) is not None:
        return
    from rabbet.cli.views.recreating.now import note_recreated
    from rabbet.core.model.options import RecreateOptions  # here: mostly it fits
    from rabbet.tasks.recreating.recreate import recreate

    reason = behind(session.project)
    if reason:
        raise EnvironmentFailed(
            f"{session.project.lock_file.name} is out of date: {reason}", remedy="rabbet resolve"
        )
    if carried is not None:
        from rabbet.tasks.more.carry import take_carried

        for note in take_carried(session, path_named(carried, context.machine.folder)):
            context.note(note)
    note_recreated(recreate(session, RecreateOptions()), context)


def claimed_place(text: str, context: Context, claims: ExitStack) -> Place:
    """The place that a text names, claimed if it is a script."""
    machine = context.machine
    script = script_file(text, machine)
    if script is not None:
        claims.enter_context(claimed(machine.store_folder, f"script {script}"))
    return place_in(text, machine)


def named_in(error: RabbetError, place: Place) -> RabbetError:
    """The error with commands that name the place."""
    error.args = tuple(place.told(str(argument)) for argument in error.args)
    error.because = tuple(place.told(reason) for reason in error.because)
    error.note = place.told(error.note)
    error.ways = tuple(
        way._replace(command=place.told(way.command), gives=place.told(way.gives)) for way in error.ways
    )
    return error
