"""`phylax today`: what needs you."""

from __future__ import annotations

import click

from phylax.cli._output import Column, console, format_option, local, print_list
from phylax.cli._session import Session, pass_session
from phylax.core.quantities import show_size


@click.command("today")
@format_option
@pass_session
def command(session: Session, form: str) -> None:
    """How the shop stands, and what needs a person."""
    today = session.shop.today()
    zone = session.the_shop.clock
    if form == "table":
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
    print_list(form, today.needs_you, columns, empty="Nothing needs you.")
    if form != "table":
        return
    for run in today.running:
        console.print(f"\nNow: {run.machine_tag}, {run.work}, {run.state}")
    for round_ in today.next_rounds[:5]:
        at = "paused" if round_.paused else local(round_.next_at, zone)
        console.print(f"\nNext: {round_.name}, {at}", end="")
    console.print(f"\n\nFreed since yesterday: {show_size(today.freed)}")
