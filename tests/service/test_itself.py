"""What the service does to itself when something around it fails, or comes twice."""

from __future__ import annotations

import asyncio
import socket
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import ExitStack, closing
from datetime import timedelta
from pathlib import Path

import httpx
import pytest

from conftest import Service
from helpers import Clock
from phylax.client import Phylax, RefusedError
from phylax.core.attention.notices import HookEdit, MailServerEdit
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.events import Event, EventKind
from phylax.service.attention.notices import post, posting
from phylax.service.context.context import Context
from phylax.service.http import feed
from phylax.service.http.auth import Actor
from phylax.service.problems import storage_problem
from phylax.store.attention import notices
from phylax.store.attention.notices import Outgoing
from phylax.store.file import events
from phylax.store.file.shop_file import FILE
from phylax.store.people import people

API = "/api/v2"


# --- notices --------------------------------------------------------------------------------------


def outgoing(uid: str, **where: object) -> Outgoing:
    fields = {"kind": "at once", "receiver": "x@shop.example", "subject": "s", "body": "{}"}
    return Outgoing.__new__(Outgoing, uid=uid, due_at=0, **(fields | where))  # type: ignore[arg-type]


def states(context: Context) -> dict[str, str]:
    with context.db.read() as conn:
        listed = notices.notices(conn, before=2**40, limit=100, state=None)
    return {notice.uid: notice.state for notice in listed}


def test_a_withdrawn_hook_costs_its_own_messages_only(
    service: Service, owner: Phylax, context: Context
) -> None:
    hook = owner.hooks.add(HookEdit(name="till", url="http://127.0.0.1:9/", own_network=True))
    with context.db.write() as conn:
        notices.add(conn, outgoing("poisoned", hook_id=hook.id, receiver="till"), at=0)
        notices.add(conn, outgoing("fine"), at=1)
    owner.hooks.withdraw(hook.id)
    with context.db.read() as conn:
        (given_up,) = notices.notices(conn, before=2**40, limit=1, state="given up")
    again = f"/notices/{given_up.id}/again"
    with pytest.raises(RefusedError) as refused:
        owner.send("POST", again)
    assert refused.value.status == 409
    # a file of an earlier version, in which that was possible
    with context.db.write() as conn:
        conn.execute("UPDATE notices SET state = 'waiting', due_at = 0")
    post(context)
    assert states(context)["poisoned"] == "given up"
    with context.db.read() as conn:
        fine = next(n for n in notices.notices(conn, before=2**40, limit=9, state=None)
                    if n.uid == "fine")  # fmt: skip
    assert fine.tries == 1


@pytest.fixture
def silent() -> Iterator[int]:
    """Somebody who is called, and never says a word; how often counts."""
    with closing(socket.create_server(("127.0.0.1", 0))) as server:
        yield server.getsockname()[1]


def test_who_is_silent_is_waited_for_once(
    context: Context, silent: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(posting, "_PATIENCE", 0.3)
    asked = []
    honest = posting._send

    def send(*given: object) -> None:
        asked.append(given)
        honest(*given)  # type: ignore[arg-type]

    monkeypatch.setattr(posting, "_send", send)
    edit = MailServerEdit(host="127.0.0.1", port=silent, security="none", sender="a@shop.example")
    with context.db.write() as conn:
        notices.put_mail_server(conn, edit, who="x", at=0)
        for number in range(10):
            notices.add(conn, outgoing(f"mail {number}"), at=number)
    assert post(context) == 10 and len(asked) == 1
    assert set(states(context).values()) == {"waiting"}


def test_a_hook_that_answers_byte_by_byte_holds_nobody_for_long(
    service: Service, owner: Phylax, context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(posting, "_PATIENCE", 0.5)
    ended = threading.Event()
    with closing(socket.create_server(("127.0.0.1", 0))) as server:
        port = server.getsockname()[1]

        def drip() -> None:
            line, _ = server.accept()
            with closing(line):
                line.sendall(b"HTTP/1.1 200 OK\r\n")
                while not ended.wait(0.05):
                    try:
                        line.sendall(b"X: y\r\n")
                    except OSError:
                        return

        threading.Thread(target=drip, daemon=True).start()
        url = f"http://127.0.0.1:{port}/"
        hook = owner.hooks.add(HookEdit(name="slow", url=url, own_network=True))
        with context.db.write() as conn:
            notices.add(conn, outgoing("slow", hook_id=hook.id, receiver="slow"), at=0)
        assert post(context, by_mail=False) == 1
        ended.set()
    with context.db.read() as conn:
        (notice,) = notices.notices(conn, before=2**40, limit=9, state=None)
    assert notice.state == "waiting" and "Timeout" in notice.error


@pytest.mark.parametrize("host", ["127.0.0.1", "[::1]", "10.0.0.7", "169.254.169.254", "localhost"])
def test_a_hook_into_the_own_network_is_called_only_where_that_is_meant(
    service: Service, owner: Phylax, context: Context, host: str
) -> None:
    scheme = "http" if host in ("127.0.0.1", "[::1]", "localhost") else "https"
    hook = owner.hooks.add(HookEdit(name="inside", url=f"{scheme}://{host}:9/"))
    with context.db.write() as conn:
        notices.add(conn, outgoing("inside", hook_id=hook.id, receiver="inside"), at=0)
    post(context)
    with context.db.read() as conn:
        (notice,) = notices.notices(conn, before=2**40, limit=9, state=None)
    assert notice.state == "given up" and "own network" in notice.error


# --- what comes twice -----------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("/tokens", {"name": "till"}),
        ("/hooks", {"name": "till", "url": "https://till.example/", "at_once": "all"}),
        ("/calendars", {"name": "All"}),
    ],
)
def test_what_carries_a_secret_is_made_once_and_never_shown_again(
    service: Service, owner: Phylax, path: str, body: dict[str, str]
) -> None:
    headers = {"Authorization": f"Bearer {owner.secret}", "Idempotency-Key": "once-only-1"}
    with httpx.Client(base_url=service.url + API, headers=headers, timeout=60) as client:
        before = len(client.get(path).json())
        first, again = client.post(path, json=body), client.post(path, json=body)
        assert (first.status_code, again.status_code) == (201, 409), first.text
        assert len(client.get(path).json()) == before + 1
    file = service.context.db.path
    kept = file.read_bytes() + Path(f"{file}-wal").read_bytes()
    secrets = [v for k, v in first.json().items() if k in ("token", "path")]
    assert not [secret for secret in secrets if secret.encode() in kept]


