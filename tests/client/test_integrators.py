"""What integrators rely on: the docs' scripts, a service that stops, lost answers, one shape."""

from __future__ import annotations

import ast
import asyncio
import inspect
import re
import socket
import textwrap
import threading
import typing
from collections.abc import Iterator
from enum import Enum
from importlib import resources
from pathlib import Path
from types import FunctionType
from typing import Any

import httpx
import pytest
from tools import aio

import phylax.client as client
from conftest import Service, serving
from helpers import Clock, enrol, free_port, make_file, make_standin
from phylax.client import (
    AsyncPhylax,
    ClientEdit,
    Phylax,
    RefusedError,
    Rule,
    Scope,
    StillRunningError,
    UnreachableError,
    async_sign_in,
)
from phylax.client.families.family import Family
from phylax.client.transport.async_http import AsyncHttp
from phylax.client.transport.http import Http
from phylax.client.transport.repeatable import is_repeatable
from phylax.core.clients.shop import ClosingDaysEdit, Machine
from phylax.core.ground.values import Demand
from phylax.core.runs.runs import NewRun, Run
from phylax.service.context.context import Context
from phylax.service.serving.app import create_app
from phylax.service.serving.serve import server_config

DOCS = Path(__file__).parents[2] / "docs/interfaces.md"


@pytest.fixture
def token(service: Service) -> str:
    with service.as_("ines") as shop:
        return shop.secret or ""


@pytest.fixture
def scripts() -> dict[str, Any]:
    """The functions that the docs give to integrators."""
    names: dict[str, Any] = {}
    for block in re.findall(r"```python\n(.*?)```", DOCS.read_text("utf-8"), re.DOTALL):
        exec(compile(block, str(DOCS), "exec"), names)
    return names


def test_the_docs_scripts_clean_put_back_and_read(
    service: Service, owner: Phylax, machine: Machine, token: str, scripts: dict[str, Any],
    tmp_path: Path,
) -> None:  # fmt: skip
    home = make_standin(tmp_path / "m")
    old = make_file(home / ".tmp/old", 4000, days_old=30)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.rules.put(Scope.SHOP, 0, "user-temp", Rule(hold_for="P2D"))  # type: ignore[arg-type]
    owner.runs.survey(machine.tag)
    agent.once()
    is_done = threading.Event()

    def call() -> None:
        while not is_done.wait(0.05):
            agent.once()

    calling = threading.Thread(target=call)
    calling.start()
    try:
        job = (service.url, token, "Skerry Ferry Office", "nightly-1")
        assert scripts["clean_all"](*job) == {"ferry-desk": "done"}
        assert not old.exists()
        runs = [run.id for run in owner.runs.list()]
        assert scripts["clean_all"](*job) == {"ferry-desk": "done"}, "run again"
        assert [run.id for run in owner.runs.list()] == runs, "it is the same run"
        scripts["put_all_back"](service.url, token, "ferry-desk")
        newest = next(iter(owner.runs.list()))
        assert list(owner.runs.follow(newest.id, timeout=60))[-1].state == "done"
        assert old.exists()
    finally:
        is_done.set()
        calling.join()
    assert asyncio.run(scripts["free_space"](service.url, token)).keys() == {"ferry-desk"}


def test_both_scripts_go_on_when_the_service_was_away(
    context: Context, clock: Clock, scripts: dict[str, Any], tmp_path: Path
) -> None:
    """It stops after the first machine was read, and is back half a second later."""
    port = free_port()
    back: list[threading.Thread] = []
    with serving(context, server_config(context, "127.0.0.1", port)) as service:
        with service.as_("ines") as owner:
            office = owner.clients.add(ClientEdit(name="Skerry Ferry Office"))
            assert office.id == 1
        token = owner.secret or ""
        url = service.url
    again = Context(context.db, clock)
    is_over = threading.Event()

    def come_back() -> None:
        with serving(again, server_config(again, "127.0.0.1", port)):
            is_over.wait(60)

    for work in (
        lambda: Phylax(url, token, retries=8).clients.get(1).name,
        lambda: asyncio.run(_name_of(url, token)),
    ):
        is_over.clear()
        thread = threading.Timer(0.5, come_back)
        thread.start()
        back.append(thread)
        assert work() == "Skerry Ferry Office"
        is_over.set()
        thread.join()
        again = Context(context.db, clock)


