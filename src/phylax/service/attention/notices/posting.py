"""Messages are posted here: mail by SMTP, hooks by signed HTTP. What fails is tried again.

A message counts as delivered when the other side has said so; were this service to stop in between,
it is sent again, with the same uid.
"""

from __future__ import annotations

import asyncio
import logging
import os
import smtplib
import socket
import ssl
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime
from ipaddress import ip_address
from pathlib import Path

import httpx
from http_message_signatures import (
    HTTPMessageSigner,
    HTTPSignatureKeyResolver,
    algorithms,
)

from phylax import __version__
from phylax.core.attention.notices import BY_A_PERSON, Hook, MailServer, retry_at
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.service.attention.notices.composing import compose
from phylax.service.context.context import Context
from phylax.service.reporting.fetching import remind
from phylax.store.attention import notices
from phylax.store.attention.notices import Message
from phylax.store.clients import shop

PASSWORD_FILE = "PHYLAX_MAIL_PASSWORD_FILE"
SIGNED = ("@method", "@target-uri", "content-type", "content-digest")
_AT_A_TIME = 20
_PATIENCE = 20.0
_EVERY = 30.0
_log = logging.getLogger("phylax.notices")


_SILENT = (
    TimeoutError, ConnectionError, socket.gaierror, smtplib.SMTPServerDisconnected,
    smtplib.SMTPConnectError, httpx.TransportError,
)  # fmt: skip
"""Of a place, not of a message."""


class _Refused(Exception):
    """The other side will never take it."""


def post(context: Context, *, by_mail: bool | None = None) -> int:
    """Post what is due, by mail, to hooks or (None) both; how many messages had their turn.

    Where one place does not answer, what else is for it waits, and nothing else does.
    """
    now = context.now()
    with context.db.read() as conn:
        messages = notices.due(conn, at=now, limit=_AT_A_TIME, by_mail=by_mail)
        if not messages:
            return 0
        server = notices.mail_server(conn)
        hooks = {hook.id: hook for hook in notices.hooks(conn)}
        secrets = {hook_id: notices.hook_secret(conn, hook_id) for hook_id in hooks}
        the_shop = shop.shop(conn)
    silent: dict[int | None, str] = {}
    for message in messages:
        error, final = silent.get(message.hook_id, ""), False
        try:
            if error:
                pass
            elif message.hook_id is None:
                _send(server, the_shop.name if the_shop else "Phylax", message)
            elif hook := hooks.get(message.hook_id):
                asyncio.run(_call(hook, context.vault.open(secrets[hook.id]), message))
            else:
                raise _Refused("the hook was withdrawn")
        except _Refused as refused:
            error, final = str(refused), True
        except (OSError, smtplib.SMTPException, httpx.HTTPError) as problem:
            error = f"{type(problem).__name__}: {problem}"
            if isinstance(problem, _SILENT):
                silent[message.hook_id] = error
        except Exception as wrong:  # noqa: BLE001
            # whatever no message can be made of must not keep back those after it
            error, final = f"{type(wrong).__name__}: {wrong}", True
        _note(context, message, error, final)
    return len(messages)


def _note(context: Context, message: Message, error: str, final: bool) -> None:
    now = context.now()
    with context.db.write() as conn:
        if not error:
            notices.delivered(conn, message.notice.id, at=now)
            return
        again = None if final else retry_at(message.notice.tries + 1, from_seconds(now))
        notices.failed(
            conn,
            message.notice.id,
            error,
            again_at=None if again is None else to_seconds(again),
            at=now,
        )
    status = "given up" if again is None else f"again at {again:%H:%M}"
    _log.warning(
        "notice %s to %s: %s; %s", message.notice.id, message.notice.receiver, error, status
    )


# --- mail ------------------------------------------------------------------------------------


def _send(server: MailServer | None, sender_name: str, message: Message) -> None:
    """One mail by SMTP; OSError, SMTPException where it may go later, _Refused where never."""
    if server is None:
        raise OSError("no mail server is set")
    mail = as_mail(server, sender_name, message)
    try:
        with _connected(server) as smtp:
            smtp.send_message(mail)
    except smtplib.SMTPRecipientsRefused as refused:
        code, text = next(iter(refused.recipients.values()))
        reason = f"{code} {text.decode(errors='replace')}"
        raise (_Refused if code >= 500 else OSError)(reason) from refused


def _connected(server: MailServer) -> smtplib.SMTP:
    trusted = ssl.create_default_context()
    smtp: smtplib.SMTP
    if server.security == "tls":
        smtp = smtplib.SMTP_SSL(server.host, server.port, timeout=_PATIENCE, context=trusted)
    else:
        smtp = smtplib.SMTP(server.host, server.port, timeout=_PATIENCE)
    try:
        if server.security == "starttls":
            smtp.starttls(context=trusted)
        if server.login:
            smtp.login(server.login, _password())
    except BaseException:
        smtp.close()
        raise
    return smtp


