"""`phylax hold`: what can still be put back."""

from __future__ import annotations

import sys

import click

from phylax.cli.session.following import exit_code, follow, print_end
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.ground.quantities import count, show_size
from phylax.core.ground.tally import Tally
from phylax.core.hold.holds import HeldItem, HeldPick, Hold, IfTaken
from phylax.core.runs.runs import Run


@click.group("hold")
def command() -> None:
    """What is held on machines, and can still be put back."""


@command.command("list")
@click.argument("machine")
@click.option("--also-ended", is_flag=True, help="Also show holds that are empty now.")
@shows_list(Hold)
@pass_session
def list_holds(session: Session, machine: str, also_ended: bool, form: Form) -> None:
    """List what MACHINE holds, newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("hold", lambda h: str(h.id), right=True),
        Column("category", lambda h: h.category),
        Column("on", lambda h: h.mount),
        Column("held", lambda h: _tally(h.held)),
        Column("put back", lambda h: _tally(h.put_back)),
        Column("since", lambda h: local(h.held_at, zone)),
        Column("goes for good", lambda h: local(h.expires_at, zone)),
        Column("run", lambda h: "" if h.run_id is None else str(h.run_id), right=True),
    )
    holds = session.shop.holds.list(machine, also_ended=also_ended)
    print_list(form, holds, columns, empty=f"Nothing is held on {machine}.")


@command.command("show")
@click.argument("hold", type=int)
@click.option("--words", default="", help="Only with this in their path.")
@click.option("--most", default=100, show_default=True, help="At most so many.")
@shows_list(HeldItem)
@pass_session
def show(session: Session, hold: int, words: str, most: int, form: Form) -> None:
    """List the items in HOLD and what became of each."""
    from itertools import islice

    zone = session.the_shop.clock
    columns = (
        Column("number", lambda i: str(i.number), right=True),
        Column("size", lambda i: show_size(i.size), right=True),
        Column("place", lambda i: i.place),
        Column("path", lambda i: i.path),
        Column(
            "is", lambda i: f"{i.status} {local(i.status_at, zone)}" if i.status_at else i.status
        ),
    )
    items = islice(session.shop.holds.items(hold, words=words), most)
    print_list(form, items, columns, empty="Nothing of it.")


_numbers = click.option(
    "--number", "numbers", multiple=True, type=int, help="Only this; repeat for more. All if left "
    "out.",
)  # fmt: skip
_yes = click.option("--yes", is_flag=True, help="Do not ask.")
_wait = click.option(
    "--wait/--no-wait", default=True, help="Follow it to its end.", show_default=True
)


@command.command("put-back")
@click.argument("hold", type=int)
@_numbers
@click.option(
    "--beside", is_flag=True, help="Where a name is taken again, put it beside, under another name."
)
@_wait
@pass_session
def put_back(
    session: Session, hold: int, numbers: tuple[int, ...], beside: bool, wait: bool
) -> None:
    """Put the items in HOLD back where they were. Nothing is ever overwritten."""
    current = session.shop.holds.get(hold)
    if_taken = IfTaken.BESIDE if beside else IfTaken.LEAVE
    pick = HeldPick(hold_id=hold, numbers=numbers)
    run = session.shop.runs.put_back(current.machine_tag, [pick], if_taken=if_taken)
    _see_through(session, run, wait)


@command.command("let-go")
@click.argument("hold", type=int)
@_numbers
@_yes
@_wait
@pass_session
def let_go(session: Session, hold: int, numbers: tuple[int, ...], yes: bool, wait: bool) -> None:
    """Remove the items in HOLD for good now, before their time."""
    current = session.shop.holds.get(hold)
    console.print(f"Deleted for good from {current.machine_tag}: {_chosen(current, numbers)}.")
    ask("Let it go now?", yes=yes)
    run = session.shop.runs.let_go(current.machine_tag, [HeldPick(hold_id=hold, numbers=numbers)])
    _see_through(session, run, wait)


def _see_through(session: Session, run: Run, wait: bool) -> None:
    if not wait:
        console.print(f"Run {run.id} waits for {run.machine_tag}.")
        return
    ended = follow(session, run)
    print_end(ended)
    sys.exit(exit_code(ended))


def _chosen(hold: Hold, numbers: tuple[int, ...]) -> str:
    what = f"the {count(len(numbers), 'item')} you chose" if numbers else _tally(hold.held)
    return f"{what} held of {hold.category}"


def _tally(tally: Tally) -> str:
    return f"{count(tally.count, 'item')}, {show_size(tally.size)}" if tally.count else "–"
