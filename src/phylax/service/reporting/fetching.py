"""Clients are told that a machine can be fetched, and reminded of it."""

from __future__ import annotations

from datetime import timedelta
from sqlite3 import Connection

from phylax.core.desk.open_visit import REMIND_AFTER, reminders_due
from phylax.core.desk.orders import ReadyToFetch
from phylax.core.desk.visits import Visit
from phylax.core.reporting.language import words
from phylax.service.context.context import Context, the_shop
from phylax.service.reporting.mailing import send
from phylax.store.attention import notices
from phylax.store.desk import parts as desk
from phylax.store.reporting import reports


def tell(conn: Connection, visit: Visit, asked: ReadyToFetch, *, at: int) -> None:
    """By mail. Problem where no mail can go out."""
    assert asked.mail is not None
    w = words(reports.letterhead(conn).language)
    text = w.say(
        "ready_body",
        machine=visit.machine_tag,
        visit=visit.id,
        word=f"{asked.comment}\n\n" if asked.comment else "",
        shop=the_shop(conn).name,
    )
    subject = w.say("ready_subject", machine=visit.machine_tag)
    send(conn, "ready", asked.mail, subject, text, at=at)


def remind(context: Context) -> None:
    """Who was told by mail is reminded after 7, 14 and 30 days."""
    now = context.now()
    first = now - int(REMIND_AFTER[0].total_seconds())
    with context.db.read() as conn:
        due = [
            waiting
            for waiting in desk.waiting(conn, before=first)
            if reminders_due(timedelta(seconds=now - waiting.ready_at)) > waiting.reminded
        ]
        has_server = notices.mail_server(conn) is not None
    if not due or not has_server:
        return
    with context.db.write() as conn:
        w = words(reports.letterhead(conn).language)
        name = the_shop(conn).name
        for waiting in due:
            ready_for = timedelta(seconds=now - waiting.ready_at)
            text = w.say(
                "reminder_body", machine=waiting.make_and_model or waiting.machine_tag,
                visit=waiting.visit, days=ready_for.days, shop=name,
            )  # fmt: skip
            subject = w.say("reminder_subject", machine=waiting.machine_tag)
            # after a long absence of the service one reminder stands for those that were due
            desk.note_reminded(conn, waiting.visit, reminders_due(ready_for))
            send(conn, "ready", waiting.mail, subject, text, at=now)