def _password() -> str:
    path = os.environ.get(PASSWORD_FILE)
    if not path:
        raise OSError(f"{PASSWORD_FILE} does not name the file with the mail server's password")
    return Path(path).read_text("utf-8").strip()


def as_mail(server: MailServer, sender_name: str, message: Message) -> EmailMessage:
    """A mail in plain text and HTML (RFC 5322, 2045, 2046)."""
    notice = message.notice
    mail = EmailMessage(policy=SMTP)
    # a machine may have named a volume with anything, line breaks among it
    mail["Subject"] = " ".join(notice.subject.split())
    local, _, domain = server.sender.rpartition("@")
    mail["From"] = Address(sender_name, local, domain)
    mail["To"] = notice.receiver
    mail["Date"] = format_datetime(notice.made_at)
    mail["Message-ID"] = f"<{notice.uid}>"
    if notice.kind not in BY_A_PERSON:
        # no answering machine should answer (RFC 3834)
        mail["Auto-Submitted"] = "auto-generated"
    mail.set_content(message.body)
    if message.html:
        mail.add_alternative(message.html, subtype="html")
    if message.pdf:
        name = f"report-{message.report_id}.pdf"
        mail.add_attachment(message.pdf, maintype="application", subtype="pdf", filename=name)
    return mail


# --- hooks -----------------------------------------------------------------------------------


class _Key(HTTPSignatureKeyResolver):
    def __init__(self, secret: str) -> None:
        self._secret = secret.encode()

    def resolve_private_key(self, key_id: str) -> bytes:
        return self._secret

    def resolve_public_key(self, key_id: str) -> bytes:
        return self._secret


async def _call(hook: Hook, secret: str, message: Message) -> None:
    request = signed(hook, secret, message)
    if not hook.own_network:
        await _check_elsewhere(request.url)
    # over all: who answers byte by byte must not hold it for ever; what they say is not read
    async with (
        asyncio.timeout(_PATIENCE),
        httpx.AsyncClient(timeout=_PATIENCE, follow_redirects=False) as client,
    ):
        answer = await client.send(request, stream=True)
        await answer.aclose()
    if answer.status_code == 410:
        raise _Refused("410: it is gone for good")
    if not answer.is_success:
        raise OSError(f"answered {answer.status_code}")


async def _check_elsewhere(url: httpx.URL) -> None:
    """_Refused where an address leads into the service's own network: behind its firewall there are
    things that trust whoever is there."""
    loop = asyncio.get_running_loop()
    port = url.port or (443 if url.scheme == "https" else 80)
    for *_, address in await loop.getaddrinfo(url.host, port, type=socket.SOCK_STREAM):
        known = ip_address(str(address[0]).partition("%")[0])
        if not (getattr(known, "ipv4_mapped", None) or known).is_global:
            raise _Refused(f"{url.host} is in the service's own network, which is not allowed")


def signed(hook: Hook, secret: str, message: Message) -> httpx.Request:
    """A message for a hook, signed by RFC 9421, its body by a digest (RFC 9530)."""
    body = message.body.encode()
    request = httpx.Request(
        "POST",
        hook.url,
        content=body,
        headers={"content-type": "application/json", "user-agent": f"phylax/{__version__}"},
    )
    signer = HTTPMessageSigner(
        signature_algorithm=algorithms.HMAC_SHA256, key_resolver=_Key(secret)
    )
    signer.sign(
        _Signable(request), key_id=f"hook-{hook.id}", nonce=message.notice.uid, label="phylax",
        covered_component_ids=SIGNED, body=body,
    )  # fmt: skip
    return request


class _Signable:
    """A request as the signer looks at it."""

    def __init__(self, request: httpx.Request) -> None:
        self.method = request.method
        self.url = str(request.url)
        self.headers = request.headers


async def keep_posting(context: Context) -> None:
    """Compose and post until the service stops: mail and hooks each at their own pace."""
    ways: dict[bool, asyncio.Task[None]] = {}
    while not context.wakeups.stopping.is_set():
        context.beat("post")
        try:
            await asyncio.to_thread(compose, context)
            await asyncio.to_thread(remind, context)
        except Exception:  # noqa: BLE001
            _log.exception("composing notices failed once; it continues")
        for by_mail in (True, False):
            if by_mail not in ways or ways[by_mail].done():
                ways[by_mail] = asyncio.create_task(_post_all(context, by_mail))
        await context.wakeups.wait_for_stop(_EVERY)
    await asyncio.gather(*ways.values())


async def _post_all(context: Context, by_mail: bool) -> None:
    try:
        while await asyncio.to_thread(post, context, by_mail=by_mail) == _AT_A_TIME:
            if context.wakeups.stopping.is_set():
                return
    except Exception:  # noqa: BLE001
        _log.exception("sending notices failed once; it continues")
