"""What machines are: as people say, and as their agents read."""

from __future__ import annotations

from collections.abc import Mapping
from sqlite3 import Connection

from phylax.core.clients.facts import Fact, FactName, StatedFact
from phylax.core.clients.shop import MachineEdit
from phylax.core.ground.values import from_seconds


def of_machine(conn: Connection, machine_id: int) -> list[Fact]:
    """Every fact that somebody or something knows, in a fixed order."""
    words: dict[tuple[str, bool], StatedFact] = {
        (row["name"], bool(row["by_person"])): StatedFact(
            value=row["value"], source=row["source"], at=from_seconds(row["at"])
        )
        for row in conn.execute("SELECT * FROM machine_facts WHERE machine_id = ?", (machine_id,))
    }
    facts = []
    for name in FactName:
        said, read = words.get((name, True)), words.get((name, False))
        if said or read:
            differs = bool(said and read and said.value.casefold() != read.value.casefold())
            facts.append(Fact(name=name, stated=said, detected=read, differs=differs))
    return facts


def note_read(
    conn: Connection, machine_id: int, read: Mapping[FactName, str], source: str, *, at: int
) -> None:
    """What was read; it counts where nobody said otherwise. What is not read again stays."""
    for name, value in read.items():
        _put(conn, machine_id, name, value, source, at, by_person=False)
        _settle(conn, machine_id, name)


def note_said(conn: Connection, machine_id: int, edit: MachineEdit, *, who: str, at: int) -> None:
    """What a person wrote, where it is another than what counts so far; nothing where they took it
    away, so that what was read counts again."""
    row = conn.execute("SELECT * FROM machines WHERE id = ?", (machine_id,)).fetchone()
    for name in FactName:
        value = getattr(edit, name)
        text = "" if value is None else str(value)
        counts = "" if row[name] is None else str(row[name])
        if text == counts:
            continue
        if text:
            _put(conn, machine_id, name, text, who, at, by_person=True)
        else:
            conn.execute(
                "DELETE FROM machine_facts WHERE machine_id = ? AND name = ? AND by_person",
                (machine_id, name),
            )
        _settle(conn, machine_id, name)


def _put(
    conn: Connection, machine_id: int, name: FactName, value: str, source: str, at: int,
    *, by_person: bool,
) -> None:  # fmt: skip
    conn.execute(
        """
        INSERT INTO machine_facts VALUES (?, ?, ?, ?, ?, ?)
        ON CONFLICT DO UPDATE SET value = excluded.value, source = excluded.source,
               at = excluded.at
        """,
        (machine_id, name, by_person, value, source, at),
    )


def _settle(conn: Connection, machine_id: int, name: FactName) -> None:
    """The machine's own column holds what counts."""
    row = conn.execute(
        """
        SELECT value FROM machine_facts WHERE machine_id = ? AND name = ?
        ORDER BY by_person DESC LIMIT 1
        """,
        (machine_id, name),
    ).fetchone()
    text = row[0] if row else ""
    value: object = text
    if name is FactName.MEMORY:
        value = int(text) if text else None
    conn.execute(f"UPDATE machines SET {name.value} = ? WHERE id = ?", (value, machine_id))
