"""Every table and every column of text or bytes is declared; nothing else is."""

from pathlib import Path

import pytest

from phylax.store.file import data_map
from phylax.store.file.data_map import TABLES, Ends, Holds, Through
from phylax.store.file.database import Database


@pytest.fixture
def schema(tmp_path: Path) -> dict[str, dict[str, str]]:
    """Columns of each table, with their types."""
    database = Database(tmp_path / "shop.sqlite3")
    try:
        with database.read() as conn:
            names = [
                row[0]
                for row in conn.execute(
                    "SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'table'"
                )
                if not row[0].startswith("sqlite_")
            ]
            return {
                name: {row[1]: row[2] for row in conn.execute(f"PRAGMA table_info({name})")}
                for name in names
            }
    finally:
        database.close()


def test_every_column_of_text_or_bytes_is_declared(schema: dict[str, dict[str, str]]) -> None:
    wanted = {
        (name, column)
        for name, columns in schema.items()
        for column, kind in columns.items()
        if kind in ("TEXT", "BLOB", "ANY", "")
    }
    declared = {(name, column) for name, table in TABLES.items() for column in table.columns}

    assert declared == wanted
    assert set(TABLES) == set(schema)


def test_what_names_a_client_is_deleted_or_blanked_or_searched_through() -> None:
    """A table of a client's that is kept as it is may hold none of their words."""
    for name, table in TABLES.items():
        words = [column for column, holds in table.columns.items() if holds is Holds.CLIENT]
        if table.of is not None:
            assert table.ends is not Ends.KEPT or not words, name


def test_conditions_are_questions_that_can_be_asked(
    tmp_path: Path, schema: dict[str, dict[str, str]]
) -> None:
    database = Database(tmp_path / "shop.sqlite3")
    with database.read() as conn:
        for name in schema:
            condition = data_map.of_client(name)
            assert bool(condition) == (TABLES[name].of is not None), name
            if condition:
                question = f"SELECT count(*) FROM {name} WHERE {condition}"
                assert conn.execute(question, {"client": 1}).fetchone()[0] == 0
    database.close()


def test_a_row_that_stays_never_hangs_on_one_that_goes(schema: dict[str, dict[str, str]]) -> None:
    for name, table in TABLES.items():
        if isinstance(table.of, Through):
            parent = TABLES[table.of.table]
            assert parent.ends is not Ends.DELETED or table.ends is Ends.DELETED, name
