"""`phylax client forget`: a client who left, forgotten for good."""

from __future__ import annotations

import time
from datetime import datetime

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.cli.terminal.types import DAY
from phylax.core.erasing.forgetting.request import Forget, Forgetting
from phylax.core.ground.quantities import count, show_day

_LOOK_EVERY = 0.5


@click.command("forget")
@click.argument("client")
@click.option("--why", default="", help="As in 'asked for it by mail'; gone as well at the end.")
@click.option("--postpone", "until", type=DAY,
              help="Not before this day; --why says which claim or law wants that.")  # fmt: skip
@click.option("--word", "words", multiple=True,
              help="What else names them, as a surname; may be repeated.")  # fmt: skip
@click.option("--with-backups", is_flag=True,
              help="Delete the backups made before, too; a new one is made.")  # fmt: skip
@click.option("--call-off", is_flag=True, help="Not after all, if it has not begun.")
@click.option("--yes", is_flag=True, help="Without asking.")
@pass_session
def forget(
    session: Session,
    client: str,
    why: str,
    until: datetime | None,
    words: tuple[str, ...],
    with_backups: bool,
    call_off: bool,
    yes: bool,
) -> None:
    """Forget CLIENT for good, who is retired: nothing of theirs stays but figures without names.
    Says first what that means."""
    family = session.shop.clients
    current = family.find(client)
    if call_off:
        family.call_forgetting_off(current.id)
        console.print(f"{current.name} is not forgotten.")
        return
    meaning = family.what_forgetting_means(current.id)
    for sentence in meaning.in_words:
        console.print(sentence)
    ask(f"Forget {current.name}, for good?", yes=yes)
    asked = Forget(
        why=why,
        postponed_until=until.date() if until else None,
        with_backups=with_backups,
        words=words,
    )
    made = family.forget(current, asked)
    if asked.postponed_until is not None:
        day = show_day(asked.postponed_until)
        console.print(f"{current.name} is forgotten on {day}, by itself.")
        return
    _wait(session, made)


def _wait(session: Session, made: Forgetting) -> None:
    said = ""
    while True:
        now = next(each for each in session.shop.clients.forgettings() if each.id == made.id)
        if now.state == "done":
            console.print(f"Done: {count(now.entries, 'entry')} lost their words; "
                          f"client {now.client_id} has no name any more.")  # fmt: skip
            return
        if now.waits_for and now.waits_for != said:
            said = now.waits_for
            console.print(f"It waits for {said}; it goes on by itself.")
        time.sleep(_LOOK_EVERY)


@click.command("list-forgotten")
@shows_list(Forgetting)
@pass_session
def forgotten(session: Session, form: Form) -> None:
    """Clients that are to be forgotten, or were."""
    zone = session.the_shop.clock
    columns = (
        Column("client", lambda f: f.client_name),
        Column("requested", lambda f: local(f.requested_at, zone)),
        Column("by", lambda f: f.requested_by),
        Column("state", lambda f: f.state),
        Column("not before", lambda f: local(f.postponed_until, zone) if f.postponed_until else ""),
        Column("why", lambda f: f.why),
        Column("ended", lambda f: local(f.ended_at, zone) if f.ended_at else ""),
        Column("entries", lambda f: str(f.entries), right=True),
    )
    print_list(form, session.shop.clients.forgettings(), columns, empty="Nobody yet.")
