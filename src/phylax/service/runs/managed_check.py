"""Work begins on machines that the shop looks after, and on no others."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.clients.shop import Machine
from phylax.service.problems import Problem, not_found
from phylax.store.clients import shop


def check_in_care(conn: Connection, machine_id: int) -> Machine:
    """The machine, for which work may be asked; a problem where it is retired or not there."""
    machine = shop.machine(conn, machine_id)
    if machine is None:
        raise not_found("machine", machine_id)
    if machine.retired_at is not None:
        raise Problem(
            409, "retired", f"{machine.tag} is retired: bring it back before work begins on it."
        )
    return machine
