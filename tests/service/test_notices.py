"""Notices: by mail over TLS and by signed hooks, at least once, together, never a storm."""

from __future__ import annotations

import hashlib
import hmac
import json
import socket
import ssl
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, time, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from ipaddress import ip_address
from pathlib import Path

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, Envelope, LoginPassword, Session
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from http_message_signatures import HTTPMessageVerifier, HTTPSignatureKeyResolver, algorithms

from helpers import Clock, free_port, needs_attention
from mail_box import Box, running_box
from phylax.client import NotAllowedError, Phylax, RefusedError
from phylax.core.attention import Cause
from phylax.core.attention.notices import AtOnce, HookEdit, MailServerEdit, WishesEdit
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.service.attention import monitor
from phylax.service.attention.notices import compose, post, posting
from phylax.service.attention.notices.posting import PASSWORD_FILE
from phylax.service.context.context import Context
from phylax.store.clients import agents
from phylax.store.trends import readings

GIB = 2**30


@pytest.fixture(autouse=True)
def _by_hand(monkeypatch: pytest.MonkeyPatch) -> None:
    """The service's own posting keeps still: tests say when something is posted."""
    monkeypatch.setattr(posting, "_EVERY", 3600.0)


@pytest.fixture
def box() -> Iterator[tuple[Box, Controller]]:
    with running_box() as running:
        yield running


@pytest.fixture
def mail(owner: Phylax, box: tuple[Box, Controller]) -> Box:
    """A shop that sends mail, and an owner who wants to know everything."""
    server = MailServerEdit(
        host="127.0.0.1", port=box[1].port, security="none", sender="phylax@quayside.example"
    )
    owner.notices.set_mail_server(server, None)
    wish(owner, at_once=AtOnce.ALL, weekly=False)
    return box[0]


def wish(shop: Phylax, **more: object) -> None:
    me = shop.people.me()
    edit = WishesEdit.model_validate({"mail": f"{me.login}@quayside.example", **more})
    shop.notices.set_wishes(shop.notices.wishes(me.id), edit)


def fill(context: Context, machine_id: int, used: float) -> None:
    reading = ReadingIn(
        mount="C:", capacity=100 * GIB, free=int((100 - used) * GIB), at=context.clock()
    )
    with context.db.write() as conn:
        readings.add(conn, machine_id, by_volume([reading]))
    monitor.whole(context)


def send(context: Context) -> None:
    compose(context)
    post(context)