def test_a_person_is_added_once_and_a_repeated_answer_has_its_version(
    service: Service, owner: Phylax
) -> None:
    headers = {"Authorization": f"Bearer {owner.secret}", "Idempotency-Key": "once-only-2"}
    person = {"login": "tobias", "name": "Tobias", "role": "desk"}
    with httpx.Client(base_url=service.url + API, headers=headers, timeout=60) as client:
        answers = [client.post("/people", json=person) for _ in range(2)]
        assert [a.status_code for a in answers] == [201, 201]
        assert answers[0].json() == answers[1].json()
        client.headers["Idempotency-Key"] = "once-only-3"
        answers = [client.post("/clients", json={"name": "Ferry"}) for _ in range(2)]
        assert answers[0].headers["etag"] == answers[1].headers["etag"]


def test_a_tag_that_a_proxy_weakened_is_the_same_tag(service: Service, owner: Phylax) -> None:
    client = owner.clients.add(ClientEdit(name="Ferry"))
    headers = {"Authorization": f"Bearer {owner.secret}", "If-Match": f'W/"{client.version}"'}
    url = f"{service.url}{API}/clients/{client.id}"
    assert httpx.put(url, json={"name": "Ferries"}, headers=headers).status_code == 200
    assert httpx.put(url, json={"name": "Boats"}, headers=headers).status_code == 412


# --- the file -------------------------------------------------------------------------------------


def test_a_full_disk_is_said_and_nothing_is_lost(context: Context) -> None:
    """SQLite's own bound on pages fails as a full disk does."""
    database = context.db
    with database.read() as conn:
        pages = conn.execute("PRAGMA page_count").fetchone()[0]
    database._writer.execute(f"PRAGMA max_page_count = {pages}")
    with pytest.raises(sqlite3.OperationalError) as full, database.write() as conn:
        conn.execute("UPDATE shop SET name = 'Half'")
        for number in range(10_000):
            conn.execute("INSERT INTO audit (at, who, action, subject) VALUES (0, 'x', 'y', ?)", (
                f"{number}" * 100,))  # fmt: skip
    problem = storage_problem(full.value)
    assert problem.status == 507 and "nothing was changed" in problem.detail
    database._writer.execute("PRAGMA max_page_count = 1000000")
    with database.write() as conn:
        assert conn.execute("SELECT name FROM shop").fetchone()[0] == "Quayside"


@pytest.mark.parametrize(
    ("code", "status"),
    [
        (sqlite3.SQLITE_BUSY, 503), (sqlite3.SQLITE_READONLY, 503), (sqlite3.SQLITE_CORRUPT, 503),
        (sqlite3.SQLITE_IOERR, 503), (sqlite3.SQLITE_ERROR, 500),
    ],
)  # fmt: skip
def test_each_fault_of_storage_has_its_own_word(code: int, status: int) -> None:
    error = sqlite3.OperationalError("x")
    error.sqlite_errorcode = code
    assert storage_problem(error).status == status


@pytest.mark.parametrize(
    ("content", "word"), [(None, "There is no shop"), (b"no database" * 999, "cannot be used")]
)
def test_a_start_that_cannot_be_says_why_and_makes_nothing(
    tmp_path: Path, content: bytes | None, word: str
) -> None:
    data = tmp_path / "data"
    data.mkdir()
    if content is not None:
        (data / FILE).write_bytes(content)
    command = [sys.executable, "-m", "phylax", "serve", "--data", str(data), "--port", "1"]
    said = subprocess.run(command, capture_output=True, text=True, timeout=300)
    assert said.returncode == 1 and word in said.stderr and "Traceback" not in said.stderr
    left = {path.name for path in data.iterdir() if "in-use" not in path.name}
    assert left == (set() if content is None else {FILE})


