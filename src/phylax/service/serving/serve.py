"""Starting the service, and opening a shop in its data directory."""

from __future__ import annotations

import gc
import signal
import sys
from collections.abc import Callable
from contextlib import suppress
from importlib import resources
from pathlib import Path
from types import FrameType

import uvicorn

from phylax.core.clients.shop import ShopEdit
from phylax.core.ground.values import to_seconds
from phylax.core.people.accounts import NewPerson, Role
from phylax.service.context.context import Context, system_clock
from phylax.service.http.signing_in import check_guessable
from phylax.service.limits.connection_limiter import ConnectionLimiter
from phylax.service.limits.hashing import hash_password
from phylax.service.problems import Problem
from phylax.service.serving.app import create_app
from phylax.service.telemetry import logs
from phylax.service.telemetry.logs import LogForm
from phylax.store.clients import shop as shop_store
from phylax.store.file.database import Database, NewerFileError
from phylax.store.file.shop_file import FILE, HeldError, NoShopError, alone
from phylax.store.people import people
from phylax.store.record import audit
from phylax.store.scheduling import routines

_MOST_CONNECTIONS = 4096
_MOST_OF_ADDRESS = 256
"""A client's house with all its machines is one address."""
_OTHER_FILES = 256

__all__ = ["FILE", "HeldError", "NewerFileError", "NoShopError", "open_shop", "serve"]


class _Server(uvicorn.Server):
    """Sends waiting requests home first, so that stopping takes no longer than the work at hand."""

    def __init__(self, config: uvicorn.Config, context: Context) -> None:
        super().__init__(config)
        self._house = context

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        self._house.wakeups.stop()
        super().handle_exit(sig, frame)


def serve(
    data: Path,
    host: str,
    port: int,
    *,
    behind_proxy: bool = False,
    tls: tuple[Path, Path] | None = None,
    log_form: LogForm = "text",
    log_level: str = "info",
    ready: Callable[[], None] = lambda: None,
) -> None:
    """Serve the shop in a data directory until told to stop (SIGINT, SIGTERM); `tls` are the files
    of a certificate and its key; `ready` is called once the file is this process's alone.
    NoShopError, HeldError."""
    logs.set_up(log_form, log_level)
    with alone(data, f"a service at {host}:{port}"):
        ready()
        _serve(data, host, port, behind_proxy, tls)


def _serve(
    data: Path, host: str, port: int, behind_proxy: bool, tls: tuple[Path, Path] | None
) -> None:
    database = Database(data / FILE)
    try:
        context = Context(database, secure_cookies=behind_proxy or tls is not None)
        config = server_config(context, host, port, behind_proxy=behind_proxy, tls=tls)
        # after a graceful stop uvicorn sends itself the signal again; having stopped is enough
        signal.signal(signal.SIGTERM, lambda number, frame: None)
        _collect_seldom()
        with suppress(KeyboardInterrupt):
            _Server(config, context).run()
    finally:
        database.close()


def _collect_seldom() -> None:
    """A survey for garbage in circles stops everybody, for longer the more there is: a large
    message
    that is read is a million things at once, none of them in a circle. What is there by now stays,
    and is not looked at again."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


def server_config(
    context: Context,
    host: str,
    port: int,
    *,
    behind_proxy: bool = False,
    tls: tuple[Path, Path] | None = None,
) -> uvicorn.Config:
    """How a shop is served: with bounded connections; a proxy bounds those of each address."""
    doors = ConnectionLimiter(_room_for_connections(), None if behind_proxy else _MOST_OF_ADDRESS)
    return uvicorn.Config(
        create_app(context),
        host=host,
        port=port,
        http=doors.protocol(),
        log_config=None,
        log_level="warning",
        access_log=False,
        proxy_headers=behind_proxy,
        timeout_graceful_shutdown=5,
        ssl_certfile=tls[0] if tls else None,
        ssl_keyfile=tls[1] if tls else None,
    )


def _room_for_connections() -> int:
    """How many there may be, so that files can always be opened: as many as the system lets this
    process have, but for what it needs itself."""
    if sys.platform == "win32":
        return _MOST_CONNECTIONS
    import resource

    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = _MOST_CONNECTIONS + _OTHER_FILES
    if soft != resource.RLIM_INFINITY and soft < wanted:
        soft = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    files = wanted if soft == resource.RLIM_INFINITY else min(soft, wanted)
    return max(64, files - _OTHER_FILES)


def open_shop(data: Path, edit: ShopEdit, owner: NewPerson) -> None:
    """Open a shop with its first owner; SystemExit with a message where there is one already."""
    if owner.password is None:
        sys.exit("The owner needs a password.")
    try:
        check_guessable(owner.password, owner.login, owner.name, "/password")
    except Problem as problem:
        sys.exit(problem.detail)
    hashed = hash_password(owner.password)
    database = Database(data / FILE)
    try:
        with database.write() as conn:
            if shop_store.shop(conn) is not None:
                sys.exit(f"There is a shop in {data} already.")
            now = to_seconds(system_clock())
            shop_store.open_shop(conn, edit)
            routines.ship(conn, at=now)
            people.add(conn, owner.login, owner.name, Role.OWNER, hashed, at=now)
            audit.record(conn, who=owner.name, at=now, action="open shop", subject=edit.name)
    finally:
        database.close()


def unit(data: Path) -> str:
    """A unit of systemd for the service. ValueError where a path has signs that mean something in
    one."""
    command, folder = f"{sys.executable} -m phylax", str(data.resolve())
    if any(sign in command + folder for sign in "%\"'\\") or " " in folder:
        raise ValueError("the paths of Python and of the data may hold no spaces, quotes or %")
    text = resources.files("phylax.service").joinpath("phylax.service").read_text("utf-8")
    return text.replace("{command}", command).replace("{data}", folder)
