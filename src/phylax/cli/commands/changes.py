"""What was changed on machines, whether it helped, and putting it back."""

from __future__ import annotations

import sys

import click

from phylax.cli.session.following import exit_code, follow, wait_option
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.ground.quantities import count
from phylax.core.runs.runs import Run
from phylax.core.tuning.changes import Change, ChangeState
from phylax.core.tuning.starts import Trial, cost


@click.command("list-changes")
@click.argument("machine")
@shows_list(Change)
@pass_session
def list_changes(session: Session, machine: str, form: Form) -> None:
    """What was changed on MACHINE, newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda c: str(c.number), right=True),
        Column("what", lambda c: f"{c.name} of {c.person}" if c.person else c.name),
        Column("was", lambda c: c.before),
        Column("is", lambda c: c.after),
        Column("by", lambda c: f"{c.who}, {local(c.at, zone)}"),
        Column("now", _state),
        Column("said to it", lambda c: c.comment, below=True),
    )
    empty = f"Nothing was changed on {machine}."
    print_list(form, session.shop.programs.changes(machine), columns, empty=empty)


def _state(change: Change) -> str:
    if change.state is ChangeState.PUT_BACK:
        return f"put back by {change.ended_by}"
    if change.state is ChangeState.MADE and change.drifted_at is not None:
        now = f"{change.runs} {change.drifted_to}" if change.drifted_to else "is not there any more"
        return f"altered by somebody: it {now}"
    return str(change.state)


@click.command("look")
@click.argument("machine")
@wait_option()
@pass_session
def look(session: Session, machine: str, wait: bool) -> None:
    """Read anew startup programs on MACHINE and what its settings are; nothing is touched."""
    follow_change(session, session.shop.runs.look_at_settings(machine), wait=wait)


@click.command("list-trials")
@click.argument("machine")
@shows_list(Trial)
@pass_session
def list_trials(session: Session, machine: str, form: Form) -> None:
    """Whether what was changed on MACHINE has helped, by what its starts cost."""
    zone = session.the_shop.clock
    columns = (
        Column("run", lambda t: str(t.run_id), right=True),
        Column("changed", lambda t: ", ".join(t.programs)),
        Column("when", lambda t: local(t.changed_at, zone)),
        Column("outcome", lambda t: t.judged.outcome),
        Column("starts", lambda t: str(t.judged.starts), right=True),
        Column("cost", _cost, below=True),
    )
    empty = f"Nothing was changed on {machine}."
    print_list(form, session.shop.programs.trials(machine), columns, empty=empty)


def _cost(trial: Trial) -> str:
    judged = trial.judged
    if judged.likely is not None:
        return cost(judged)
    if judged.next_judged_after is None:
        return ""
    return f"judged after {count(judged.next_judged_after, 'start')} that count"


@click.command("put-back")
@click.argument("machine")
@click.argument("numbers", nargs=-1, type=int)
@click.option("--all", "everything", is_flag=True, help="All that was changed and not put back.")
@wait_option()
@pass_session
def put_back(
    session: Session, machine: str, numbers: tuple[int, ...], everything: bool, wait: bool
) -> None:
    """Make everything what it was before changes NUMBERS of MACHINE."""
    if bool(numbers) == everything:
        raise click.UsageError(
            "Give the numbers of changes, or --all: phylax program list-changes."
        )
    if everything:
        changes = session.shop.programs.changes(machine)
        numbers = tuple(c.number for c in changes if c.state is ChangeState.MADE)
    if not numbers:
        console.print(f"Nothing of {machine} is left to put back.")
        return
    follow_change(session, session.shop.runs.put_settings_back(machine, numbers), wait=wait)


def follow_change(session: Session, run: Run, *, wait: bool) -> None:
    """Say how a change ended, or that it waits for its machine."""
    if not wait:
        console.print(f"Run {run.id} waits for {run.machine_tag}.")
        return
    ended = follow(session, run)
    said = {"done": "Done", "partly": "Done in part"}.get(str(ended.state), str(ended.state))
    console.print(f"{said}{f': {ended.reason}' if ended.reason else ''}.")
    sys.exit(exit_code(ended))
