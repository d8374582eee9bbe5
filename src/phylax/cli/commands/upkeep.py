"""`phylax upkeep`: disks arranged, file systems repaired, restarts; what is built in."""

from __future__ import annotations

from datetime import timedelta
from typing import TypeVar

import click

from phylax.cli.session.actions import follow_action
from phylax.cli.session.clock import now as clock_now
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, print_list
from phylax.core.actions import ArrangeDisks, ClearNameCache, RepairFileSystem, Restart
from phylax.core.ground.quantities import show_size
from phylax.core.inventory import DisksListed, DriversListed, HardwareListed
from phylax.core.inventory.disks import VolumeOnDisk
from phylax.core.inventory.drivers import Driver
from phylax.core.inventory.hardware import MemorySlot
from phylax.core.protocol.snapshots import BeforeAfter

Listed = TypeVar("Listed", DriversListed, DisksListed, HardwareListed)

_WAIT = click.option(
    "--wait/--no-wait", default=True, help="Follow it to its end.", show_default=True
)


@click.group("upkeep")
def command() -> None:
    """Disks arranged, file systems repaired, restarts; what is built in."""


@command.command("arrange")
@click.argument("machine")
@click.argument("volumes", nargs=-1)
@_WAIT
@pass_session
def arrange(session: Session, machine: str, volumes: tuple[str, ...], wait: bool) -> None:
    """Give VOLUMES of MACHINE, or all, the treatment that their disks allow."""
    action = ArrangeDisks(volumes=volumes)
    follow_action(session, session.shop.upkeep.act(machine, action), wait=wait)


@command.command("repair")
@click.argument("machine")
@click.argument("volume")
@click.option(
    "--backup-days", type=int, required=True, metavar="DAYS", help="How old the last backup is."
)
@click.option("--comment", default="", help="What was said to it, for the record.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@_WAIT
@pass_session
def repair(
    session: Session,
    machine: str,
    volume: str,
    backup_days: int,
    comment: str,
    yes: bool,
    wait: bool,
) -> None:
    """Have VOLUME of MACHINE repaired when it starts next."""
    console.print(RepairFileSystem.notice)
    ask("Repair it at the next start?", yes=yes)
    action = RepairFileSystem(volume=volume, backup_days=backup_days)
    follow_action(session, session.shop.upkeep.act(machine, action, comment=comment), wait=wait)


@command.command("clear-names")
@click.argument("machine")
@_WAIT
@pass_session
def clear_names(session: Session, machine: str, wait: bool) -> None:
    """Let MACHINE forget how names of other machines resolved."""
    follow_action(session, session.shop.upkeep.act(machine, ClearNameCache()), wait=wait)


@command.command("restart")
@click.argument("machine")
@click.option("--in", "minutes", type=int, metavar="MINUTES", help="Not before so many minutes.")
@click.option("--warn", type=int, default=10, metavar="MINUTES", show_default=True,
              help="How long before people at it are told.")  # fmt: skip
@click.option("--comment", default="", help="Who is at it, where it does not come back alone.")
@_WAIT
@pass_session
def restart(
    session: Session, machine: str, minutes: int | None, warn: int, comment: str, wait: bool
) -> None:
    """Restart MACHINE. People at it are warned, and may put it off twice."""
    at = None if minutes is None else clock_now() + timedelta(minutes=minutes)
    action = Restart(warn_minutes=warn)
    run = session.shop.upkeep.act(machine, action, comment=comment, at=at)
    follow_action(session, run, wait=wait and at is None)


@command.command("compare")
@click.argument("run", type=int)
@shows_list(BeforeAfter)
@pass_session
def compare(session: Session, run: int, form: Form) -> None:
    """What is otherwise after RUN: startup programs, the start, free space, what failed."""
    comparison = session.shop.upkeep.comparison(run)
    columns = (
        Column("what", lambda d: d.what),
        Column("before", lambda d: d.before),
        Column("after", lambda d: d.after),
        Column("", lambda d: "worse" if d.worse else ""),
    )
    empty = "Nothing is otherwise."
    if comparison.after is None:
        empty = "It was not looked at afterwards yet."
    print_list(form, comparison.differences, columns, empty=empty)


@command.command("list-drivers")
@click.argument("machine")
@shows_list(Driver)
@pass_session
def drivers(session: Session, machine: str, form: Form) -> None:
    """Devices of MACHINE and what drives them."""
    listed = _of(session, machine, DriversListed)
    columns = (
        Column("device", lambda d: d.device),
        Column("driver", lambda d: d.driver or "none"),
        Column("version", lambda d: d.version),
        Column("date", lambda d: d.date),
    )
    rows = listed.drivers if listed else ()
    print_list(form, rows, columns, empty=_not_yet(machine, "drivers"))


@command.command("list-disks")
@click.argument("machine")
@shows_list(VolumeOnDisk)
@pass_session
def disks(session: Session, machine: str, form: Form) -> None:
    """How files lie on the disks of MACHINE, and which treatment these allow."""
    listed = _of(session, machine, DisksListed)
    columns = (
        Column("volume", lambda v: v.volume),
        Column("files", lambda v: "" if v.files is None else str(v.files), right=True),
        Column("pieces", lambda v: "" if v.pieces is None else str(v.pieces), right=True),
        Column("treatment", lambda v: v.judgement.treatment),
        Column("why", lambda v: v.judgement.why, below=True),
    )
    rows = listed.volumes if listed else ()
    print_list(form, rows, columns, empty=_not_yet(machine, "fragmentation"))


@command.command("list-parts")
@click.argument("machine")
@shows_list(MemorySlot)
@pass_session
def parts(session: Session, machine: str, form: Form) -> None:
    """What is built into MACHINE: its memory, slot by slot."""
    listed = _of(session, machine, HardwareListed)
    columns = (
        Column("slot", lambda s: s.place),
        Column("size", lambda s: show_size(s.size) if s.size else "empty", right=True),
        Column("kind", lambda s: s.kind),
        Column("made by", lambda s: f"{s.maker} {s.model}".strip()),
    )
    rows = listed.slots if listed else ()
    if listed is not None and form.is_table:
        fits = f", {show_size(listed.most_memory)} fit" if listed.most_memory else ""
        console.print(f"{listed.make} {listed.model}: {show_size(listed.memory or 0)}{fits}")
    print_list(form, rows, columns, empty=_not_yet(machine, "hardware"))


def _of(session: Session, machine: str, kind: type[Listed]) -> Listed | None:
    listed = session.shop.upkeep.inventories(machine)
    return next((inventory for inventory in listed if isinstance(inventory, kind)), None)


def _not_yet(machine: str, check: str) -> str:
    return f"Nothing is known of that yet: phylax check run {machine} {check}"
