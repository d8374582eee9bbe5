"""A real shop on loopback, real folders, a clock that tests set."""

from __future__ import annotations

import shutil
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
import uvicorn
from argon2 import PasswordHasher
from hypothesis import HealthCheck, settings
from xdist.scheduler import LoadScopeScheduling

from helpers import PASSWORD, Clock
from phylax.client import Phylax, sign_in
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit, ShopEdit
from phylax.core.people.accounts import NewPerson, Role
from phylax.service.context.context import Context
from phylax.service.limits import hashing
from phylax.service.limits.hashing import hash_password
from phylax.service.serving.serve import FILE, open_shop, server_config
from phylax.store.file.database import Database
from phylax.store.people import people

# no test depends on how fast the machine is
settings.register_profile("any speed", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("any speed")

TOGETHER = ("tests/demo/", "tests/windows/", "tests/debian/", "tests/service/test_year.py")
"""What shares something costly: one worker has all of each."""
FIRST = (*TOGETHER, "tests/test_install.py", "tests/console/")
"""The longest, so that no worker waits for them at the end."""
ONE_BY_ONE = ("tests/attack/", "tests/agent/")
"""Long tests that share nothing."""


def _shared(path: str) -> str | None:
    return next((group for group in TOGETHER if path.startswith(group)), None)


class ByFolder(LoadScopeScheduling):
    """Gives each worker files, whole folders or single tests, as said above."""

    def _split_scope(self, nodeid: str) -> str:
        path = nodeid.partition("::")[0]
        return _shared(path) or (nodeid if path.startswith(ONE_BY_ONE) else path)


def pytest_xdist_make_scheduler(config: pytest.Config, log: object) -> ByFolder:
    config.option.loadscopereorder = False
    return ByFolder(config, log)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: not item.nodeid.startswith(FIRST))


@pytest.fixture(autouse=True, scope="session")
def _quick_passwords() -> Iterator[None]:
    """Hashing is slow on purpose; here it is done thousands of times."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(hashing, "hasher", PasswordHasher(time_cost=1, memory_cost=8, parallelism=1))
        yield


@pytest.fixture
def clock() -> Clock:
    return Clock(datetime(2026, 3, 2, 9, 0, tzinfo=UTC))


@pytest.fixture(scope="session")
def opened(tmp_path_factory: pytest.TempPathFactory, _quick_passwords: None) -> Path:
    """The folder of a shop that was just opened, with its people; everybody works on a copy."""
    data = tmp_path_factory.mktemp("opened") / "shop"
    owner = NewPerson(login="ines", name="Ines Marrow", role=Role.OWNER, password=PASSWORD)
    open_shop(data, ShopEdit(name="Quayside", zone="Europe/Dublin"), owner)
    database = Database(data / FILE)
    hashed = hash_password(PASSWORD)
    with database.write() as conn:
        people.add(conn, "wren", "Wren Halloran", Role.TECHNICIAN, hashed, at=0)
        people.add(conn, "petra", "Petra Lund", Role.DESK, hashed, at=0)
    database.close()
    return data


@pytest.fixture
def context(tmp_path: Path, clock: Clock, opened: Path) -> Iterator[Context]:
    """An open shop with an owner (ines), a technician (wren) and a desk (petra)."""
    database = Database(shutil.copytree(opened, tmp_path / "shop") / FILE)
    yield Context(database, clock)
    database.close()


@dataclass
class Service:
    url: str
    context: Context

    def as_(self, login: str) -> Phylax:
        """A client signed in as somebody, however much time a test lets pass."""
        token = sign_in(self.url, login, PASSWORD)
        with self.context.db.write() as conn:
            conn.execute("UPDATE tokens SET expires_at = NULL WHERE scope = 'everything'")
        return Phylax(self.url, token, timeout=60)


@contextmanager
def serving(context: Context, config: uvicorn.Config, host: str = "127.0.0.1") -> Iterator[Service]:
    """A service on loopback, as a configuration says, until the block ends."""
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        assert thread.is_alive(), "the service did not start"
        time.sleep(0.005)
    scheme = "https" if config.ssl_certfile else "http"
    port = server.servers[0].sockets[0].getsockname()[1]
    yield Service(f"{scheme}://{host}:{port}", context)
    context.wakeups.stop()
    server.should_exit = True
    thread.join(timeout=60)
    assert not thread.is_alive(), "the service did not stop"


@pytest.fixture
def service(context: Context) -> Iterator[Service]:
    """The real service on loopback, over the house's file and clock."""
    with serving(context, server_config(context, "127.0.0.1", 0)) as running:
        yield running


@pytest.fixture
def owner(service: Service) -> Iterator[Phylax]:
    with service.as_("ines") as shop:
        yield shop


@pytest.fixture
def machine(owner: Phylax) -> Machine:
    client = owner.clients.add(ClientEdit(name="Skerry Ferry Office"))
    return owner.machines.add(MachineEdit(tag="ferry-desk", client_id=client.id, system="linux"))


@pytest.fixture
def day() -> timedelta:
    return timedelta(days=1)