def test_what_needs_somebody_comes_by_mail_in_text_and_html(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    fill(context, machine.id, 96)
    send(context)
    assert mail.mails == []  # it may be gone again within the minute
    clock.pass_(timedelta(minutes=2))
    send(context)
    (found,) = mail.mails
    assert found["To"] == "ines@quayside.example"
    assert found["Subject"] == "ferry-desk: C: is 96 % full"
    assert found["Message-ID"].endswith("@quayside.example>")
    text = found.get_body(("plain",)).get_content()
    html = found.get_body(("html",)).get_content()
    for part in (text, html):
        assert "C: is 96 % full" in part and "Skerry Ferry Office" in part
    (logged,) = owner.notices.list()
    assert (logged.state, logged.tries, logged.receiver) == (
        "delivered", 1, "ines@quayside.example",
    )  # fmt: skip
    clock.pass_(timedelta(hours=2))
    send(context)
    assert len(mail.mails) == 1  # told once
    fill(context, machine.id, 99)
    clock.pass_(timedelta(minutes=2))
    send(context)
    assert [one["Subject"] for one in mail.mails][1:] == ["ferry-desk: C: is 99 % full"]


def test_markup_in_a_name_stays_text(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    client = owner.clients.list().__next__()
    owner.clients.change(client, ClientEdit(name="<b>Ferry</b> & Sons"))
    fill(context, machine.id, 96)
    clock.pass_(timedelta(minutes=2))
    send(context)
    html = mail.mails[0].get_body(("html",)).get_content()
    assert "&lt;b&gt;Ferry&lt;/b&gt; &amp; Sons" in html and "<b>Ferry" not in html


def test_a_line_break_in_a_volumes_name_breaks_no_mail_and_keeps_none_back(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    odd = ReadingIn(mount="/mnt/a\nBcc: x@y.z", capacity=100 * GIB, free=2 * GIB, at=clock.now)
    with context.db.write() as conn:
        readings.add(conn, machine.id, by_volume([odd]))
    monitor.whole(context)
    clock.pass_(timedelta(minutes=2))
    send(context)
    (found,) = mail.mails
    assert found["Subject"] == "ferry-desk: /mnt/a Bcc: x@y.z is 98 % full" and found["Bcc"] is None
    # what no mail can be made of is given up, and the next one goes out
    owner.notices.send_trial(owner.people.me().id)
    with context.db.write() as conn:
        conn.execute("UPDATE notices SET uid = 'a' || char(10) || 'b' WHERE state = 'waiting'")
    owner.notices.send_trial(owner.people.me().id)
    send(context)
    assert [notice.state for notice in owner.notices.list()] == [
        "delivered",
        "given up",
        "delivered",
    ]


def test_after_an_outage_one_mail_tells_it_all(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    """The mail server was away for a day, in which ten machines filled up one by one."""
    client = owner.machines.get(machine.tag).client_id
    mail.refuse = "451 try later"
    for number in range(10):
        made = owner.machines.add(
            MachineEdit.model_validate(
                {"tag": f"m{number}", "client_id": client, "system": "linux"}
            )
        )
        fill(context, made.id, 93)
        clock.pass_(timedelta(hours=2))
        send(context)
    assert mail.mails == []
    (waiting,) = owner.notices.list(state="waiting")
    assert waiting.tries > 0 or waiting.error == ""
    mail.refuse = ""
    clock.pass_(timedelta(days=1))
    send(context)
    (found,) = mail.mails
    text = found.get_body(("plain",)).get_content()
    assert all(f"m{number}" in text for number in range(10))


def test_a_site_that_falls_silent_is_one_mail_with_one_line(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    """A client's line is down: none of its sixty machines has called for a week and more."""
    client = owner.machines.get(machine.tag).client_id
    facts = MachineFacts(system="linux", host="h", agent_version="0.1.0", kind="linux")
    for number in range(60):
        edit = MachineEdit(tag=f"m{number}", client_id=client, system="linux")
        made = owner.machines.add(edit).id
        with context.db.write() as conn:
            agents.enrol(conn, made, f"key {number}".encode(), facts, at=context.now())
            agents.seen(conn, made, at=context.now() - 60 * number)
    for _ in range(20):
        # they are found one after the other, as each one's week is over
        clock.pass_(timedelta(hours=9))
        monitor.whole(context)
        send(context)
    items = [item for item in owner.attention.list() if item.cause is Cause.SILENT]
    assert len(items) == 60 and len({item.group for item in items}) == 1
    assert 1 <= len(mail.mails) <= 2
    for kind in ("plain", "html"):
        text = mail.mails[-1].get_body((kind,)).get_content()
        assert "60 machines" in text and "and 57 more: m" in text
        assert text.count("Has not been in contact") == 3


def test_quiet_hours_hold_back_and_gather(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    wish(owner, at_once="all", weekly=False, quiet_from=time(8), quiet_until=time(12))
    fill(context, machine.id, 91)
    clock.pass_(timedelta(minutes=2))
    send(context)
    clock.pass_(timedelta(minutes=30))
    fill(context, machine.id, 96)
    clock.pass_(timedelta(minutes=2))
    send(context)
    assert mail.mails == []
    (waiting,) = owner.notices.list()
    assert waiting.due_at == datetime(2026, 3, 2, 12, tzinfo=UTC)
    clock.now = datetime(2026, 3, 2, 12, 1, tzinfo=UTC)
    send(context)
    assert [one["Subject"] for one in mail.mails] == ["ferry-desk: C: is 96 % full"]


def test_only_what_is_urgent_to_who_wants_only_that(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    wish(owner, at_once="urgent", weekly=False)
    with context.db.write() as conn:
        conn.execute(
            'UPDATE machines SET needs_approval = \'{"count": 3, "size": 9}\', surveyed_at = 0'
        )
    assert [item.cause for item in needs_attention(context, owner)] == [Cause.WAITS_FOR_YES]
    clock.pass_(timedelta(minutes=2))
    send(context)
    assert mail.mails == []


def test_a_mailbox_that_is_not_there_is_given_up_and_can_be_tried_again(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    me = owner.people.me().id
    wishes = owner.notices.wishes(me)
    edit = WishesEdit(mail="nobody@quayside.example", at_once=AtOnce.ALL, weekly=False)
    owner.notices.set_wishes(wishes, edit)
    owner.notices.send_trial(me)
    post(context)
    (dead,) = owner.notices.list(state="given up")
    assert "550 no such mailbox" in dead.error
    assert owner.notices.again(dead.id).state == "waiting"
    with pytest.raises(RefusedError, match="is waiting"):
        owner.notices.again(dead.id)


def test_a_server_that_stays_away_is_tried_ever_more_seldom_then_given_up(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    mail.refuse = "451 try later"
    owner.notices.send_trial(owner.people.me().id)
    for _ in range(12):
        post(context)
        clock.pass_(timedelta(days=1, minutes=1))
    (dead,) = owner.notices.list()
    assert (dead.state, dead.tries) == ("given up", 8)


def test_killed_between_sending_and_noting_it_is_sent_again_with_the_same_name(
    owner: Phylax, context: Context, machine: Machine, mail: Box, monkeypatch: pytest.MonkeyPatch
) -> None:
    owner.notices.send_trial(owner.people.me().id)

    class Killed(BaseException):
        pass

    def killed(*args: object) -> None:
        raise Killed

    with monkeypatch.context() as patched:
        patched.setattr(posting, "_note", killed)
        with pytest.raises(Killed):
            post(context)
    post(context)
    assert len(mail.mails) == 2
    assert mail.mails[0]["Message-ID"] == mail.mails[1]["Message-ID"]
    assert [notice.state for notice in owner.notices.list()] == ["delivered"]


def test_summaries_come_once_a_day_and_on_mondays(
    owner: Phylax, context: Context, machine: Machine, mail: Box, clock: Clock
) -> None:
    wish(owner, at_once="never", daily=True, weekly=True)
    clock.now = datetime(2026, 3, 2, 7, 0, tzinfo=UTC)  # a Monday, before half past seven
    send(context)
    assert mail.mails == []
    for hour in (8, 9, 15):
        clock.now = clock.now.replace(hour=hour)
        send(context)
    assert len(mail.mails) == 2
    assert {one["Message-ID"].split(".")[0] for one in mail.mails} == {"<daily", "<weekly"}
    assert "Nothing needs attention." in mail.mails[0]["Subject"]
    clock.pass_(timedelta(days=1))
    send(context)
    assert len(mail.mails) == 3


# --- TLS -------------------------------------------------------------------------------------


@pytest.fixture
def certificate(tmp_path: Path) -> tuple[Path, Path]:
    """A certificate for this machine's loopback address, made for this test."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "127.0.0.1")])
    made = (
        x509.CertificateBuilder()
        .subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(1)
        # the library that checks it goes by the system's clock, whatever day it is here
        .not_valid_before(datetime(2000, 1, 1, tzinfo=UTC))
        .not_valid_after(datetime(2100, 1, 1, tzinfo=UTC))
        .add_extension(
            x509.SubjectAlternativeName([x509.IPAddress(ip_address("127.0.0.1"))]), critical=False
        )
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    paths = tmp_path / "cert.pem", tmp_path / "key.pem"
    paths[0].write_bytes(made.public_bytes(serialization.Encoding.PEM))
    paths[1].write_bytes(
        key.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        )
    )
    return paths


@pytest.mark.parametrize("security", ["tls", "starttls"])
def test_mail_goes_over_tls_signed_in_and_to_nobody_unknown(
    owner: Phylax, context: Context, certificate: tuple[Path, Path], tmp_path: Path, security: str,
    monkeypatch: pytest.MonkeyPatch, clock: Clock,
) -> None:  # fmt: skip
    tls = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    tls.load_cert_chain(*certificate)
    found = Box()

    def check(server: SMTP, session: Session, envelope: Envelope, how: str, who: object):
        assert isinstance(who, LoginPassword)
        return AuthResult(success=who.password == b"quay and sea")

    port = free_port()
    whole = {"ssl_context": tls} if security == "tls" else {"tls_context": tls}
    server = Controller(
        found, hostname="127.0.0.1", port=port, authenticator=check, auth_required=True,
        auth_require_tls=security == "starttls", require_starttls=security == "starttls", **whole,
    )  # fmt: skip
    # aiosmtpd asks its own server whether it is there; that it answers at all is enough
    monkeypatch.setattr(
        server, "_trigger_server", lambda: socket.create_connection(("127.0.0.1", port)).close()
    )
    monkeypatch.setenv("SSL_CERT_FILE", str(certificate[0]))
    server.start()
    try:
        password = tmp_path / "password"
        password.write_text("quay and sea\n")
        edit = MailServerEdit.model_validate(
            {"host": "127.0.0.1", "port": port, "security": security, "login": "phylax",
             "sender": "phylax@quayside.example"}
        )  # fmt: skip
        owner.notices.set_mail_server(edit, None)
        wish(owner)
        owner.notices.send_trial(owner.people.me().id)
        post(context)
        (failed,) = owner.notices.list()
        assert PASSWORD_FILE in failed.error and "quay and sea" not in failed.error
        monkeypatch.setenv(PASSWORD_FILE, str(password))
        monkeypatch.delenv("SSL_CERT_FILE")
        clock.pass_(timedelta(minutes=2))
        post(context)
        (failed,) = owner.notices.list()
        assert "CERTIFICATE_VERIFY_FAILED" in failed.error and found.mails == []
        monkeypatch.setenv("SSL_CERT_FILE", str(certificate[0]))
        clock.pass_(timedelta(minutes=6))
        post(context)
        assert [one["Subject"] for one in found.mails] == ["Quayside: mail reaches you"]
    finally:
        server.stop()


# --- hooks -----------------------------------------------------------------------------------


class _Taken(BaseHTTPRequestHandler):
    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"]))
        self.server.taken.append((dict(self.headers), body))  # type: ignore[attr-defined]
        self.send_response(self.server.answers.pop(0) if self.server.answers else 204)  # type: ignore[attr-defined]
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *args: object) -> None:
        """Says nothing."""


@pytest.fixture
def listener() -> Iterator[HTTPServer]:
    server = HTTPServer(("127.0.0.1", 0), _Taken)
    server.taken, server.answers = [], []  # type: ignore[attr-defined]
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield server
    server.shutdown()
    server.server_close()
    thread.join()


class _Known(HTTPSignatureKeyResolver):
    def __init__(self, secret: str) -> None:
        self.secret = secret.encode()

    def resolve_public_key(self, key_id: str) -> bytes:
        return self.secret

    resolve_private_key = resolve_public_key


class _Got:
    def __init__(self, url: str, headers: dict[str, str]) -> None:
        self.method, self.url = "POST", url
        self.headers = {name.lower(): value for name, value in headers.items()}


def test_hooks_are_signed_tried_again_and_given_up_when_gone(
    owner: Phylax, context: Context, machine: Machine, listener: HTTPServer, clock: Clock
) -> None:
    url = f"http://127.0.0.1:{listener.server_port}/in?desk=1"
    made = owner.hooks.add(HookEdit(name="The desk's board", url=url, own_network=True))
    assert made.secret not in owner.hooks.list()[0].model_dump_json()
    listener.answers += [500]  # type: ignore[attr-defined]
    fill(context, machine.id, 96)
    clock.pass_(timedelta(minutes=2))
    send(context)
    (waiting,) = owner.notices.list()
    assert (waiting.state, waiting.error) == ("waiting", "OSError: answered 500")
    clock.pass_(timedelta(minutes=2))
    post(context)
    (sent,) = owner.notices.list()
    assert (sent.state, sent.tries) == ("delivered", 2)
    (_, first), (headers, body) = listener.taken  # type: ignore[attr-defined]
    assert first == body
    told = json.loads(body)
    assert told["id"] == sent.uid and told["attention"][0]["cause"] == "nearly full"

    # by an implementation of RFC 9421's own, and by hand
    verifier = HTTPMessageVerifier(
        signature_algorithm=algorithms.HMAC_SHA256, key_resolver=_Known(made.secret)
    )
    assert verifier.verify(_Got(url, headers), body=body)
    assert by_hand(made.secret, url, headers, body)
    assert not by_hand("hook_another", url, headers, body)
    with pytest.raises(Exception, match=r"(?i)signature|digest"):
        verifier.verify(_Got(url.replace("desk=1", "desk=2"), headers), body=body)

    listener.answers += [410]  # type: ignore[attr-defined]
    fill(context, machine.id, 99)
    clock.pass_(timedelta(minutes=20))
    send(context)
    (dead,) = owner.notices.list(state="given up")
    assert "gone for good" in dead.error


def by_hand(secret: str, url: str, headers: dict[str, str], body: bytes) -> bool:
    """The signature of RFC 9421, section 3.2, from the words of the standard alone."""
    import base64

    low = {name.lower(): value for name, value in headers.items()}
    label, _, parameters = low["signature-input"].partition("=")
    digest = base64.b64encode(hashlib.sha256(body).digest()).decode()
    if low["content-digest"] != f"sha-256=:{digest}:":
        return False
    values = {
        "@method": "POST", "@target-uri": url, "content-type": low["content-type"],
        "content-digest": low["content-digest"],
    }  # fmt: skip
    names = parameters[1 : parameters.index(")")].replace('"', "").split()
    base = "".join(f'"{name}": {values[name]}\n' for name in names)
    base += f'"@signature-params": {parameters}'
    signature = base64.b64encode(
        hmac.new(secret.encode(), base.encode(), hashlib.sha256).digest()
    ).decode()
    return low["signature"] == f"{label}=:{signature}:"


def test_notices_are_the_owners_to_set_up_and_everyones_own_to_wish(
    owner: Phylax, service, machine: Machine
) -> None:
    with service.as_("wren") as wren:
        wish(wren, at_once="all")
        with pytest.raises(NotAllowedError):
            wren.notices.wishes(owner.people.me().id)
        with pytest.raises(NotAllowedError):
            wren.hooks.list()
        with pytest.raises(NotAllowedError):
            wren.notices.mail_server()
        with pytest.raises(RefusedError, match="no mail server"):
            wren.notices.send_trial(wren.people.me().id)
        assert owner.notices.wishes(wren.people.me().id).mail == "wren@quayside.example"
