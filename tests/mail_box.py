"""A mail server of the tests' own, which keeps what it gets."""

from __future__ import annotations

import email
from collections.abc import Iterator
from contextlib import contextmanager
from email import policy
from email.message import EmailMessage

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

from helpers import free_port


class Box:
    """A mailbox that can be told to refuse."""

    def __init__(self) -> None:
        self.mails: list[EmailMessage] = []
        self.refuse = ""

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        if self.refuse:
            return self.refuse
        assert isinstance(envelope.content, bytes)
        self.mails.append(email.message_from_bytes(envelope.content, policy=policy.default))
        return "250 kept"

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if address.startswith("nobody"):
            return "550 no such mailbox"
        envelope.rcpt_tos.append(address)
        return "250 OK"


@contextmanager
def running_box() -> Iterator[tuple[Box, Controller]]:
    box = Box()
    server = Controller(box, hostname="127.0.0.1", port=free_port())
    server.start()
    yield box, server
    server.stop()
