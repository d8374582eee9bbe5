"""Letting somebody in on the service's own machine, where no owner can sign in any more."""

from __future__ import annotations

import sys
from pathlib import Path

from phylax.core.ground.values import to_seconds
from phylax.service.context.context import system_clock
from phylax.service.http.auth import new_secret
from phylax.store.file.database import Database
from phylax.store.file.shop_file import FILE
from phylax.store.people import people
from phylax.store.record import audit

_SECONDS = 3600


def let_in(data: Path, login: str) -> str:
    """The secret of a link by which a person chooses a password, within an hour; their codes and
    passkeys are taken off. SystemExit with a message where there is nobody of that login.

    Works beside a running service: whoever may write its file may do this anyway.
    """
    if not (data / FILE).exists():
        sys.exit(f"There is no shop in {data}.")
    database = Database(data / FILE)
    try:
        with database.write() as conn:
            account = people.by_login(conn, login)
            if account is None or account[0].left_at is not None:
                sys.exit(f"There is nobody with the login {login!r}.")
            person = account[0]
            now = to_seconds(system_clock())
            secret, hashed = new_secret("welcome")
            if not person.active:
                people.set_active(conn, person.id, active=True, at=now)
            people.take_steps_off(conn, person.id)
            people.make_link(
                conn, hashed, person.id, "the service's machine", at=now, until=now + _SECONDS
            )
            audit.record(conn, who="the service's machine", at=now, action="let in", subject=login)
    finally:
        database.close()
    return secret
