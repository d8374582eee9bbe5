"""Files that an earlier version held or left are found by name after the upgrade."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

from phylax.core.record.searching import HitKind
from phylax.store.file.database import Database, migrations
from phylax.store.record import searching

LEFT = '{"left": [{"category": "trash", "place": "/t", "path": "a/open.docx", "size": 3, ' \
       '"reason": "in use"}]}'  # fmt: skip


def test_what_was_held_and_left_before_is_found_by_name(tmp_path: Path) -> None:
    path = tmp_path / "phylax.sqlite3"
    with closing(sqlite3.connect(path, isolation_level=None)) as conn:
        for number, sql in migrations():
            if number <= 25:
                conn.executescript(f"{sql}\nPRAGMA user_version = {number};")
        conn.executescript(
            f"""
            INSERT INTO shop (id, name, zone) VALUES (1, 'x', 'UTC');
            INSERT INTO clients (id, name, contact, mail, phone, note, changed_by, changed_at)
                VALUES (1, 'Kelpie', '', '', '', '', 'x', 0);
            INSERT INTO machines (id, tag, client_id, system, make, model, serial, note,
                                  changed_by, changed_at)
                VALUES (1, 'old', 1, 'linux', '', '', '', '', 'x', 0);
            INSERT INTO runs (id, machine_id, work, categories, state, made_by, made_at, due_at,
                              ended_at, result)
                VALUES (1, 1, 'clean', '[]', 'partly', 'x', 0, 0, 9, '{LEFT}');
            INSERT INTO holds (id, machine_id, run_id, batch, category, mount, held_at, until_at)
                VALUES (1, 1, 1, 'b', 'trash', '/', 5, 99);
            INSERT INTO held_items (hold_id, number, place, path, size, fate)
                VALUES (1, 1, '/t', 'b/film.iso', 7, 'gone');
            """
        )
    database = Database(path)
    with database.read() as conn:
        for word, line in (
            ("film.iso", "deleted for good, 7 B: /t/b/film.iso"),
            ("open.docx", "left, in use, 3 B: /t/a/open.docx"),
        ):
            asked = searching.SearchRequest((word,))
            (hit,) = searching.search(conn, asked, HitKind.FILE, limit=5)
            assert (hit.line, hit.machine_tag) == (line, "old")
    database.close()