def test_of_two_services_on_one_file_the_second_is_told(
    service: Service, context: Context, clock: Clock
) -> None:
    from phylax.store.file.shop_file import alone

    data = context.db.path.parent
    with alone(data, "a service at 127.0.0.1:8610"):
        command = [sys.executable, "-m", "phylax", "serve", "--data", str(data), "--port", "1"]
        said = subprocess.run(command, capture_output=True, text=True, timeout=300)
    assert said.returncode == 1 and "in use by a service at 127.0.0.1:8610" in said.stderr


def test_a_machine_of_a_name_that_is_taken_undoes_its_own_change_only(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    edit = MachineEdit(tag=machine.tag, client_id=machine.client_id, system="linux")
    with pytest.raises(RefusedError):
        owner.machines.add(edit)
    owner.machines.add(edit.model_copy(update={"tag": "ferry-two"}))


# --- those who watch ------------------------------------------------------------------------------


def watching(service: Service, secret: str | None, last: str = "") -> httpx.Request:
    headers = {"Authorization": f"Bearer {secret}"} | ({"Last-Event-ID": last} if last else {})
    return httpx.Request("GET", f"{service.url}{API}/events", headers=headers)


def test_who_left_too_long_ago_is_told_to_load_anew(service: Service, owner: Phylax) -> None:
    for number in range(5):
        owner.clients.add(ClientEdit(name=f"c{number}"))
    with service.context.db.write() as conn:
        conn.execute("DELETE FROM events WHERE id <= 3")
    for last, anew in (("1", True), ("9999", True), ("3", False), ("4", False)):
        with httpx.Client(timeout=60) as client:
            answer = client.send(watching(service, owner.secret, last), stream=True)
            first = next(line for line in answer.iter_lines() if line)
            assert ("anew" in first) is anew, (last, first)
            answer.close()


def test_how_many_watch_is_bounded_and_one_who_takes_nothing_is_dropped(
    service: Service, owner: Phylax, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(feed, "MOST_OF_PERSON", 3)
    monkeypatch.setattr(feed, "MOST_BEHIND", 2)
    with httpx.Client(timeout=60) as client:
        streams = [client.send(watching(service, owner.secret), stream=True) for _ in range(3)]
        lines = [stream.iter_lines() for stream in streams]
        assert all("watching" in next(each) for each in lines)
        with httpx.Client(timeout=60) as one_more:
            refused = one_more.send(watching(service, owner.secret))
        assert refused.status_code == 429
        for stream in streams:
            stream.close()
    listener = feed.Listener(Actor(owner.people.me(), "token", b""))
    event = Event(id=1, at=service.context.clock(), kind=EventKind.SHOP)
    listener.give([event])
    listener.give([event] * 2)
    assert listener.is_over


def test_a_hundred_who_watch_cost_one_look(
    service: Service, owner: Phylax, monkeypatch: pytest.MonkeyPatch
) -> None:
    looks: list[int] = []
    honest = events.listed

    def listed(*given: object, **named: object) -> list[Event]:
        looks.append(1)
        return honest(*given, **named)  # type: ignore[arg-type]

    with httpx.Client(timeout=60, limits=httpx.Limits(max_connections=None)) as client:
        streams = [client.send(watching(service, owner.secret), stream=True) for _ in range(30)]
        lines = [stream.iter_lines() for stream in streams]
        assert all("watching" in next(each) for each in lines)
        monkeypatch.setattr(events, "listed", listed)
        owner.clients.add(ClientEdit(name="Ferry"))
        for each in lines:
            assert next(line for line in each if line.startswith("event:")) == "event: client"
        for stream in streams:
            stream.close()
    assert len(looks) < 10


def test_on_a_full_disk_what_is_only_read_is_read(
    service: Service, owner: Phylax, clock: Clock, monkeypatch: pytest.MonkeyPatch
) -> None:
    """That a token was used is noted where there is room for it."""
    clock.pass_(timedelta(hours=1))
    noted = []

    def full(*given: object, **named: object) -> None:
        noted.append(given)
        raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr(people, "note_token", full)
    assert owner.people.me().login == "ines" and noted


def test_who_begins_to_watch_while_it_is_looked_misses_nothing(
    context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    the_feed = feed.Feed(context)
    the_feed.begin()
    honest, came = the_feed._look, ExitStack()
    with context.db.read() as conn:
        (ines,) = [person for person in people.everyone(conn) if person.login == "ines"]
    late: list[feed.Listener] = []

    def look(listeners: list[feed.Listener]) -> object:
        late.append(came.enter_context(the_feed.listening(Actor(ines, "session", b""))))
        with context.db.write() as conn:
            events.publish(conn, EventKind.SHOP, at=context.now())
        return honest(listeners)

    monkeypatch.setattr(the_feed, "_look", look)
    asyncio.run(the_feed._turn())
    assert [event.kind for event in late[0]._news] == [EventKind.SHOP]
    came.close()
