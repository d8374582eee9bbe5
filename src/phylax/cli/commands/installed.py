"""`phylax installed`: programs on machines, over the shop, and removing one."""

from __future__ import annotations

import sys

import click

from phylax.cli.session.actions import follow_action, followed
from phylax.cli.session.session import EXIT_NOT_DONE, Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.actions import RemoveProgram, TryRemoval
from phylax.core.ground.quantities import show_size
from phylax.core.ground.suggestions import did_you_mean
from phylax.core.inventory.programs import ProgramOnMachine


@click.group("installed")
def command() -> None:
    """Programs on machines, over the shop, and removing one."""


@command.command("list")
@click.argument("words", nargs=-1)
@click.option("--machine", help="Only on this machine.")
@click.option("--trial", is_flag=True, help="Only what is trial version.")
@click.option("--unused-days", type=int, metavar="DAYS", help="Nobody has started it for DAYS.")
@click.option("--not-version", default="", metavar="VERSION", help="Every version but this one.")
@shows_list(ProgramOnMachine)
@pass_session
def list_installed(
    session: Session,
    words: tuple[str, ...],
    machine: str | None,
    trial: bool,
    unused_days: int | None,
    not_version: str,
    form: Form,
) -> None:
    """Programs with WORDS in their name, over the shop, the largest first."""
    zone = session.the_shop.clock
    columns = (
        Column("machine", lambda p: p.machine_tag),
        Column("program", lambda p: p.program.name),
        Column("version", lambda p: p.program.version),
        Column("size", lambda p: show_size(p.program.size) if p.program.size else "", right=True),
        Column(
            "last used", lambda p: local(p.program.last_used, zone) if p.program.last_used else ""
        ),
        Column("removed", lambda p: p.program.removal),
        Column("key", lambda p: p.program.key, below=True),
    )
    rows = session.shop.upkeep.installed(
        " ".join(words), trial=trial, unused_days=unused_days, not_version=not_version, limit=1000
    )
    if machine:
        rows = [row for row in rows if row.machine_tag == machine]
    print_list(form, rows, columns, empty="There is none, by the newest surveys.")


@command.command("try")
@click.argument("machine")
@click.argument("program")
@pass_session
def try_removal(session: Session, machine: str, program: str) -> None:
    """Find out what removing PROGRAM, by its name or key, would take along. Nothing is done."""
    row = _row(session, machine, program)
    action = TryRemoval(program=row.program.key, version=row.program.version)
    _, parts = followed(session, session.shop.upkeep.act(machine, action))
    tried = parts[0].tried if parts else None
    if tried is None or tried.refused:
        console.print(f"It is not removed: {tried.refused if tried else 'nobody could look'}.")
        sys.exit(EXIT_NOT_DONE)
    for other in tried.along:
        console.print(f"  goes with it: {other.name} {other.version}")
    console.print(f"It would free {show_size(tried.frees or 0)}.")
    if not tried.can_come_back:
        console.print("This version cannot be had again: say --gone-for-good to remove it.")


@command.command("remove")
@click.argument("machine")
@click.argument("program")
@click.option(
    "--backup-days", type=int, required=True, metavar="DAYS", help="How old the last backup is."
)
@click.option("--gone-for-good", is_flag=True, help="Also if this version cannot be had again.")
@click.option("--comment", default="", help="What was said to it, for the record.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_session
def remove(
    session: Session,
    machine: str,
    program: str,
    backup_days: int,
    gone_for_good: bool,
    comment: str,
    yes: bool,
) -> None:
    """Remove PROGRAM, by its name or key, and what it was agreed takes along. It is tried first."""
    installed = _row(session, machine, program).program
    action = TryRemoval(program=installed.key, version=installed.version)
    _, parts = followed(session, session.shop.upkeep.act(machine, action))
    tried = parts[0].tried if parts else None
    if tried is None or tried.refused:
        console.print(f"It is not removed: {tried.refused if tried else 'nobody could look'}.")
        sys.exit(EXIT_NOT_DONE)
    along = ", ".join(f"{other.name} {other.version}" for other in tried.along)
    console.print(
        f"Goes: {installed.name} {installed.version}{f'; with it {along}' if along else ''}."
    )
    ask("Remove it?", yes=yes)
    consent = RemoveProgram(
        program=installed.key, version=installed.version, along=tried.along,
        not_reinstallable=gone_for_good, backup_days=backup_days,
    )  # fmt: skip
    follow_action(session, session.shop.upkeep.act(machine, consent, comment=comment), wait=True)


def _row(session: Session, machine: str, program: str) -> ProgramOnMachine:
    rows = [row for row in session.shop.upkeep.installed(limit=1000) if row.machine_tag == machine]
    for row in rows:
        if program in (row.program.key, row.program.name):
            return row
    meant = did_you_mean(program, (row.program.name for row in rows))
    raise click.UsageError(
        f"{machine} has no program {program!r}, by its newest survey{meant} See 'phylax installed "
        f"list --machine {machine}'."
    )
