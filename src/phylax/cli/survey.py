"""`phylax survey`: what a look found."""

from __future__ import annotations

import sys

import click

from phylax.cli._following import exit_code, follow, print_end
from phylax.cli._output import Column, console, format_option, local, print_list
from phylax.cli._session import Session, pass_session
from phylax.core.quantities import count, show_size


@click.group("survey")
def command() -> None:
    """What a look found; nothing is touched."""


@command.command("start")
@click.argument("machine")
@click.option("--wait/--no-wait", default=True, help="Follow it to its end.", show_default=True)
@pass_session
def start(session: Session, machine: str, wait: bool) -> None:
    """Look through a machine as soon as it calls, and show what was found."""
    run = session.shop.runs.survey(machine)
    if not wait:
        console.print(f"Run {run.id} waits for {run.machine_tag}.")
        return
    ended = follow(session, run)
    if exit_code(ended):
        print_end(ended)
        sys.exit(exit_code(ended))
    _print_ledger(session, machine, "table")


@command.command("show")
@click.argument("machine")
@format_option
@pass_session
def show(session: Session, machine: str, form: str) -> None:
    """What goes and what stays, as the newest survey found it."""
    _print_ledger(session, machine, form)


def _print_ledger(session: Session, machine: str, form: str) -> None:
    ledger = session.shop.machines.ledger(machine)
    columns = (
        Column("category", lambda line: line.category),
        Column("holds", lambda line: show_size(line.holds.size), right=True),
        Column("goes", lambda line: show_size(line.goes.size), right=True),
        Column("needs a yes", lambda line: show_size(line.needs_yes.size), right=True),
        Column("stays", lambda line: _stays(line), right=False),
        Column("rule", lambda line: f"{line.rule_in_words} ({line.rule.source})"),
    )
    at = local(ledger.taken_at, session.the_shop.clock)
    print_list(form, ledger.lines, columns, empty="Nothing found.")
    if form == "table":
        console.print(
            f"\n{show_size(ledger.goes.size)} can go ({count(ledger.goes.count, 'item')}); "
            f"{show_size(ledger.needs_yes.size)} needs a yes. Survey {ledger.survey_id}, {at}."
        )


def _stays(line: object) -> str:
    stays = getattr(line, "stays", ())
    return ", ".join(f"{show_size(stay.size)} {stay.reason}" for stay in stays) or "–"


@command.command("listing")
@click.argument("machine")
@click.argument("category")
@format_option
@pass_session
def listing(session: Session, machine: str, category: str, form: str) -> None:
    """Every item of a category that needs a yes, with its number."""
    ledger = session.shop.machines.ledger(machine)
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda i: str(i.number), right=True),
        Column("size", lambda i: show_size(i.size), right=True),
        Column("of", lambda i: local(i.aged_from, zone)),
        Column("proposed", lambda i: "yes" if i.reason is None else f"no, {i.reason}"),
        Column("file", lambda i: i.path),
        Column("in", lambda i: i.place),
    )
    found = session.shop.surveys.listing(ledger.survey_id, category)
    print_list(form, found, columns, empty="The listing is empty.")
