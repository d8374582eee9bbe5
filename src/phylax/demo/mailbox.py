"""The demo's post: a mail server on this machine that puts every mail into a folder."""

from __future__ import annotations

from pathlib import Path

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session


class _Folder:
    """Keeps what comes, a file for each mail, by the number in which they came."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._count = len(list(folder.glob("*.eml")))

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        self._count += 1
        name = f"{self._count:04d} {envelope.rcpt_tos[0]}.eml"
        content = envelope.content
        assert isinstance(content, bytes)
        (self._folder / name.replace("/", "_")).write_bytes(content)
        return "250 kept"


def open_mailbox(folder: Path, port: int) -> Controller:
    """A mail server on loopback at a port; `stop()` ends it."""
    post = Controller(_Folder(folder), hostname="127.0.0.1", port=port)
    post.start()
    return post
