"""`phylax notice`: who is told of what, by mail and by hooks, and what became of it."""

from __future__ import annotations

from datetime import time
from itertools import islice
from typing import Literal

import click
from pydantic import ValidationError

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.client import NotFoundError
from phylax.core.attention.notices import (
    AtOnce,
    Hook,
    HookEdit,
    MailServerEdit,
    Notice,
    NoticeState,
    Security,
    WishesEdit,
)
from phylax.core.ground.values import edit_of


@click.group("notice")
def command() -> None:
    """Who gets which notices, by mail and by hooks, and whether they arrived."""


@command.command("list")
@click.option(
    "--state", type=click.Choice(["waiting", "delivered", "given up"]), help="Only these."
)
@click.option("--most", default=50, show_default=True, type=click.IntRange(1, 1000))
@shows_list(Notice)
@pass_session
def list_notices(session: Session, state: NoticeState | None, most: int, form: Form) -> None:
    """List every message and whether it arrived, newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda n: str(n.id), right=True),
        Column("made", lambda n: local(n.made_at, zone)),
        Column("kind", lambda n: n.kind),
        Column("to", lambda n: n.receiver),
        Column("subject", lambda n: n.subject, below=True),
        Column("status", lambda n: n.state + (f", {n.tries} tries" if n.tries > 1 else "")),
        Column("when", lambda n: local(n.ended_at or n.due_at, zone)),
        Column("error", lambda n: n.error, below=True),
    )
    notices = islice(session.shop.notices.list(state=state), most)
    print_list(form, notices, columns, empty="No message yet.")


@command.command("send-again")
@click.argument("number", type=int)
@pass_session
def again(session: Session, number: int) -> None:
    """Send again what was given up."""
    notice = session.shop.notices.again(number)
    console.print(f"Notice {notice.id} to {notice.receiver} waits to be sent.")


@command.command("set-wishes")
@click.option("--mail", help="Where mail goes to; '-' for none.")
@click.option("--at-once", type=click.Choice(["never", "urgent", "all"]))
@click.option("--daily/--no-daily", default=None, help="A summary each morning.")
@click.option("--weekly/--no-weekly", default=None, help="A summary on Mondays.")
@click.option("--quiet", help="When nothing is sent, as in 19:00-07:30; '-' for never.")
@click.option("--person", help="Of whom, by login; yourself if left out.")
@click.option("--trial", is_flag=True, help="Send a mail to see whether it comes.")
@pass_session
def wishes(
    session: Session,
    mail: str | None,
    at_once: str | None,
    daily: bool | None,
    weekly: bool | None,
    quiet: str | None,
    person: str | None,
    trial: bool,
) -> None:
    """Show what you are told by mail; with options, change it."""
    number = session.shop.people.me().id
    if person:
        known = {known_person.login: known_person.id for known_person in session.shop.people.list()}
        if person not in known:
            raise click.BadParameter(f"there is nobody {person!r}", param_hint="--person")
        number = known[person]
    now = session.shop.notices.wishes(number)
    changed: dict[str, object] = {}
    if mail is not None:
        changed["mail"] = None if mail == "-" else mail
    if at_once is not None:
        changed["at_once"] = at_once
    if daily is not None:
        changed["daily"] = daily
    if weekly is not None:
        changed["weekly"] = weekly
    if quiet is not None:
        changed["quiet_from"], changed["quiet_until"] = _hours(quiet)
    if changed:
        try:
            edit = edit_of(WishesEdit, now, **changed)
        except ValidationError as error:
            raise click.UsageError(_said(error)) from error
        now = session.shop.notices.set_wishes(now, edit)
    console.print(f"{now.person_name}: {now.mail or 'no mail'}")
    summaries = [n for n, on in (("daily", now.daily), ("weekly", now.weekly)) if on]
    console.print(f"At once: {now.at_once}. Summaries: {', '.join(summaries) or 'none'}.")
    if now.quiet_from and now.quiet_until:
        console.print(f"Quiet from {now.quiet_from:%H:%M} to {now.quiet_until:%H:%M}.")
    if trial:
        session.shop.notices.send_trial(number)
        console.print("A mail is on its way.")


def _hours(quiet: str) -> tuple[time | None, time | None]:
    if quiet == "-":
        return None, None
    try:
        begin, end = (time.fromisoformat(part.strip()) for part in quiet.split("-"))
    except ValueError as error:
        raise click.BadParameter("write it as in 19:00-07:30", param_hint="--quiet") from error
    return begin, end


def _said(error: ValidationError) -> str:
    return "; ".join(detail["msg"].removeprefix("Value error, ") for detail in error.errors())


@command.command("set-mail-server")
@click.option("--host", help="Set it: the server's name.")
@click.option("--port", default=587, show_default=True, type=click.IntRange(1, 65535))
@click.option(
    "--security",
    type=click.Choice(["tls", "starttls", "none"]),
    default="starttls",
    show_default=True,
)
@click.option("--login", default="", help="Its password is in the file PHYLAX_MAIL_PASSWORD_FILE.")
@click.option("--sender", help="From whom mail is.")
@pass_session
def mail_server(
    session: Session, host: str | None, port: int, security: Security, login: str,
    sender: str | None,
) -> None:  # fmt: skip
    """Show the mail server; set it with --host and --sender. For the owner."""
    try:
        before = session.shop.notices.mail_server()
    except NotFoundError:
        before = None
    if host or sender:
        if not (host and sender):
            raise click.UsageError("Give --host and --sender both.")
        try:
            edit = MailServerEdit(
                host=host, port=port, security=security, login=login, sender=sender
            )
        except ValidationError as error:
            raise click.UsageError(_said(error)) from error
        before = session.shop.notices.set_mail_server(edit, before)
    if before is None:
        console.print("No mail server is set; nothing is sent by mail.")
        return
    console.print(
        f"{before.host}:{before.port}, {before.security}, from {before.sender}"
        + (f", signed in as {before.login}" if before.login else "")
    )


@command.command("list-hooks")
@shows_list(Hook)
@pass_session
def list_hooks(session: Session, form: Form) -> None:
    """List the hooks: programs notified over HTTP. For the owner."""
    columns = (
        Column("number", lambda h: str(h.id), right=True),
        Column("name", lambda h: h.name),
        Column("address", lambda h: h.url),
        Column("told", lambda h: h.at_once),
        Column("made by", lambda h: h.made_by),
    )
    print_list(form, session.shop.hooks.list(), columns, empty="No other program is told.")


@command.command("add-hook")
@click.argument("name")
@click.argument("url")
@click.option("--told", type=click.Choice(["urgent", "all"]), default="all", show_default=True)
@click.option("--own-network", is_flag=True, help="It is in the service's own network.")
@pass_session
def add_hook(
    session: Session, name: str, url: str, told: Literal["urgent", "all"], own_network: bool
) -> None:
    """Add a hook: notify another program. Prints its signing key once."""
    fields = {"name": name, "url": url, "at_once": AtOnce(told), "own_network": own_network}
    try:
        edit = HookEdit.model_validate(fields)
    except ValidationError as error:
        raise click.BadParameter(_said(error), param_hint="URL") from error
    made = session.shop.hooks.add(edit)
    console.print(f"Hook {made.id}. The key of its signatures is not shown again:")
    click.echo(made.secret)


@command.command("withdraw-hook")
@click.argument("number", type=int)
@pass_session
def withdraw_hook(session: Session, number: int) -> None:
    """Remove a hook."""
    session.shop.hooks.withdraw(number)
    console.print(f"Hook {number} is withdrawn.")
