"""`phylax backup`: copies of the shop's file, and putting one back in its place."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import click

from phylax.cli.commands.serve import data_option
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.cli.terminal.types import FILE
from phylax.core.backups.backups import Backup
from phylax.core.ground.quantities import show_size


@click.group("backup")
def command() -> None:
    """Copies of the shop's file."""


@command.command("list")
@shows_list(Backup)
@pass_session
def list_backups(session: Session, form: Form) -> None:
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
    if form.is_table and (wrong := session.shop.backups.state().wrong):
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


@command.command("set-plan")
@click.option("--place", help="A folder on the service's machine, best on another disk; '' is "
                              "beside the shop's file.")  # fmt: skip
@click.option("--hour", type=click.IntRange(0, 23), help="Of the day, from which on.")
@click.option("--daily", type=click.IntRange(1, 366), help="Days of which one is kept.")
@click.option("--weekly", type=click.IntRange(0, 104), help="Weeks of which one is kept.")
@click.option("--monthly", type=click.IntRange(0, 120), help="Months of which one is kept.")
@click.option("--public-key", help="Encrypt them to this key of age; '' is not at all. "
                                   "'phylax backup make-key' makes one.")  # fmt: skip
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
    key = now.public_key
    console.print(f"Encrypted to {key}." if key else "They are not encrypted.")
    if family.state().beside:
        console.print("They lie on the same disk as the shop's file: choose a place on another.")


@command.command("make-key")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@pass_session
def new_key(session: Session, file: Path) -> None:
    """Make a key, and encrypt backups to it from now on. FILE gets the half that opens them, under
    a passphrase: print it for the safe, and keep it off the service's machine."""
    from phylax.service.backups import encrypting

    if file.exists():
        raise click.ClickException(f"{file} is there already; it may be the key of older backups.")
    plan = session.shop.backups.plan()
    passphrase = click.prompt("Passphrase", hide_input=True, confirmation_prompt=True)
    try:
        key = encrypting.new_key(passphrase)
    except ValueError as error:
        raise click.ClickException(str(error)) from None
    with open(os.open(file, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as opened:
        opened.write(key.identity)
        opened.flush()
        os.fsync(opened.fileno())
    session.shop.backups.set_plan(plan, public_key=key.public_key)
    click.echo(key.identity.decode(), nl=False)
    console.print(
        f"That lies in {file}. Print it, and put it in the safe with its passphrase: without both, "
        f"no backup made from now on can be opened. Try it: 'phylax backup make', then "
        f"'phylax backup rehearse BACKUP --identity {file}'."
    )


@contextmanager
def _in_clear(file: Path, identity: Path | None, near: Path | None) -> Iterator[Path]:
    """A backup that can be read; encrypted ones are opened by the identity in a file."""
    from phylax.service.backups import encrypting

    if not encrypting.is_encrypted(file):
        yield file
        return
    if identity is None:
        raise click.UsageError(f"{file} is encrypted: name the file of its key by --identity.")
    passphrase = None
    if encrypting.needs_passphrase(identity.read_bytes()):
        passphrase = click.prompt("Passphrase", hide_input=True)
    opened = encrypting.identity_of(identity, passphrase)
    folder = near or Path(tempfile.gettempdir())
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    with encrypting.decrypted(file, opened, folder) as clear:
        yield clear


_identity = click.option("--identity", type=FILE, help="The key that opens an encrypted one.")


@command.command("restore")
@click.argument("file", type=FILE)
@data_option
@_identity
@click.option("--yes", is_flag=True, help="Do not ask.")
def restore(file: Path, data: Path, identity: Path | None, yes: bool) -> None:
    """Put the backup FILE in the place of the shop's file. The service must not run; what was
    there is kept beside it."""
    from phylax.service.backups import restoring

    try:
        with _in_clear(file, identity, data) as clear:
            kept = _restore(clear, file.parent, data, yes)
    except restoring.BadCopyError as error:
        raise click.ClickException(f"{file}: {error}.") from error
    except restoring.HeldError as error:
        raise click.ClickException(f"{error} Stop it first.") from error
    except OSError as error:
        raise click.ClickException(f"{error.filename or data}: {error.strerror}.") from error
    click.echo("Restored. Agents tell again what they hold once the service runs.")
    if kept:
        click.echo(f"What was there is kept as {kept}.")


def _restore(file: Path, known_in: Path, data: Path, yes: bool) -> Path | None:
    from phylax.service.backups import restoring

    looked = restoring.outlook(data, file)
    newest = f", the newest of {looked.newest:%Y-%m-%d %H:%M} UTC" if looked.newest else ""
    click.echo(f"The backup: {looked.backup.shop}, {looked.backup.entries} entries{newest}.")
    if looked.unreadable:
        click.echo(f"What is there now cannot be read: {looked.unreadable}.")
    elif looked.replaced:
        more = looked.replaced.entries - looked.backup.entries
        compared = f"{more} more" if more > 0 else "as many" if not more else f"{-more} fewer"
        click.echo(f"What is there now has {looked.replaced.entries} entries, {compared}.")
    ask("Put the backup in its place?", yes=yes)
    return restoring.restore(data, file, known_in)


@command.command("rehearse")
@click.argument("file", type=FILE)
@_identity
def rehearse(file: Path, identity: Path | None) -> None:
    """Restore the backup FILE into a folder of its own, and say how long it takes."""
    from phylax.service.backups import restoring

    try:
        with _in_clear(file, identity, None) as clear:
            done = restoring.rehearse(clear)
    except restoring.BadCopyError as error:
        raise click.ClickException(f"{file}: {error}.") from error
    click.echo(
        f"Restored in {done.seconds:.1f} s: {done.backup.shop}, {done.backup.entries} entries of "
        "the record, all in order."
    )
