"""The shop itself, its clients and machines."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from sqlite3 import Connection

from phylax.core.clients.shop import (
    Client,
    ClientEdit,
    Machine,
    MachineEdit,
    Shop,
    ShopEdit,
    Volume,
)
from phylax.core.ground.values import from_seconds
from phylax.core.scheduling.rounds import Described
from phylax.core.trends import Crossing
from phylax.store.clients import facts
from phylax.store.clients.forgettings import NOT_RESTRICTED
from phylax.store.trends.readings import ask_outlooks_of


def shop(conn: Connection) -> Shop | None:
    """The shop, or None before it was opened."""
    row = conn.execute("SELECT * FROM shop").fetchone()
    if row is None:
        return None
    return Shop(
        name=row["name"],
        zone=row["zone"],
        threshold_percent=row["threshold_percent"],
        security_days=row["security_days"],
        version=row["version"],
        is_demo=bool(row["is_demo"]),
    )


def open_shop(conn: Connection, edit: ShopEdit, *, is_demo: bool = False) -> None:
    conn.execute(
        "INSERT INTO shop (id, name, zone, threshold_percent, security_days, is_demo, uid)"
        " VALUES (1, ?, ?, ?, ?, ?, lower(hex(randomblob(16))))",
        (edit.name, edit.zone, edit.threshold_percent, edit.security_days, int(is_demo)),
    )


def opened_at(conn: Connection) -> int:
    """When the first action was noted."""
    return int(conn.execute("SELECT coalesce(min(at), 0) FROM audit WHERE id < 10").fetchone()[0])


def change_shop(conn: Connection, edit: ShopEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        INSERT OR IGNORE INTO outlooks_due SELECT v.id FROM shop CROSS JOIN volumes v
        WHERE shop.threshold_percent <> ?
        """,
        (edit.threshold_percent,),
    )
    conn.execute(
        """
        UPDATE shop SET name = ?, zone = ?, threshold_percent = ?, security_days = ?,
               version = version + 1, changed_by = ?, changed_at = ?
        """,
        (edit.name, edit.zone, edit.threshold_percent, edit.security_days, who, at),
    )


# --- clients ---------------------------------------------------------------------------------

_CLIENT = """
    SELECT c.*, (SELECT count(*) FROM machines m WHERE m.client_id = c.id
            AND m.retired_at IS NULL) AS machines
    FROM clients c
"""


def _client(row: sqlite3.Row) -> Client:
    fields = {name: row[name] for name in Client.model_fields}
    times = {name: _moment(row[name]) for name in ("retired_at", "forgotten_at")}
    return Client.model_validate(fields | times)


def client(conn: Connection, client_id: int) -> Client | None:
    row = conn.execute(f"{_CLIENT} WHERE c.id = ?", (client_id,)).fetchone()
    return _client(row) if row else None


def words_in(fields: tuple[str, ...], words: str) -> tuple[str, dict[str, object]]:
    """The condition that each of some words is in one of some columns, and its values."""
    values: dict[str, object] = {}
    terms = ["1"]
    for number, word in enumerate(words.split()):
        literal = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
        values[f"word{number}"] = f"%{literal}%"
        tests = (f"{field} LIKE :word{number} ESCAPE '\\'" for field in fields)
        terms.append(f"({' OR '.join(tests)})")
    return " AND ".join(terms), values


def tags(conn: Connection) -> Iterator[str]:
    """Of machines that everybody may see."""
    rows = conn.execute(f"SELECT tag FROM machines WHERE client_id {NOT_RESTRICTED}")
    return (str(row["tag"]) for row in rows)


def clients(
    conn: Connection, *, after: int, limit: int, words: str = "", retired: bool = False,
    also_restricted: bool = True,
) -> list[Client]:  # fmt: skip
    """Clients in order of their number, after one; with all of some words."""
    where, values = words_in(("c.name", "c.contact", "c.mail", "c.phone"), words)
    if not also_restricted:
        where += f" AND c.id {NOT_RESTRICTED}"
    rows = conn.execute(
        f"{_CLIENT} WHERE c.id > :after AND {where}"
        f" AND c.retired_at IS {'NOT ' if retired else ''}NULL AND c.forgotten_at IS NULL"
        " ORDER BY c.id LIMIT :limit",
        {**values, "after": after, "limit": limit},
    )
    return [_client(row) for row in rows]


