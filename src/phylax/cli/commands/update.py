"""`phylax update`: what machines lack, and installing it."""

from __future__ import annotations

import click

from phylax.cli.session.actions import follow_action
from phylax.cli.session.following import wait_option
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.actions import InstallUpdates
from phylax.core.ground.quantities import show_size
from phylax.core.inventory.updates import MissingUpdate, UpdatesListed


@click.group("update")
def command() -> None:
    """What machines lack, and installing it."""


@command.command("list")
@click.argument("machine")
@shows_list(MissingUpdate)
@pass_session
def list_updates(session: Session, machine: str, form: Form) -> None:
    """What MACHINE lacks: security first, the oldest first."""
    zone = session.the_shop.clock
    columns = (
        Column("what", lambda m: m.update.name),
        Column("is", lambda m: m.update.now),
        Column("could be", lambda m: m.update.version),
        Column("for", lambda m: "security" if m.update.security else ""),
        Column("size", lambda m: show_size(m.update.size) if m.update.size else "", right=True),
        Column("missing since", lambda m: local(m.since, zone)),
        Column("from", _from, below=True),
    )
    listed = [i for i in session.shop.upkeep.inventories(machine) if isinstance(i, UpdatesListed)]
    empty = f"{machine} lacks nothing, by its newest survey."
    if not listed:
        empty = f"{machine} was not asked yet: phylax check run {machine} updates"
    elif listed[0].unread:
        console.print(f"The newest survey failed: {listed[0].unread}")
    print_list(form, session.shop.upkeep.updates(machine), columns, empty=empty)


def _from(missing: MissingUpdate) -> str:
    held = f"; left for a person: {missing.update.held_back}" if missing.update.held_back else ""
    return f"{missing.update.origin}{held}".lstrip("; ")


@command.command("install")
@click.argument("machine")
@click.argument("names", nargs=-1)
@click.option("--only-security", is_flag=True, help="Only what is for security.")
@wait_option()
@pass_session
def install(
    session: Session, machine: str, names: tuple[str, ...], only_security: bool, wait: bool
) -> None:
    """Install what MACHINE lacks, or only NAMES. Nothing is removed."""
    action = InstallUpdates(only_security=only_security, names=names)
    follow_action(session, session.shop.upkeep.act(machine, action), wait=wait)
