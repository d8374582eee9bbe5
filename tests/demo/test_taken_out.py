"""A year of a shop taken out, and the shop built anew from it."""

from __future__ import annotations

import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from phylax.core.erasing.forgetting.request import Forget
from phylax.core.ground.values import to_seconds
from phylax.core.record.records import verify
from phylax.service.context.context import Context
from phylax.service.record import sealing
from phylax.service.record.archives import loading, writing
from phylax.store.clients import forgettings
from phylax.store.erasing import chain, whole
from phylax.store.file import archive
from phylax.store.file.database import Database
from phylax.store.file.shop_file import FILE
from phylax.store.record import audit, records

NOW = datetime(2026, 3, 2, 9, 30, tzinfo=UTC)
NOW_AT = to_seconds(NOW)


def rows_of(file: Path) -> dict[str, list[tuple[Any, ...]]]:
    """All that leaves with an archive, as the file keeps it."""
    database = Database(file)
    try:
        with database.read() as conn:
            return {
                table: [tuple(row.values()) for row in archive.rows(conn, table)]
                for table in archive.leaving(None)
            }
    finally:
        database.close()


@pytest.fixture(scope="module")
def demo(made: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A year of a shop, and its archive."""
    folder = tmp_path_factory.mktemp("archive")
    shutil.copy(made / FILE, folder)
    database = Database(folder / FILE)
    with database.write() as conn:
        # a number that was given once is not given again
        conn.execute("DELETE FROM events WHERE id = (SELECT max(id) FROM events)")
    seal = sealing.make(Context(database, lambda: NOW))
    (folder / "kept.seal").write_text(seal.note, "utf-8")
    with database.read() as conn:
        writing.write(conn, folder / "all.zip", writing.SHOP, at=NOW)
    database.close()
    return folder


def test_a_shop_built_anew_is_the_same(demo: Path, tmp_path: Path) -> None:
    shutil.copy(demo / "seal-key.pem", tmp_path)
    loaded = loading.load(tmp_path, demo / "all.zip")
    before, after = rows_of(demo / FILE), rows_of(tmp_path / FILE)
    assert loaded.rows == sum(map(len, before.values())) > 10_000 and loaded.intact_audit
    actions = after["audit"].pop(), after["audit_parts"].pop()
    assert "load" in actions[0] and "an archive of 2026-03-02" in str(actions[1])
    # of these the old shop alone goes on with what waits
    for table, column in (("hooks", 4), ("notices", 10)):
        for kept in (before, after):
            kept[table] = [row[:column] for row in kept[table]]
    for table, rows in before.items():
        assert after[table] == rows, table
    assert (tmp_path / FILE).stat().st_mode & 0o077 == 0
    assert sorted(path.name for path in tmp_path.iterdir()) == [FILE, "seal-key.pem"]

    database = Database(tmp_path / FILE)
    context = Context(database, lambda: NOW)
    with database.write() as conn:
        for index in ("records_text", "files_text"):
            conn.execute(f"INSERT INTO {index} ({index}, rank) VALUES ('integrity-check', 1)")
        assert verify(records.chain(conn)).intact and audit.verify(conn).intact
        assert records.records(
            conn, records.RecordChoice(words=("ferry-desk",)), before=2**62, limit=5
        )
        newest = conn.execute("SELECT max(id) FROM events").fetchone()[0]
        conn.execute("INSERT INTO events (at, kind) VALUES (0, 'shop')")
        assert conn.execute("SELECT max(id) FROM events").fetchone()[0] == newest + 2
        triggers = "SELECT name FROM sqlite_schema WHERE type = 'trigger' ORDER BY name"
        kept = [row[0] for row in conn.execute(triggers)]
        assert "records_are_searched" in kept
    seal = (demo / "kept.seal").read_text("utf-8")
    assert sealing.check(context, seal).valid
    database.close()


def test_without_its_key_older_seals_are_not_believed(demo: Path, tmp_path: Path) -> None:
    loading.load(tmp_path, demo / "all.zip")
    database = Database(tmp_path / FILE)
    said = sealing.check(Context(database, lambda: NOW), (demo / "kept.seal").read_text("utf-8"))
    database.close()
    assert not said.valid and "lost" in said.why


def test_after_a_year_nothing_of_a_forgotten_client_is_left(demo: Path, tmp_path: Path) -> None:
    """The ferry office: three machines, four hundred days, named in what belongs to the shop."""
    shutil.copy(demo / FILE, tmp_path)
    database = Database(tmp_path / FILE)
    with database.read() as conn:
        client = conn.execute("SELECT * FROM clients WHERE name LIKE 'Skerry%'").fetchone()
        tags = [row[0] for row in conn.execute(
            "SELECT tag FROM machines WHERE client_id = ?", (client["id"],)
        )]  # fmt: skip
        count = sum(map(len, chain.of_machines(conn, client["id"]).values()))
        others = conn.execute("SELECT count(*) FROM readings").fetchone()[0]
    assert len(tags) == 3 and count > 50
    words = [client["name"], client["contact"], client["mail"], client["phone"], *tags]
    with database.write() as conn:
        number = forgettings.add(conn, client["id"], Forget(), None, who="Ines Marrow", at=NOW_AT)
    assert whole.carry_out(database, number, at=NOW_AT)
    content = b"".join(path.read_bytes() for path in tmp_path.iterdir()).lower()
    left = [word for word in words if word and word.lower().encode() in content]
    tails = [word for word in words if word and word.lower()[2:].encode() in content]
    assert left == [] and tails == []
    with database.write() as conn:
        checked = verify(records.chain(conn))
        assert checked.intact and checked.erased >= count
        assert audit.verify(conn).intact
        assert conn.execute("PRAGMA foreign_key_check").fetchone() is None
        for index in ("records_text", "files_text"):
            conn.execute(f"INSERT INTO {index} ({index}, rank) VALUES ('integrity-check', 1)")
        assert 0 < conn.execute("SELECT count(*) FROM readings").fetchone()[0] < others
    database.close()
