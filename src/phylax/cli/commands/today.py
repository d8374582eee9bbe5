"""`phylax today`: what needs attention."""

from __future__ import annotations

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_one
from phylax.cli.terminal.output import Column, console, local, print_data, print_list
from phylax.core.attention.findings import Attention
from phylax.core.attention.today import Today
from phylax.core.ground.quantities import show_size


@click.command("today")
@shows_one(Today, rows=Attention)
@pass_session
def command(session: Session, form: Form) -> None:
    """How the shop stands, and what needs a person."""
    today = session.shop.today()
    zone = session.the_shop.clock
    if print_data(form, today, today.needs_attention):
        return
    console.print(f"{today.sentence}\n", style="bold")
    if today.shop_needs:
        console.print(f"{today.shop_needs} See 'phylax backup list'.\n", style="bold")
    columns = (
        Column("number", lambda a: str(a.id), right=True),
        Column("machine", lambda a: a.machine_tag),
        Column("client", lambda a: a.client_name),
        Column("why", lambda a: a.reason, below=True),
        Column("evidence", lambda a: a.evidence, below=True),
        Column("since", lambda a: local(a.since, zone)),
        Column("next", lambda a: a.next_step),
    )
    print_list(form, today.needs_attention, columns, empty="Nothing needs attention.")
    for run in today.running:
        console.print(f"\nNow: {run.machine_tag}, {run.work}, {run.state}")
    for round_ in today.next_rounds[:5]:
        at = "paused" if round_.paused else local(round_.next_at, zone)
        console.print(f"\nNext: {round_.name}, {at}", end="")
    console.print(f"\n\nFreed since yesterday: {show_size(today.freed)}")
