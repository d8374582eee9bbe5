"""Mail to clients, each with somebody's yes."""

from __future__ import annotations

import secrets
from sqlite3 import Connection

from phylax.core.attention.notices import NoticeKind
from phylax.core.reporting.language import words
from phylax.core.reporting.request import ReportWhole
from phylax.service.context.context import the_shop
from phylax.service.problems import Problem
from phylax.store.attention import notices


def send_report(conn: Connection, report: ReportWhole, to: str, *, at: int) -> None:
    """A report goes to somebody, as it was made. Problem where no mail can go out."""
    w = words(report.language)
    subject = w.say("mail_subject", title=report.title)
    text = w.say("mail_body", shop=the_shop(conn).name)
    send(conn, "report", to, subject, text, report_id=report.id, at=at)


def send(
    conn: Connection,
    kind: NoticeKind,
    to: str,
    subject: str,
    text: str,
    *,
    report_id: int | None = None,
    at: int,
) -> None:
    """A mail to a client waits to be posted. Problem where no mail can go out."""
    server = notices.mail_server(conn)
    if server is None:
        raise Problem(409, "no-mail-server", "No mail server is set: see Shop, Notices.")
    uid = f"{secrets.token_hex(12)}@{server.sender.rpartition('@')[2]}"
    notices.add(
        conn,
        notices.Outgoing(uid, kind, to, subject, text, at, report_id=report_id),
        at=at,
    )
