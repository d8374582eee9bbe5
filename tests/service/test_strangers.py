"""What strangers may ask of the service, and what they cannot do to others by asking."""

from __future__ import annotations

import asyncio
import json
import socket
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing

import httpx
import pytest
from starlette.types import Message, Receive, Scope, Send

from conftest import Service, serving
from helpers import PASSWORD, Clock, free_port
from phylax.client import Phylax
from phylax.service.context.context import Context
from phylax.service.http import signing_in
from phylax.service.limits import connection_limiter as connections
from phylax.service.limits import requests
from phylax.service.limits.connection_limiter import ConnectionLimiter, network_of
from phylax.service.limits.hashing import Hashing
from phylax.service.limits.login_throttle import Failures, LoginThrottle, TooManyTriesError
from phylax.service.limits.requests import DEEPEST, Limits, is_too_deep, largest_body
from phylax.service.problems import Problem
from phylax.service.serving.serve import server_config

API = "/api/v2"


def raw(service: Service, request: bytes, source: str = "127.0.0.1") -> bytes:
    """The answer to what is sent as it is."""
    port = int(service.url.rpartition(":")[2])
    with socket.create_connection(("127.0.0.1", port), 20, source_address=(source, 0)) as line:
        line.sendall(request)
        answer = b""
        while piece := line.recv(65536):
            answer += piece
            if b"\r\n\r\n" in answer and b"connection: close" not in answer.lower():
                break
        return answer


def status(answer: bytes) -> int:
    return int(answer.split(b" ", 2)[1])


# --- how much -----------------------------------------------------------------------------------


@pytest.mark.parametrize("path", ["/sign-in", "/command-line/sign-in", "/agent/messages"])
def test_a_large_body_is_refused_before_it_is_read(service: Service, path: str) -> None:
    head = (
        f"POST {API}{path} HTTP/1.1\r\nHost: h\r\nContent-Type: application/json\r\n"
        "Content-Length: 200000000\r\n\r\n"
    )
    assert status(raw(service, head.encode())) == 413


def test_a_body_whose_length_is_not_said_is_cut_off_where_it_is_too_long(service: Service) -> None:
    def pieces() -> Iterator[bytes]:
        for _ in range(64):
            yield b"x" * 1024

    answer = httpx.post(f"{service.url}{API}/sign-in", content=pieces(), timeout=30)
    assert answer.status_code == 413


def test_only_who_is_known_sends_much(service: Service, owner: Phylax) -> None:
    body = json.dumps({"text": "x" * 100_000}).encode()
    stranger = httpx.post(f"{service.url}{API}/records", content=body)
    assert stranger.status_code == 413 and "65536" in stranger.text
    headers = {"Authorization": f"Bearer {owner.people.make_token('t').token}"}
    known = httpx.post(f"{service.url}{API}/records", content=body, headers=headers)
    assert known.status_code in (403, 422), "it is looked at"
    assert largest_body(f"{API}/records") < largest_body(f"{API}/agent/messages")


@pytest.mark.parametrize("length", [b"-1", b"1e9", b"9" * 40])
def test_an_odd_length_is_a_problem_of_who_sends_it(service: Service, length: bytes) -> None:
    head = b"POST /api/v2/sign-in HTTP/1.1\r\nHost: h\r\nContent-Length: " + length
    assert status(raw(service, head + b"\r\n\r\n")) == 400


def test_what_is_nested_too_deep_is_refused(service: Service) -> None:
    for body in ("[" * 5000, '{"a":' * 5000, "[" * 5000 + "]" * 5000):
        answer = httpx.post(f"{service.url}{API}/sign-in", content=body[:4000])
        assert answer.status_code in (400, 422) and answer.status_code != 500, body[:10]
    assert is_too_deep(b"[" * (DEEPEST + 1))
    assert not is_too_deep(b"[" * DEEPEST)
    assert not is_too_deep(json.dumps(["[" * 500, 'a"[' * 500] * 50).encode()), "in words"
    assert not is_too_deep(b"[" + b"[],{}," * 5000 + b"1]"), "beside each other"


def test_a_look_at_how_deep_takes_time_by_the_length_alone() -> None:
    """Were it longer by the square of it, this would take hours."""
    assert not is_too_deep(b'"' + b'\\"' * 500_000 + b"[" * 70)


@pytest.mark.parametrize(
    ("address", "expected"),
    [
        ("/_app/../serve.py", 404), ("/_app/..%2f..%2fserve.py", 404),
        ("/_app/..%2f..%2fnothing.py", 404), ("/api/../index.html", 404),
        ("/%00", 400), ("/api/v2/machines/%00", 400), ("/api/v2/machines?words=%00", 400),
        ("/a%0d%0aSet-Cookie:x", 400), ("/" + "a" * 9000, 414), ("/?q=" + "a" * 9000, 414),
    ],
)  # fmt: skip
def test_no_address_tells_of_files_or_breaks_anything(
    service: Service, address: str, expected: int
) -> None:
    answer = raw(service, f"GET {address} HTTP/1.1\r\nHost: h\r\n\r\n".encode())
    assert status(answer) == expected, answer[:300]


