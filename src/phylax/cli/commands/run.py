"""`phylax run`: cleanings and looks, done now."""

from __future__ import annotations

import sys
from datetime import timedelta

import click

from phylax.cli.session.clock import now as clock_now
from phylax.cli.session.following import exit_code, follow, follow_each, print_end, wait_option
from phylax.cli.session.session import Session, pass_session
from phylax.cli.session.volumes import volume_options
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, console, local, print_data, print_list
from phylax.core.ground.quantities import count, show_size, show_span
from phylax.core.ground.tally import Tally
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.record.evidence import Evidence
from phylax.core.runs.runs import Run, RunDetail, in_words
from phylax.core.scheduling.routines import RunStep, StepState
from phylax.core.survey import Ledger


@click.group("run")
def command() -> None:
    """Cleanings and looks, done now."""


@command.command("list")
@click.option("--machine", help="Only of this machine.")
@click.option("--most", default=30, show_default=True, help="At most so many.")
@shows_list(Run)
@pass_session
def list_runs(session: Session, machine: str | None, most: int, form: Form) -> None:
    """List runs, newest first."""
    from itertools import islice

    zone = session.the_shop.clock
    columns = (
        Column("run", lambda r: str(r.id), right=True),
        Column("machine", lambda r: r.machine_tag),
        Column("work", in_words),
        Column("state", lambda r: str(r.state)),
        Column("by", lambda r: r.round_name or r.made_by),
        Column("due", lambda r: local(r.due_at, zone)),
        Column("ended", lambda r: local(r.ended_at, zone)),
        Column("freed", lambda r: "–" if r.freed is None else show_size(r.freed), right=True),
        Column("why", lambda r: r.reason),
    )
    runs = islice(session.shop.runs.list(machine=machine), most)
    print_list(form, runs, columns, empty="No runs yet.")


@command.command("show-evidence")
@click.argument("run", type=int)
@shows_list(Evidence)
@pass_session
def evidence(session: Session, run: int, form: Form) -> None:
    """Check what a run's entry stands on: listing, consents, outcomes."""
    columns = (
        Column("what", lambda e: str(e.what)),
        Column("lines", lambda e: str(e.lines), right=True),
        Column("as its entry says", lambda e: "yes" if e.valid else f"no: {e.why}"),
        Column("digest", lambda e: e.digest, below=True),
    )
    checked = session.shop.runs.evidence(run)
    print_list(form, checked, columns, empty="Its entry stands on nothing of this.")


@command.command("show")
@click.argument("run", type=int)
@shows_one(RunDetail)
@pass_session
def show(session: Session, run: int, form: Form) -> None:
    """Show how a run went."""
    detail = session.shop.runs.get(run)
    if not print_data(form, detail, [detail]):
        print_end(detail)


@command.command("clean")
@click.argument("machine")
@click.argument("categories", nargs=-1, required=True)
@click.option(
    "--agree",
    multiple=True,
    metavar="CATEGORY[:NUMBERS]",
    help="A yes to a category's newest listing: all it proposed, or chosen items, as in "
    "'downloads:3,7'.",
)
@click.option("--comment", default="", help="The client's word, as in 'asked by phone'.")
@volume_options
@click.option("--yes", is_flag=True, help="Do not ask before cleaning.")
@wait_option()
@pass_session
def clean(
    session: Session,
    machine: str,
    categories: tuple[str, ...],
    agree: tuple[str, ...],
    comment: str,
    volumes: VolumeChoice,
    yes: bool,
    wait: bool,
) -> None:
    """Clean CATEGORIES of a machine as soon as it calls."""
    ledger = session.shop.machines.ledger(machine)
    agreed = dict(_agreed(text) for text in agree)
    wanted = tuple(dict.fromkeys((*categories, *agreed)))
    current = session.shop.machines.get(machine)
    known = [volume.mount for volume in (*current.volumes, *current.gone_volumes)]
    if why := volumes.why_not(known):
        raise click.BadParameter(why, param_hint="--volume")
    console.print(_sentence(machine, ledger, wanted, agreed, volumes))
    ask("Clean now?", yes=yes)
    consents = [
        session.shop.surveys.consent(
            ledger.survey_id, key, numbers=numbers, via="command line", comment=comment
        ).id
        for key, numbers in agreed.items()
    ]
    run = session.shop.runs.clean(
        machine, wanted, consents=consents, volumes=volumes, survey_id=ledger.survey_id
    )
    if not wait:
        console.print(f"Run {run.id} waits for {run.machine_tag}.")
        return
    ended = follow(session, run)
    print_end(ended)
    sys.exit(exit_code(ended))


def _agreed(text: str) -> tuple[str, list[int] | None]:
    key, _, numbers = text.partition(":")
    try:
        return key, [int(n) for n in numbers.split(",")] if numbers else None
    except ValueError:
        raise click.BadParameter(
            f"{numbers!r} are not numbers of a listing; write 'downloads:3,7'", param_hint="--agree"
        ) from None