def add_client(conn: Connection, edit: ClientEdit, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO clients (name, contact, mail, phone, note, contact_by, hours, agreements, zone,
                             at_once, threshold_percent, changed_by, changed_at, uid)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, lower(hex(randomblob(16))))
        """,
        (*_client_columns(edit), who, at),
    )
    return int(cursor.lastrowid or 0)


def change_client(conn: Connection, client_id: int, edit: ClientEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE clients SET name = ?, contact = ?, mail = ?, phone = ?, note = ?, contact_by = ?,
               hours = ?, agreements = ?, zone = ?, at_once = ?, threshold_percent = ?,
               version = version + 1, changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (*_client_columns(edit), who, at, client_id),
    )
    # its threshold may be another, and with it what can be said of its volumes
    for row in conn.execute("SELECT id FROM machines WHERE client_id = ?", (client_id,)).fetchall():
        ask_outlooks_of(conn, row[0])


def _client_columns(edit: ClientEdit) -> tuple[object, ...]:
    return (
        edit.name, edit.contact, edit.mail, edit.phone, edit.note, edit.contact_by, edit.hours,
        edit.agreements, edit.zone, edit.at_once, edit.threshold_percent,
    )  # fmt: skip


def client_zones(conn: Connection) -> dict[int, str]:
    """The time zones of the clients that have their own."""
    return {
        row[0]: row[1]
        for row in conn.execute("SELECT id, zone FROM clients WHERE zone IS NOT NULL")
    }


def site_limits(conn: Connection) -> dict[int, tuple[str, int | None]]:
    """Name, and how many machines may work at once, of every client."""
    return {
        row[0]: (row[1], row[2]) for row in conn.execute("SELECT id, name, at_once FROM clients")
    }


def uid(conn: Connection) -> str:
    """The shop's own unique identifier, from which calendars derive theirs."""
    return str(conn.execute("SELECT uid FROM shop").fetchone()[0])


# --- machines --------------------------------------------------------------------------------

_MACHINE = """
    SELECT m.*, c.name AS client_name, a.version AS agent_version,
           (SELECT min(next_at) FROM round_machines o WHERE o.machine_id = m.id) AS next_round_at,
           coalesce(m.threshold_percent, c.threshold_percent,
                    shop.threshold_percent) AS limit_percent
    FROM machines m
    JOIN clients c ON c.id = m.client_id
    JOIN shop
    LEFT JOIN agents a ON a.machine_id = m.id
"""


def _moment(seconds: int | None) -> datetime | None:
    return None if seconds is None else from_seconds(seconds)


def _machine(row: sqlite3.Row, volumes: list[Volume]) -> Machine:
    return Machine(
        id=row["id"],
        tag=row["tag"],
        client_id=row["client_id"],
        client_name=row["client_name"],
        system=row["system"],
        make=row["make"],
        model=row["model"],
        serial=row["serial"],
        memory=row["memory"],
        processor=row["processor"],
        system_version=row["system_version"],
        year=row["year"],
        used_for=row["used_for"],
        used_by=row["used_by"],
        location=row["location"],
        note=row["note"],
        version=row["version"],
        enrolled=row["agent_version"] is not None,
        agent_version=row["agent_version"] or "",
        seen_at=_moment(row["seen_at"]),
        cleaned_at=_moment(row["cleaned_at"]),
        next_round_at=_moment(row["next_round_at"]),
        threshold_percent=row["threshold_percent"],
        limit_percent=row["limit_percent"],
        clock_off=row["clock_off"],
        clock_off_since=_moment(row["clock_off_since"]),
        clock_doubt=row["clock_doubt"],
        clock_doubt_since=_moment(row["clock_doubt_since"]),
        retired_at=_moment(row["retired_at"]),
        retired_why=row["retired_why"],
        volumes=tuple(volume for volume in volumes if volume.gone_at is None),
        gone_volumes=tuple(volume for volume in volumes if volume.gone_at is not None),
    )


def _with_volumes(conn: Connection, rows: list[sqlite3.Row]) -> list[Machine]:
    ids = json.dumps([row["id"] for row in rows])
    volumes: dict[int, list[Volume]] = {row["id"]: [] for row in rows}
    for row in conn.execute(
        """
        SELECT v.*, o.soonest_at, o.crosses_at, o.latest_at
        FROM json_each(?) wanted JOIN volumes v ON v.machine_id = wanted.value
        LEFT JOIN outlooks o ON o.volume_id = v.id
        ORDER BY v.mount
        """,
        (ids,),
    ):
        volumes[row["machine_id"]].append(as_volume(row))
    return [_machine(row, volumes[row["id"]]) for row in rows]


