"""`phylax backup`: copies of the shop's file, and putting one back in its place."""

from __future__ import annotations

from pathlib import Path

import click

from phylax.cli._output import Column, console, format_option, local, print_list
from phylax.cli._session import Session, pass_session
from phylax.cli.serve import data_option
from phylax.core.quantities import show_size

_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group("backup")
def command() -> None:
    """Copies of the shop's file."""


@command.command("list")
@format_option
@pass_session
def list_backups(session: Session, form: str) -> None:
    """List backups, the newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("made", lambda b: local(b.at, zone)),
        Column("size", lambda b: show_size(b.size) if b.size else "", right=True),
        Column("entries", lambda b: str(b.entries) if not b.why else "", right=True),
        Column("file", lambda b: "" if b.why else f"{b.place}/{b.name}"),
        Column("", lambda b: b.why or ("replaced" if b.gone_at else "good")),
    )
    print_list(form, session.shop.backups.list(), columns, empty="None yet.")
    if form == "table" and (wrong := session.shop.backups.state().wrong):
        console.print(wrong, style="bold")


@command.command("make")
@pass_session
def make(session: Session) -> None:
    """Make a backup now, and check it."""
    backup = session.shop.backups.make()
    if backup.why:
        raise click.ClickException(f"No backup could be made: {backup.why}")
    console.print(
        f"{show_size(backup.size)} in {backup.seconds:.1f} s, {backup.entries} entries of the "
        f"record, all in order:"
    )
    click.echo(f"{backup.place}/{backup.name}")


@command.command("plan")
@click.option("--place", help="A folder on the service's machine, best on another disk; '' is "
                              "beside the shop's file.")  # fmt: skip
@click.option("--hour", type=click.IntRange(0, 23), help="Of the day, from which on.")
@click.option("--daily", type=click.IntRange(1, 366), help="Days of which one is kept.")
@click.option("--weekly", type=click.IntRange(0, 104), help="Weeks of which one is kept.")
@click.option("--monthly", type=click.IntRange(0, 120), help="Months of which one is kept.")
@pass_session
def plan(session: Session, /, **changes: object) -> None:
    """Say where backups go and how many are kept; without options, what is set."""
    family = session.shop.backups
    now = family.plan()
    wanted = {name: value for name, value in changes.items() if value is not None}
    if wanted:
        now = family.set_plan(now, **wanted)
    console.print(
        f"Each day from {now.hour}:00 on, {'in ' + now.place if now.place else 'beside the file'}. "
        f"Kept: one of each of {now.daily} days, {now.weekly} weeks, {now.monthly} months."
    )
    if family.state().beside:
        console.print("They lie on the same disk as the shop's file: choose a place on another.")


@command.command("restore")
@click.argument("file", type=_FILE)
@data_option
@click.option("--yes", is_flag=True, help="Do not ask.")
def restore(file: Path, data: Path, yes: bool) -> None:
    """Put the backup FILE in the place of the shop's file. The service must not run; what was
    there is kept beside it."""
    from phylax.service.backups import restoring

    try:
        looked = restoring.outlook(data, file)
        newest = f", the newest of {looked.newest:%Y-%m-%d %H:%M} UTC" if looked.newest else ""
        click.echo(f"The backup: {looked.backup.shop}, {looked.backup.entries} entries{newest}.")
        if looked.unreadable:
            click.echo(f"What is there now cannot be read: {looked.unreadable}.")
        elif looked.replaced:
            more = looked.replaced.entries - looked.backup.entries
            compared = f"{more} more" if more > 0 else "as many" if not more else f"{-more} fewer"
            click.echo(f"What is there now has {looked.replaced.entries} entries, {compared}.")
        if not yes:
            click.confirm("Put the backup in its place?", abort=True)
        kept = restoring.restore(data, file)
    except restoring.BadCopyError as error:
        raise click.ClickException(f"{file}: {error}.") from error
    except restoring.HeldError as error:
        raise click.ClickException(f"{error} Stop it first.") from error
    except OSError as error:
        raise click.ClickException(f"{error.filename or data}: {error.strerror}.") from error
    click.echo("Restored. Agents tell again what they hold once the service runs.")
    if kept:
        click.echo(f"What was there is kept as {kept}.")


@command.command("rehearse")
@click.argument("file", type=_FILE)
def rehearse(file: Path) -> None:
    """Restore the backup FILE into a folder of its own, and say how long it takes."""
    from phylax.service.backups import restoring

    try:
        done = restoring.rehearse(file)
    except restoring.BadCopyError as error:
        raise click.ClickException(f"{file}: {error}.") from error
    click.echo(
        f"Restored in {done.seconds:.1f} s: {done.backup.shop}, {done.backup.entries} entries of "
        "the record, all in order."
    )