def test_who_sends_much_slowly_keeps_only_themselves_waiting(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """One machine sends two large messages that do not end; another's comes through."""
    monkeypatch.setattr(requests, "_IDLE_SECONDS", 1000.0)
    done: list[bytes] = []
    never = asyncio.Event()

    async def app(scope: Scope, receive: Receive, send: Send) -> None:
        done.append(dict(scope["headers"])[b"authorization"])

    async def known(scope: Scope) -> bytes:
        return dict(scope["headers"])[b"authorization"]

    async def slow() -> Message:
        await never.wait()
        return {"type": "http.disconnect"}

    async def whole() -> Message:
        return {"type": "http.request", "body": b" " * 100_000}

    async def send(message: Message) -> None:
        """Nobody reads it."""

    def scope(who: bytes) -> Scope:
        headers = [(b"authorization", who), (b"content-length", b"100000")]
        path = f"{API}/agent/messages"
        return {"type": "http", "path": path, "query_string": b"", "headers": headers}

    async def house() -> None:
        limits = Limits(app, known)
        held = [asyncio.create_task(limits(scope(b"one"), slow, send)) for _ in range(30)]
        await asyncio.sleep(0)
        await asyncio.wait_for(limits(scope(b"other"), whole, send), 60)
        for task in held:
            task.cancel()
        await asyncio.gather(*held, return_exceptions=True)

    asyncio.run(house())
    assert done == [b"other"]


# --- guessing -----------------------------------------------------------------------------------


def guess(service: Service, password: str, source: str = "127.0.0.1", login: str = "ines") -> int:
    with httpx.Client(
        transport=httpx.HTTPTransport(local_address=source, verify=False), timeout=60
    ) as client:
        body = {"login": login, "password": password}
        return client.post(f"{service.url}{API}/command-line/sign-in", json=body).status_code


def test_of_many_guesses_at_once_few_are_checked(
    service: Service, monkeypatch: pytest.MonkeyPatch
) -> None:
    checked = []
    honest = signing_in.is_password

    def is_password(kept: str | None, password: str) -> bool:
        checked.append(password)
        return honest(kept, password)

    monkeypatch.setattr(signing_in, "is_password", is_password)
    with ThreadPoolExecutor(30) as many:
        statuses = list(many.map(lambda n: guess(service, f"guess {n}"), range(60)))
    assert len(checked) <= 4, checked
    assert set(statuses) <= {401, 429, 503}


def test_who_guesses_locks_nobody_out(service: Service, clock: Clock) -> None:
    """A stranger tries for the owner without an end; the owner, elsewhere, signs in."""
    with httpx.Client(base_url=service.url, headers={"Origin": service.url}) as browser:
        body = {"login": "ines", "password": PASSWORD}
        assert browser.post(f"{API}/sign-in", json=body).status_code == 200
        for n in range(40):
            guess(service, f"guess {n}", "127.0.0.9")
        assert guess(service, PASSWORD, "127.0.0.9") == 429
        assert guess(service, PASSWORD, "127.0.0.1") == 201
        # from as many addresses as one likes
        for n in range(90):
            guess(service, "guess", f"127.0.1.{n + 1}")
        assert guess(service, PASSWORD, "127.0.2.1") == 429, "a stranger so far"
        browser.post(f"{API}/sign-out")
        assert browser.post(f"{API}/sign-in", json=body).status_code == 200, "a known browser"


def test_tries_are_forgotten_and_a_clock_that_is_set_back_keeps_nobody_out() -> None:
    tries = LoginThrottle()
    for _ in range(4):
        tries.begin("ines", "a", known=None, now=1000)
    with pytest.raises(TooManyTriesError):
        tries.begin("ines", "a", known=None, now=1000)
    tries.begin("ines", "a", known=None, now=900)
    for _ in range(40):
        try:
            tries.begin("ines", "b", known=None, now=5000)
        except TooManyTriesError as error:
            assert error.seconds <= 300
    tries.begin("ines", "b", known=None, now=5000 + 3601)
    for number in range(30_000):
        tries.begin(f"nobody{number}", str(number), known=None, now=9000)
    assert len(tries._counts) <= 20_000


def test_failed_tries_do_not_fill_the_audit(service: Service, owner: Phylax) -> None:
    for n in range(80):
        guess(service, "wrong", login=f"nobody{n}")
    failed = [
        action for action in owner.people.audit(most=1000) if action.action == "sign-in failed"
    ]
    assert 1 <= len(failed) <= 61
    failures = Failures()
    assert failures.note("ines", "a", now=0) == 0
    assert [failures.note("ines", "a", now=n) for n in range(5)] == [None] * 5
    assert failures.note("ines", "a", now=700) == 5
    # who fills it with made-up logins hides nothing behind them
    for number in range(200):
        failures.note(f"nobody{number}", "a", now=800)
        failures.note(f"nobody{number}", "a", now=801)
    assert failures.note("ines", "b", now=1300) is None
    assert (failures.note("ines", "b", now=1401) or 0) > 100
    assert failures.note("wren", "c", now=4000) == 0


def test_hashing_sends_away_whom_it_has_no_place_for() -> None:
    hashing, free = Hashing(), threading.Event()

    async def crowd() -> tuple[int, int]:
        waiting = [asyncio.create_task(hashing.run(free.wait)) for _ in range(30)]
        await asyncio.sleep(0)
        known = asyncio.create_task(hashing.run(free.wait, known=True))
        await asyncio.sleep(0)
        free.set()
        ended = await asyncio.gather(*waiting, return_exceptions=True)
        assert await known, "who is known has a place all the same"
        return ended.count(True), sum(isinstance(error, Problem) for error in ended)

    assert asyncio.run(crowd()) == (8, 22)
    hashing.close()


# --- connections --------------------------------------------------------------------------------


@pytest.fixture
def few(context: Context, monkeypatch: pytest.MonkeyPatch) -> Iterator[Service]:
    """A service with room for eight connections, five from one address; half a second for a
    head."""
    monkeypatch.setattr(connections, "HEAD_SECONDS", 0.5)
    monkeypatch.setattr(connections, "UNREAD_SECONDS", 0.5)
    config = server_config(context, "127.0.0.1", free_port())
    config.http = ConnectionLimiter(8, 5).protocol()
    with serving(context, config) as running:
        yield running


def connect(service: Service, source: str = "127.0.0.1") -> socket.socket:
    port = int(service.url.rpartition(":")[2])
    return socket.create_connection(("127.0.0.1", port), 60, source_address=(source, 0))


def ask_and_read(line: socket.socket) -> None:
    """One request, and all of its answer, in however many pieces it comes."""
    line.sendall(b"GET /api/v2/health HTTP/1.1\r\nHost: h\r\n\r\n")
    answer = b""
    while not answer.endswith(b"}"):
        answer += line.recv(65536)
    assert answer.startswith(b"HTTP/1.1 200")


def is_ended(line: socket.socket) -> bool:
    try:
        return line.recv(1) == b""
    except ConnectionResetError:
        return True


@pytest.mark.parametrize("said", [b"", b"GET / HT", b"GET / HTTP/1.1\r\nHost: h\r\nX: ", b"\r\n"])
def test_who_does_not_say_what_they_want_is_sent_away(few: Service, said: bytes) -> None:
    with closing(connect(few)) as line:
        line.sendall(said)
        assert is_ended(line)


def test_after_an_answer_too_a_new_head_has_its_time(few: Service) -> None:
    with closing(connect(few)) as line:
        ask_and_read(line)
        line.sendall(b"\r\n")
        assert is_ended(line)


def test_a_head_without_an_end_is_cut_off(few: Service) -> None:
    with closing(connect(few)) as line, pytest.raises((ConnectionError, AssertionError)):
        for _ in range(3000):
            line.sendall(b"X" * 1024)
        assert is_ended(line)
        raise ConnectionError


def test_who_holds_places_and_asks_nothing_keeps_nobody_out(
    few: Service, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(connections, "HEAD_SECONDS", 600)
    held = [connect(few, "127.0.0.7") for _ in range(5)]
    held += [connect(few, "127.0.0.8") for _ in range(3)]
    for source in ("127.0.0.7", "127.0.0.9"):
        with closing(connect(few, source)) as line:
            ask_and_read(line)
    assert is_ended(held[0]), "the one that has idled longest gave way"
    for line in held:
        line.close()


def test_an_answer_that_nobody_reads_is_given_up(few: Service) -> None:
    """More than all buffers on the way hold."""
    with closing(connect(few)) as line:
        line.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        line.sendall(b"GET /openapi.json HTTP/1.1\r\nHost: h\r\n\r\n" * 40)
        deadline = time.monotonic() + 240
        with pytest.raises(ConnectionError):
            while time.monotonic() < deadline:
                line.sendall(b"\r\n")
                time.sleep(0.1)


def test_a_household_is_one_address() -> None:
    assert network_of("2001:db8::1") == network_of("2001:db8::ffff:1")
    assert network_of("2001:db8::1") != network_of("2001:db8:0:1::1")
    assert network_of("::ffff:10.0.0.1") == network_of("10.0.0.1") == "10.0.0.1"
    assert network_of("testclient") == "testclient"


def test_files_can_be_opened_however_many_are_connected() -> None:
    import resource

    from phylax.service.serving import serve

    before = resource.getrlimit(resource.RLIMIT_NOFILE)
    try:
        resource.setrlimit(resource.RLIMIT_NOFILE, (256, before[1]))
        room = serve._room_for_connections()
        assert resource.getrlimit(resource.RLIMIT_NOFILE)[0] >= room + 200
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, before)