def as_volume(row: sqlite3.Row) -> Volume:
    return Volume(
        id=row["id"],
        mount=row["mount"],
        name=row["name"],
        disk=row["disk"],
        file_system=row["file_system"],
        capacity=row["capacity"],
        free=row["free"],
        read_at=from_seconds(row["read_at"]),
        gone_at=_moment(row["gone_at"]),
        crosses=Crossing(
            soonest=_moment(row["soonest_at"]),
            likely=_moment(row["crosses_at"]),
            latest=_moment(row["latest_at"]),
        )
        if row["soonest_at"] is not None
        else None,
    )


def machine(conn: Connection, machine_id: int) -> Machine | None:
    row = conn.execute(f"{_MACHINE} WHERE m.id = ?", (machine_id,)).fetchone()
    return _with_volumes(conn, [row])[0] if row else None


def machine_by_tag(conn: Connection, tag: str) -> Machine | None:
    row = conn.execute(f"{_MACHINE} WHERE m.tag = ?", (tag,)).fetchone()
    return _with_volumes(conn, [row])[0] if row else None


def machines_by_id(conn: Connection, ids: list[int]) -> list[Machine]:
    """Chosen machines, in no order."""
    rows = conn.execute(
        f"{_MACHINE} WHERE m.id IN (SELECT value FROM json_each(?))", (json.dumps(ids),)
    ).fetchall()
    return _with_volumes(conn, rows)


def mounts(conn: Connection, machine_ids: Sequence[int]) -> dict[int, list[str]]:
    """The names of some machines' volumes, also of those that are not there now; machines of which
    none was ever read are missing."""
    by_machine: dict[int, list[str]] = {}
    for machine_id, mount in conn.execute(
        """
        SELECT machine_id, mount FROM volumes
        WHERE machine_id IN (SELECT value FROM json_each(?)) ORDER BY machine_id, mount
        """,
        (json.dumps(list(machine_ids)),),
    ):
        by_machine.setdefault(machine_id, []).append(mount)
    return by_machine


def described(
    conn: Connection, machine_id: int | None = None, *, also_retired: bool = False
) -> list[Described]:
    """Every machine in care, or one, as a choice of machines looks at it."""
    rows = conn.execute(
        """
        SELECT m.id, m.client_id, m.tag, c.name, m.system, m.make, m.model
        FROM machines m JOIN clients c ON c.id = m.client_id
        WHERE (?1 IS NULL OR m.id = ?1) AND (?2 OR m.retired_at IS NULL)
        """,
        (machine_id, also_retired),
    )
    return [Described(*row) for row in rows]


def all_machines(conn: Connection) -> Iterable[sqlite3.Row]:
    """(id, tag, system, client_id, name of the client, looked_at) of every machine in care."""
    return conn.execute(
        """
        SELECT m.id, m.tag, m.system, m.client_id, c.name, m.surveyed_at
        FROM machines m JOIN clients c ON c.id = m.client_id
        WHERE m.retired_at IS NULL ORDER BY m.id
        """
    )


def with_volumes_of(conn: Connection, where: str, values: dict[str, object]) -> list[Machine]:
    """Machines by a condition on `m`, `c` and `a`, with what follows it."""
    return _with_volumes(conn, conn.execute(f"{_MACHINE} {where}", values).fetchall())


def add_machine(conn: Connection, edit: MachineEdit, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO machines
            (tag, client_id, system, year, used_for, used_by, location, note, threshold_percent,
             make, model, serial, changed_by, changed_at)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, '', '', '', ?, ?)
        """,
        (*_columns(edit), who, at),
    )
    number = int(cursor.lastrowid or 0)
    facts.note_said(conn, number, edit, who=who, at=at)
    return number


def change_machine(
    conn: Connection, machine_id: int, edit: MachineEdit, *, who: str, at: int
) -> None:
    conn.execute(
        """
        UPDATE machines SET tag = ?, client_id = ?, system = ?, year = ?, used_for = ?,
               used_by = ?, location = ?, note = ?, threshold_percent = ?,
               version = version + 1, changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (*_columns(edit), who, at, machine_id),
    )
    facts.note_said(conn, machine_id, edit, who=who, at=at)
    ask_outlooks_of(conn, machine_id)


def _columns(edit: MachineEdit) -> tuple[object, ...]:
    return (
        edit.tag, edit.client_id, edit.system, edit.year, edit.used_for, edit.used_by,
        edit.location, edit.note, edit.threshold_percent,
    )  # fmt: skip


def last_change(conn: Connection, table: str, row_id: int) -> tuple[str, int]:
    """By whom and when a row that people edit was changed last."""
    assert table in {"shop", "clients", "machines", "rounds", "routines"}
    row = conn.execute(
        f"SELECT changed_by, changed_at FROM {table} WHERE id = ?", (row_id,)
    ).fetchone()
    return (row[0], row[1]) if row else ("", 0)
