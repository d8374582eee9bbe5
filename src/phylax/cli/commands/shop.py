"""`phylax shop`: the shop as a whole."""

from __future__ import annotations

from pathlib import Path

import click

from phylax.cli.commands.serve import at_folder, data_option
from phylax.cli.session.session import DEFAULT_URL, Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list, write_archive
from phylax.cli.terminal.types import FILE
from phylax.core.ground.quantities import count, show_size
from phylax.core.people.accounts import AuditEntry


@click.group("shop")
def command() -> None:
    """The shop as a whole."""


@command.command("open")
@data_option
@click.option("--name", prompt="Name of the shop")
@click.option("--zone", prompt="Time zone (as in Europe/Dublin)")
@click.option("--owner", prompt="The owner's name")
@click.option("--login", prompt="The owner's login")
@click.password_option(help="The owner's password; asked for if left out.")
def open_shop(data: Path, name: str, zone: str, owner: str, login: str, password: str) -> None:
    """Open a shop in a data directory, with its first owner."""
    from phylax.cli.commands.serve import open_shop as open_it

    open_it(data, name, zone, owner, login, password)
    console.print(f"{name} is open. Start its service: phylax serve{at_folder(data)}")
    console.print(
        f"Then sign in, with 'phylax sign-in --login {login}' or in a browser at {DEFAULT_URL}."
    )


@command.command("make-certificate")
@click.argument("names", nargs=-1, required=True)
@data_option
def certificate(names: tuple[str, ...], data: Path) -> None:
    """Make a certificate of the shop's own, for the NAMES and addresses at which the service is
    reached. Machines that are enrolled with its fingerprint trust no other."""
    from phylax.service.serving.certificates import make_certificate

    try:
        made = make_certificate(data / "tls", names)
    except OSError as error:
        raise click.ClickException(str(error)) from error
    click.echo(f"Good until {made.until:%Y-%m-%d}. Start the service with it:")
    click.echo(f"  phylax serve --tls-cert {made.certificate} --tls-key {made.key}")
    click.echo("Enrol machines with its fingerprint:")
    click.echo(f"  --fingerprint {made.fingerprint}")
    click.echo("On a command line and in browsers, trust it:")
    click.echo(f"  export PHYLAX_CERTIFICATE={made.certificate}")


@command.command("make-key")
@data_option
def new_key(data: Path) -> None:
    """Encrypt the secrets in the shop's file by a new key; the service must not run."""
    from phylax.service.context.secret_keys import new_key as take_new_key
    from phylax.service.serving.serve import HeldError, NoShopError

    try:
        console.print(f"Done: {take_new_key(data)} secrets are encrypted by a new key.")
    except (HeldError, NoShopError) as error:
        raise click.ClickException(str(error)) from error


@command.command("make-seal-key")
@data_option
def new_seal_key(data: Path) -> None:
    """Seal the record by a new key, which the one before signs; the service must not run."""
    from phylax.service.record.seal_keys import change
    from phylax.service.serving.serve import HeldError, NoShopError

    try:
        fingerprint = change(data)
    except (HeldError, NoShopError) as error:
        raise click.ClickException(str(error)) from error
    except OSError as error:
        raise click.ClickException(
            f"There is no key that could sign the new one: {error}."
        ) from error
    console.print(
        f"From now on by {fingerprint}. Seals by the key before are still believed. Keep "
        "seal-key.pem as you kept the one before: it is in no backup."
    )


@command.command("archive")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@pass_session
def archive(session: Session, file: Path) -> None:
    """Write everything the shop has into FILE, a ZIP that any program reads. 'phylax shop load'
    builds the shop anew from it."""
    size = write_archive(session.shop.archives.shop, file)
    console.print(f"{show_size(size)} in {file}. It names every client: keep it well.")


@command.command("load")
@click.argument("file", type=FILE)
@data_option
def load(file: Path, data: Path) -> None:
    """Build a shop anew from the archive FILE, in a data directory that has none."""
    from phylax.service.record.archives import loading

    try:
        loaded = loading.load(data, file)
    except loading.BadArchiveError as error:
        raise click.ClickException(f"{file}: {error}.") from error
    except OSError as error:
        raise click.ClickException(
            f"{error.filename or data}: {error.strerror}." if error.strerror else str(error)
        ) from error
    console.print(
        f"{loaded.shop} as of {loaded.written_at}: {count(loaded.rows, 'row')}, "
        f"{count(loaded.entries, 'entry')} of the record, each fits the one before it."
    )
    if not loaded.intact_audit:
        console.print("The audit does not hold: it was altered before it was taken out.")
    console.print("Not in the archive, and what to do:")
    for sentence in (
        "Passwords: make a link for an owner with 'phylax person let-in LOGIN'; an owner makes one "
        "for each of the others with 'phylax person make-link'.",
        "Agents' keys: enrol each machine anew.",
        "The key of the seals: put the old seal-key.pem beside the shop's file before the service "
        "starts, or seals by it are not believed any more.",
        "Hooks, calendars' addresses and tokens: make them anew.",
    ):
        console.print(f"- {sentence}")


@command.command("set-keeping")
@click.option("--file-names", type=click.IntRange(1, 240), metavar="MONTHS",
              help="Names of files that went or were left.")  # fmt: skip
@click.option("--notices", type=click.IntRange(1, 240), metavar="MONTHS",
              help="Mails and messages that went out.")  # fmt: skip
@click.option("--staff", type=click.IntRange(0, 240), metavar="MONTHS",
              help="Names of people after they left the shop; 0: they stay.")  # fmt: skip
@pass_session
def keep(session: Session, file_names: int | None, notices: int | None, staff: int | None) -> None:
    """Say how many months names are kept, after which they go for good; without options, what is
    set. Figures are kept."""
    family = session.shop.archives
    plan = family.keeping()
    wanted: dict[str, object] = {
        name: value
        for name, value in (("file_names_months", file_names), ("notices_months", notices))
        if value is not None
    }
    if staff is not None:
        wanted["staff_months"] = staff or None
    if wanted:
        plan = family.set_keeping(plan, **wanted)
    console.print(f"Names of files: {count(plan.file_names_months, 'month')} after they went.")
    console.print(f"Mails that went out: {count(plan.notices_months, 'month')}.")
    after = (
        f"{count(plan.staff_months, 'month')} after they left" if plan.staff_months else "they stay"
    )
    console.print(f"Names of people who left: {after}.")


@command.command("write-unit")
@data_option
def unit(data: Path) -> None:
    """Print what makes systemd start the service: into /etc/systemd/system/phylax.service."""
    from phylax.service.serving.serve import unit as text

    try:
        click.echo(text(data), nl=False)
    except ValueError as error:
        raise click.ClickException(str(error)) from error


@command.command("list-audit")
@click.option("--most", default=40, show_default=True, help="At most so many.")
@shows_list(AuditEntry)
@pass_session
def audit(session: Session, most: int, form: Form) -> None:
    """What was changed, by whom; for the owner."""
    zone = session.the_shop.clock
    columns = (
        Column("when", lambda d: local(d.at, zone)),
        Column("who", lambda d: d.who),
        Column("action", lambda d: d.action),
        Column("subject", lambda d: d.subject),
    )
    print_list(form, session.shop.people.audit(most=most), columns, empty="Nothing yet.")