async def _name_of(url: str, token: str) -> str:
    async with AsyncPhylax(url, token, retries=8) as shop:
        return (await shop.clients.get(1)).name


def _whole(connection: socket.socket) -> bytes:
    """A request with its body."""
    request = b""
    while piece := connection.recv(1 << 16):
        request += piece
        head, end, body = request.partition(b"\r\n\r\n")
        length = re.search(rb"content-length: (\d+)", head, re.IGNORECASE)
        if end and len(body) >= int(length[1] if length else 0):
            break
    return request


class Lossy:
    """A way to the service on which the answer of a request is lost, so many times."""

    def __init__(self, port: int, losses: int) -> None:
        self._to, self.losses, self.came = port, losses, 0
        self._server = socket.create_server(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{self._server.getsockname()[1]}"
        threading.Thread(target=self._work, daemon=True).start()

    def _work(self) -> None:
        while True:
            try:
                connection, _ = self._server.accept()
            except OSError:
                return
            with connection, socket.create_connection(("127.0.0.1", self._to)) as service:
                request = _whole(connection)
                if not request:
                    continue
                self.came += 1
                service.sendall(request.replace(b"Connection: keep-alive", b"Connection: close"))
                answer = b""
                while piece := service.recv(1 << 16):
                    answer += piece
                if self.losses:
                    self.losses -= 1
                else:
                    connection.sendall(answer)

    def close(self) -> None:
        self._server.close()


@pytest.fixture
def lossy(service: Service) -> Iterator[Lossy]:
    way = Lossy(int(service.url.rpartition(":")[2]), 2)
    yield way
    way.close()


def test_a_creation_whose_answer_was_lost_is_asked_for_again_and_made_once(
    lossy: Lossy, owner: Phylax, token: str
) -> None:
    with Phylax(lossy.url, token) as shop:
        made = shop.clients.add(ClientEdit(name="Gull Rock Hotel"))
    assert (made.name, lossy.came) == ("Gull Rock Hotel", 3)
    assert [c.name for c in owner.clients.list()] == ["Gull Rock Hotel"]


def test_the_same_awaited(lossy: Lossy, owner: Phylax, token: str) -> None:
    async def add() -> str:
        async with AsyncPhylax(lossy.url, token) as shop:
            return (await shop.clients.add(ClientEdit(name="Gull Rock Hotel"))).name

    assert (asyncio.run(add()), lossy.came) == ("Gull Rock Hotel", 3)
    assert [c.name for c in owner.clients.list()] == ["Gull Rock Hotel"]


def test_what_could_be_done_twice_is_never_sent_twice(
    lossy: Lossy, owner: Phylax, token: str
) -> None:
    days = ClosingDaysEdit(name="Regatta", first="2026-08-03", last="2026-08-07")  # type: ignore[arg-type]
    with Phylax(lossy.url, token) as shop, pytest.raises(UnreachableError):
        shop.closing_days.add(days)
    assert lossy.came == 1
    assert len(owner.closing_days.list()) == 1


def test_a_change_whose_answer_was_lost_is_not_made_again(
    lossy: Lossy, owner: Phylax, token: str
) -> None:
    """It was made; again it would only be said to be of an old version."""
    hotel = owner.clients.add(ClientEdit(name="Gull Rock Hotel"))
    with Phylax(lossy.url, token) as shop, pytest.raises(UnreachableError):
        shop.clients.change(hotel, ClientEdit(name="Gull Rock Inn"))
    assert lossy.came == 1
    assert owner.clients.get(hotel.id).name == "Gull Rock Inn"


@pytest.mark.parametrize(
    ("status", "after", "tries", "waited"),
    [
        (503, "2", 3, 2.0),  # it says when: not sooner
        (429, "3", 3, 3.0),
        (503, "3600", 1, 0.0),  # nobody waits so long without being told
        (503, "", 1, 0.0),
        (500, "2", 1, 0.0),  # the same again would fail the same
    ],
)
def test_who_asks_to_be_left_alone_is_asked_again_when_they_say(
    monkeypatch: pytest.MonkeyPatch, status: int, after: str, tries: int, waited: float
) -> None:
    def answer(request: httpx.Request) -> httpx.Response:
        came.append(request.url.path)
        if len(came) < 3:
            return httpx.Response(status, headers={"Retry-After": after} if after else {})
        return httpx.Response(200, json=[])

    async def no_sleep(seconds: float) -> None:
        pauses.append(seconds)

    monkeypatch.setattr("time.sleep", lambda seconds: pauses.append(seconds))
    monkeypatch.setattr("asyncio.sleep", no_sleep)
    transport = httpx.MockTransport(answer)
    with Http("http://127.0.0.1:1", "x", retries=4, transport=transport) as http:
        for ask in (
            lambda: http.send("GET", "/api/v2/clients"),
            lambda: asyncio.run(_asked(transport)),
        ):
            came: list[str] = []
            pauses: list[float] = []
            if tries == 1:
                with pytest.raises(RefusedError):
                    ask()
            else:
                assert ask().json() == []
            assert (len(came), len(pauses)) == (tries, tries - 1)
            assert all(pause >= waited for pause in pauses)


async def _asked(transport: httpx.MockTransport) -> httpx.Response:
    http = AsyncHttp("http://127.0.0.1:1", "x", retries=4)
    http._client = httpx.AsyncClient(base_url="http://127.0.0.1:1", transport=transport)
    return await http.send("GET", "/api/v2/clients")


def test_retries_are_bounded(lossy: Lossy, token: str) -> None:
    lossy.losses = 100
    with Phylax(lossy.url, token, retries=3) as shop, pytest.raises(UnreachableError):
        shop.today()
    assert lossy.came == 4


def test_what_the_client_sends_again_is_what_the_service_carries_out_once(
    context: Context,
) -> None:
    def routes(within: Any) -> Iterator[Any]:
        for route in within:
            if hasattr(route, "original_router"):
                yield from routes(route.original_router.routes)
            elif "POST" in (getattr(route, "methods", None) or ()):
                yield route

    known = {
        re.sub(r"\{[^}]+\}", "1", route.path): inspect.getsource(route.endpoint)
        for route in routes(create_app(context).routes)
    }
    once = {path for path, source in known.items() if ".once(" in source}
    reads = {p for p in known if p.endswith(("/preview", "/what-if", "/verification"))}
    assert len(once) > 30
    assert {path for path in known if is_repeatable("POST", path)} == once | reads


def test_a_key_that_is_kept_makes_nothing_twice(owner: Phylax) -> None:
    def work() -> list[int]:
        keyed = owner.with_key("intake-7")
        return [keyed.clients.add(ClientEdit(name=name)).id for name in ("Hoy Bakery", "Tarn")]

    assert work() == work()
    assert len(list(owner.clients.list())) == 2
    with pytest.raises(RefusedError, match="used for another request"):
        owner.with_key("intake-7").clients.add(ClientEdit(name="Somebody else"))


def test_reading_uses_up_no_key(owner: Phylax, machine: Machine) -> None:
    """Calls that look something up first make theirs under the key itself."""
    asked = NewRun(machine_id=machine.id, work="survey")
    survey = owner.with_key("job").runs.survey(machine.tag)
    assert owner.with_key("job").post(Run, "/runs", asked).id == survey.id


def test_following_ends_with_its_time_and_the_run_goes_on(owner: Phylax, machine: Machine) -> None:
    run = owner.runs.survey(machine.tag)
    with pytest.raises(StillRunningError) as ended:
        list(owner.runs.follow(run.id, every=0.01, timeout=0.05))
    assert ended.value.run is not None and isinstance(ended.value, TimeoutError)
    assert owner.runs.get(run.id).state == "waiting"


def test_a_token_from_a_file_may_end_with_a_line_break(service: Service, token: str) -> None:
    with Phylax(service.url, f" {token}\n") as shop:
        assert shop.people.me().login == "ines"


@pytest.mark.parametrize("bad", ["two words", "phylax_\x00", "phylax_ä", "a\nb"])
def test_what_is_no_token_is_refused_without_repeating_it(bad: str) -> None:
    for kind in (Phylax, AsyncPhylax):
        with pytest.raises(ValueError, match="this is no token") as refused:
            kind("http://127.0.0.1:1", bad)
        assert bad not in str(refused.value)


# --- the same shape, typed and described -------------------------------------------------------


def _families(shop: object) -> dict[str, type]:
    return {name: type(f) for name, f in vars(shop).items() if hasattr(f, "_http")}


def _calls(kind: type) -> dict[str, FunctionType]:
    members = inspect.getmembers(kind, inspect.isfunction)
    return {name: call for name, call in members if not name.startswith("_")}


SYNC, ASYNC = Phylax("http://127.0.0.1:1", "x"), AsyncPhylax("http://127.0.0.1:1", "x")
KINDS = {**_families(SYNC), "the shop": Phylax}
TWINS = {**_families(ASYNC), "the shop": AsyncPhylax}


@pytest.mark.parametrize("name", KINDS)
def test_the_async_client_has_the_same_calls_with_the_same_words(name: str) -> None:
    calls, twins = _calls(KINDS[name]), _calls(TWINS[name])
    assert calls.keys() == twins.keys()
    for call in calls:
        assert [*inspect.signature(calls[call]).parameters.values()] == [
            *inspect.signature(twins[call]).parameters.values()
        ]
        assert calls[call].__doc__ == twins[call].__doc__


def test_the_async_client_is_written_from_the_sync_one() -> None:
    kept = {path.stem for path in aio.TO.glob("[a-z]*.py")}
    assert kept == set(aio.modules())
    stale = [m for m in aio.modules() if (aio.TO / f"{m}.py").read_text("utf-8") != aio.text_of(m)]
    assert not stale, "run make contract"


@pytest.mark.parametrize("name", KINDS)
def test_every_call_says_what_it_does_and_every_family_gives_an_example(name: str) -> None:
    silent = [call for call, function in _calls(KINDS[name]).items() if not function.__doc__]
    assert not silent
    if issubclass(KINDS[name], Family):
        _, _, example = (inspect.getdoc(KINDS[name]) or "").partition("Example::\n\n")
        tree = ast.parse(textwrap.dedent(example))
        named = [n.func for n in ast.walk(tree) if isinstance(n, ast.Call)]
        of_shop = [ast.unparse(f) for f in named if ast.unparse(f).startswith("shop.")]
        assert of_shop
        for call in of_shop:
            _, family, method = call.split(".")
            assert method in _calls(KINDS[family]), call


def test_types_that_callers_make_are_at_the_front_door() -> None:
    wanted: set[str] = set()

    def walk(kind: Any) -> None:
        is_made = isinstance(kind, type) and issubclass(kind, (Demand, Enum))
        if is_made and kind.__module__.startswith("phylax.core"):
            wanted.add(kind.__name__)
        for inner in typing.get_args(kind):
            walk(inner)

    for kind in KINDS.values():
        for call in _calls(kind).values():
            hints = typing.get_type_hints(call, vars(inspect.getmodule(call)))
            for name, hint in hints.items():
                if name != "return":
                    walk(hint)
    assert len(wanted) > 30
    assert wanted <= set(client.__all__)


def test_the_package_says_that_it_is_typed() -> None:
    assert resources.files("phylax").joinpath("py.typed").is_file()


def test_signing_in_is_awaited_too(service: Service) -> None:
    async def me() -> str:
        token = await async_sign_in(service.url, "ines", "correct horse battery")
        async with AsyncPhylax(service.url, token) as shop:
            return (await shop.people.me()).login

    assert asyncio.run(me()) == "ines"
