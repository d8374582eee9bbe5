"""Starting the service, and opening a shop in its data directory."""

from __future__ import annotations

import signal
import sys
from contextlib import suppress
from pathlib import Path
from types import FrameType

import uvicorn

from phylax.core.people import NewPerson, Role
from phylax.core.shop import ShopEdit
from phylax.core.values import to_seconds
from phylax.service.app import create_app
from phylax.service.context.context import Context, system_clock
from phylax.service.http.auth import hash_password
from phylax.service.telemetry import logs
from phylax.service.telemetry.logs import LogForm
from phylax.store import audit, people, routines
from phylax.store import shop as shop_store
from phylax.store.database import Database, NewerFileError

FILE = "phylax.sqlite3"

__all__ = ["FILE", "NewerFileError", "open_shop", "serve"]


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
    log_form: LogForm = "text",
    log_level: str = "info",
) -> None:
    """Serve the shop in a data directory until told to stop (SIGINT, SIGTERM)."""
    logs.set_up(log_form, log_level)
    database = Database(data / FILE)
    try:
        context = Context(database, secure_cookies=behind_proxy)
        config = uvicorn.Config(
            create_app(context),
            host=host,
            port=port,
            log_config=None,
            log_level="warning",
            access_log=False,
            proxy_headers=behind_proxy,
            timeout_graceful_shutdown=5,
        )
        # after a graceful stop uvicorn sends itself the signal again; having stopped is enough
        signal.signal(signal.SIGTERM, lambda number, frame: None)
        with suppress(KeyboardInterrupt):
            _Server(config, context).run()
    finally:
        database.close()


def open_shop(data: Path, edit: ShopEdit, owner: NewPerson) -> None:
    """Open a shop with its first owner; SystemExit with a message where there is one already."""
    database = Database(data / FILE)
    try:
        with database.write() as conn:
            if shop_store.shop(conn) is not None:
                sys.exit(f"There is a shop in {data} already.")
            now = to_seconds(system_clock())
            shop_store.open_shop(conn, edit)
            routines.ship(conn, at=now)
            people.add(
                conn, owner.login, owner.name, Role.OWNER, hash_password(owner.password), at=now
            )
            audit.record(conn, who=owner.name, at=now, deed="open shop", subject=edit.name)
    finally:
        database.close()