def _sentence(
    machine: str,
    ledger: Ledger,
    wanted: tuple[str, ...],
    agreed: dict[str, list[int] | None],
    volumes: VolumeChoice,
) -> str:
    """Exactly what will be deleted for good, and what will be held and how long."""
    parts, held = [], []
    where = "" if volumes.is_all else f" ({volumes.in_words()})"
    for line in ledger.lines:
        if line.category not in wanted:
            continue
        if line.category in agreed:
            numbers = agreed[line.category]
            chosen = (
                f"the {count(len(numbers), 'item')} you chose"
                if numbers
                else _tally(line.going(volumes, agreed=True))
            )
            if numbers and where:
                chosen += ", as far as they lie there"
            words = f"{line.name}: {chosen}"
        else:
            words = f"{line.name}: {_tally(line.going(volumes))}"
            if line.standing:
                words += " (by a standing consent)"
        if line.hold_for:
            held.append(f"{words}, for {show_span(line.hold_for)}")
        else:
            parts.append(words)
    sentence = f"Deleted for good from {machine}{where}:\n  " + "\n  ".join(parts or ["nothing"])
    if held:
        sentence += "\nHeld first, and can be put back so long:\n  " + "\n  ".join(held)
    return sentence + _by_volume(ledger, wanted, agreed, volumes)


def _by_volume(
    ledger: Ledger,
    wanted: tuple[str, ...],
    agreed: dict[str, list[int] | None],
    volumes: VolumeChoice,
) -> str:
    """The same by volume, where there are several; items that were chosen one by one are not
    known by volume."""
    mounts = [share.mount for share in ledger.volumes]
    if len(mounts) < 2:
        return ""
    words = []
    for mount in mounts:
        here = VolumeChoice(only=(mount,))
        goes = sum(
            (
                line.going(here, agreed=line.category in agreed)
                for line in ledger.lines
                if line.category in wanted and not agreed.get(line.category)
            ),
            Tally(),
        )
        words.append(f"{mount} {_tally(goes) if volumes.covers(mount) else 'not touched'}")
    chosen = sum(len(numbers) for numbers in agreed.values() if numbers)
    beside = f"; beside these the {count(chosen, 'item')} you chose" if chosen else ""
    return "\nBy volume:\n  " + "\n  ".join(words) + beside


def _tally(goes: Tally) -> str:
    return f"{count(goes.count, 'item')}, {show_size(goes.size)}"


@command.command("follow")
@click.argument("run", type=int)
@pass_session
def follow_run(session: Session, run: int) -> None:
    """Follow a run to its end."""
    ended = follow(session, session.shop.runs.get(run))
    print_end(ended)
    sys.exit(exit_code(ended))


@command.command("call-off")
@click.argument("run", type=int)
@pass_session
def call_off(session: Session, run: int) -> None:
    """Stop a run. What it has done so far is recorded."""
    called_off = session.shop.runs.call_off(run)
    console.print(
        f"Run {called_off.id}: {called_off.state}; it stops as soon as the machine hears of it."
    )


@command.command("list-missed")
@click.option("--days", default=14, show_default=True, type=click.IntRange(1, 400))
@shows_list(Run)
@pass_session
def missed(session: Session, days: int, form: Form) -> None:
    """List missed runs and why, newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("run", lambda r: str(r.id), right=True),
        Column("machine", lambda r: r.machine_tag),
        Column("round", lambda r: r.round_name or r.made_by),
        Column("for", lambda r: local(r.occurs_at or r.due_at, zone)),
        Column("why", lambda r: r.reason),
    )
    since = clock_now() - timedelta(days=days)
    print_list(form, session.shop.runs.missed(since), columns, empty="Nothing was missed.")


@command.command("repeat")
@click.argument("runs", type=int, nargs=-1, required=True)
@click.option("--yes", is_flag=True, help="Do not ask first.")
@wait_option(default=False)
@pass_session
def again(session: Session, runs: tuple[int, ...], yes: bool, wait: bool) -> None:
    """Repeat RUNS: a missed run in full, any other only what was left."""
    for number in runs:
        run = session.shop.runs.get(number)
        why = f", {run.reason}" if run.reason else ""
        console.print(f"{run.machine_tag}: {in_words(run)} ({run.state}{why})")
    ask("Do it again as soon as they call?", yes=yes)
    follow_each(session, session.shop.runs.again(runs), wait=wait)


@command.command("show-steps")
@click.argument("run", type=int)
@shows_list(RunStep)
@pass_session
def show_steps(session: Session, run: int, form: Form) -> None:
    """The steps of a run: what is done, by whom, and what comes next."""
    detail = session.shop.runs.get(run)
    if form.is_table:
        _print_steps(session, detail)
    else:
        print_list(form, detail.steps, (), empty="")


def _print_steps(session: Session, detail: RunDetail) -> None:
    zone = session.the_shop.clock
    version = f", version {detail.routine_version}" if detail.routine_version else ""
    console.print(f"{detail.machine_tag}: {detail.routine_name or detail.work}{version}")
    for step in detail.steps:
        who = f"  {step.by}, {local(step.at, zone)}" if step.at else ""
        comment = f"  “{step.comment}”" if step.comment else ""
        console.print(f"  {step.number:>2}  {step.state:<9}  {step.in_words}{who}{comment}")


@command.command("tick")
@click.argument("run", type=int)
@click.argument("step", type=int)
@click.option("--comment", default="", help="What is to be known about it.")
@click.option("--left-out", is_flag=True, help="It is left out; say why with --comment.")
@click.option("--open-again", is_flag=True, help="It is to do after all.")
@pass_session
def tick(
    session: Session, run: int, step: int, comment: str, left_out: bool, open_again: bool
) -> None:
    """Tick a step by hand."""
    if left_out and open_again:
        raise click.UsageError("Give --left-out or --open-again, not both.")
    state = StepState.DONE
    if left_out or open_again:
        state = StepState.LEFT_OUT if left_out else StepState.TO_DO
    _print_steps(session, session.shop.runs.tick(run, step, state, comment))
