"""What every request works with: the database, the clock, waking up those who wait."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from sqlite3 import Connection
from typing import Annotated

from fastapi import Depends, Request

from phylax.core.clients.shop import Shop
from phylax.core.ground.values import to_seconds
from phylax.core.record.seals import Grown
from phylax.service.context.secret_box import SecretBox
from phylax.service.context.wakeups import Wakeups
from phylax.service.limits.challenges import Challenges
from phylax.service.limits.hashing import Hashing
from phylax.service.limits.login_throttle import Failures, LoginThrottle
from phylax.service.limits.quota import Quota
from phylax.service.problems import Problem
from phylax.store.clients import shop as shop_store
from phylax.store.file.database import Database


def system_clock() -> datetime:
    return datetime.now(UTC)


@dataclass
class Context:
    db: Database
    clock: Callable[[], datetime] = system_clock
    wakeups: Wakeups = field(default_factory=Wakeups)
    secure_cookies: bool = False
    hashing: Hashing = field(default_factory=Hashing)
    quota: Quota = field(default_factory=Quota)
    tries: LoginThrottle = field(default_factory=LoginThrottle)
    failures: Failures = field(default_factory=Failures)
    begun_codes: dict[int, tuple[str, int]] = field(default_factory=dict)
    """Secrets of second steps that wait for their first code, by person, with when they began."""
    challenges: Challenges = field(default_factory=Challenges)
    making_backup: threading.Lock = field(default_factory=threading.Lock)
    making_archive: threading.Lock = field(default_factory=threading.Lock)
    grown: Grown | None = None
    """How far the record was sealed last."""
    vault: SecretBox = field(init=False)
    _beats: dict[str, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.vault = SecretBox(self.db.path.parent)

    def beat(self, name: str) -> None:
        """One of the service's own loops is alive."""
        self._beats[name] = time.monotonic()

    def beats(self) -> dict[str, float]:
        """Seconds since each of them last stirred."""
        now = time.monotonic()
        return {name: now - at for name, at in self._beats.items()}

    def now(self) -> int:
        """Epoch seconds."""
        return to_seconds(self.clock())


def the_context(request: Request) -> Context:
    context: Context = request.app.state.context
    return context


TheContext = Annotated[Context, Depends(the_context)]


def the_shop(conn: Connection) -> Shop:
    """The shop; a problem says what to do where none was opened."""
    shop = shop_store.shop(conn)
    if shop is None:
        raise Problem(
            409, "no-shop-yet", "No shop was opened in this data directory; run 'phylax shop open'."
        )
    return shop
