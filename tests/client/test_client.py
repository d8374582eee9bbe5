"""The client library when things go wrong: each error says what its caller can do."""

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import ClassVar

import pytest

from helpers import free_port
from phylax.client import (
    NotFoundError,
    Phylax,
    PhylaxError,
    RefusedError,
    ServiceError,
    UnreachableError,
)
from phylax.core.clients.shop import ClientEdit, Machine


class Broken(BaseHTTPRequestHandler):
    """A server that answers as some proxies do."""

    answers: ClassVar[dict[str, tuple[int, str]]] = {
        "/api/v2/today": (502, "<html>Bad gateway</html>"),
        "/api/v2/me": (500, '{"type":"urn:phylax:problem:unexpected","detail":"see the log"}'),
        "/api/v2/people": (418, "[1, 2]"),
    }

    def do_GET(self) -> None:
        status, body = self.answers[self.path]
        self.send_response(status)
        self.end_headers()
        self.wfile.write(body.encode())

    def log_message(self, *said: object) -> None:
        """Quiet."""


@pytest.fixture
def broken() -> Iterator[Phylax]:
    server = ThreadingHTTPServer(("127.0.0.1", free_port()), Broken)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with Phylax(f"http://127.0.0.1:{server.server_port}", "token") as shop:
        yield shop
    server.shutdown()
    server.server_close()


def test_what_is_no_problem_document_is_still_an_error_with_its_status(broken: Phylax) -> None:
    with pytest.raises(ServiceError) as gateway:
        broken.today()
    assert (gateway.value.status, str(gateway.value)) == (502, "Bad Gateway")
    with pytest.raises(ServiceError, match="see the log") as failed:
        broken.people.me()
    assert failed.value.kind == "unexpected"
    with pytest.raises(RefusedError) as teapot:
        broken.people.list()
    assert not isinstance(teapot.value, ServiceError)


def test_a_service_that_is_not_there_is_unreachable() -> None:
    with (
        Phylax(f"http://127.0.0.1:{free_port()}", "token") as shop,
        pytest.raises(UnreachableError, match="could not be reached"),
    ):
        shop.today()


def test_every_error_is_one_of_ours() -> None:
    for kind in (UnreachableError, RefusedError, NotFoundError, ServiceError):
        assert issubclass(kind, PhylaxError)


def test_clients_are_found_by_number_and_by_name(owner: Phylax) -> None:
    made = owner.clients.add(ClientEdit(name="Harbour Choir archive"))
    assert owner.clients.find(str(made.id)) == owner.clients.find("harbour choir ARCHIVE") == made
    with pytest.raises(PhylaxError, match="no client 'Elsewhere'"):
        owner.clients.find("Elsewhere")


def test_a_run_is_followed_until_it_ends(owner: Phylax, machine: Machine) -> None:
    run = owner.runs.survey(machine.id)
    following = owner.runs.follow(run.id, every=0.01)
    assert next(following).state == "waiting"
    owner.runs.call_off(run.id)
    assert [state.state for state in following] == ["called off"]


def test_listings_fetch_pages_as_they_are_needed(owner: Phylax) -> None:
    for number in range(12):
        owner.clients.add(ClientEdit(name=f"Client {number:02d}"))
    asked: list[str] = []
    owner._client.event_hooks["request"].append(lambda request: asked.append(str(request.url)))
    pages = owner.pages(type(owner.clients.get(1)), "/clients", limit=5)
    asked.clear()
    for _ in range(5):
        next(pages)
    assert len(asked) == 1
    assert len(list(pages)) == 7 and len(asked) == 3


def test_the_trend_of_a_machine_nobody_has_read_says_so(owner: Phylax, machine: Machine) -> None:
    with pytest.raises(NotFoundError, match="none yet"):
        owner.machines.trend(machine.id)
    with pytest.raises(NotFoundError, match="has not been surveyed yet"):
        owner.machines.ledger(machine.id)
    span = {"since": "2026-03-02T00:00:00Z", "until": "2026-03-01T00:00:00Z"}
    with pytest.raises(RefusedError, match="begin before it ends"):
        owner.send("GET", "/machines/1/trend", params=span)
