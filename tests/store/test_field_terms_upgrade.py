"""A file of schema 34 is read in the field's terms; what was hashed in it is still verified."""

from __future__ import annotations

import json
import sqlite3
import zipfile
from collections.abc import Iterator
from contextlib import closing
from datetime import date
from hashlib import sha256
from pathlib import Path

import pytest

from phylax.core.desk.visits import Turn
from phylax.core.tuning.programs import Intent
from phylax.service.record.archives import loading
from phylax.store.attention import attention
from phylax.store.checks import checks
from phylax.store.desk import visits
from phylax.store.erasing import data_retention
from phylax.store.file import archive
from phylax.store.file.data_map import table_named
from phylax.store.file.database import Database
from phylax.store.record import audit
from phylax.store.runs import runs
from phylax.store.schema.renaming import renamed_keys
from phylax.store.survey import surveys
from phylax.store.tuning import notebook, program_rules, settings_changes

RULE = {"off": False, "keep_for": "P7D", "keep_newest": 0, "keep_under": 0,
        "keep_under_percent": 0, "hold_for": "PT0S", "hold_yields_below": 0,
        "only_larger": 0, "aged_from": "modified", "pressure": []}  # fmt: skip
TALLY = {"count": 3, "size": 30}
LINE = {"category": "trash", "mount": "/", "rule": RULE, "holds": TALLY, "goes": TALLY,
        "stays": [{"reason": "too young", "count": 1, "size": 2}], "digest": "",
        "kept_by": [{"entry": {"kind": "pattern", "what": "*.dcm"}, "kept": TALLY}]}  # fmt: skip
RESULT = json.dumps({
    "kind": "result", "id": "result-1", "run_id": 1, "started_at": "2026-03-02T18:30:00Z",
    "ended_at": "2026-03-02T18:34:00Z", "called_off": True, "out_of_time": False, "passes": 3,
})  # fmt: skip
KNOWN = {"recognition": {"package": "scan"}, "name": "Scan", "what": "Waits for a button.",
         "handling": "hangs on a question", "intent": "when asked",
         "hangs": {"question": "scans", "on": "no"}}  # fmt: skip
FOUND = {"machine_id": 1, "machine_tag": "old", "client_id": 1, "client_name": "Kelpie",
         "cause": "waits for a yes", "subject": "", "urgency": 5, "grade": 1,
         "since": "2026-03-02T18:30:00Z", "reason": "A listing", "evidence": "3 items",
         "next_step": "see what runs by itself"}  # fmt: skip
CHECKED = {"check": "lie-of-files", "of": "C:", "result": "clean", "more": 0,
           "started_at": "2026-03-02T18:30:00Z", "ended_at": "2026-03-02T18:34:00Z"}  # fmt: skip


def _fill(conn: sqlite3.Connection) -> None:
    conn.executescript(
        """
        INSERT INTO shop (id, name, zone, uid) VALUES (1, 'x', 'UTC', 'u');
        INSERT INTO clients (id, name, contact, mail, phone, note, changed_by, changed_at, uid)
            VALUES (1, 'Kelpie', '', '', '', '', 'x', 0, 'v');
        INSERT INTO machines (id, tag, client_id, system, make, model, serial, note, changed_by,
                              changed_at)
            VALUES (1, 'old', 1, 'linux', '', '', '', '', 'x', 0);
        INSERT INTO visits (id, machine_id, kind, said, condition, came_along, wanted_by, ask_above,
                            loan, place, shelf, whose, todo, until, moved_at, opened_by, opened_at,
                            changed_by, changed_at)
            VALUES (1, 1, 'at the bench', 'It howls', '', 'bag', '2026-03-06', 60, '', 'shelf',
                    'B3', 'the client''s', 'say yes', '2026-03-04', 0, 'x', 0, 'x', 0);
        INSERT INTO changes (machine_id, run_id, id, setting, program, name, before, after, at, who,
                             state)
            VALUES (1, 1, 'c', 'runs-by-itself', 'scan', 'Scan', 'from the start', 'not at all', 5,
                    'x', 'made');
        """
    )
    for statement, values in (
        ("INSERT INTO runs (id, machine_id, work, categories, state, made_by, made_at, due_at,"
         " ended_at, result) VALUES (1, 1, 'clean', '[]', 'called off', 'x', 0, 0, 9, ?)",
         (RESULT,)),
        ("INSERT INTO surveys (id, machine_id, run_id, look, started_at, ended_at, lines)"
         " VALUES (1, 1, 1, 'look', 0, 9, ?)", (json.dumps([LINE]),)),
        ("INSERT INTO known_programs (edit, written_by, written_at) VALUES (?, 'x', 0)",
         (json.dumps(KNOWN),)),
        ("INSERT INTO program_rules (scope, subject_id, program, rule, changed_by, changed_at)"
         " VALUES ('shop', 0, 'scan', ?, 'x', 0)", (json.dumps({"intent": "may wait"}),)),
        ("INSERT INTO attention (machine_id, cause, subject, found, urgency, grade, since,"
         " began_at, last_seen) VALUES (1, 'waits for a yes', '', ?, 5, 1, 0, 0, 9)",
         (json.dumps(FOUND),)),
        ("INSERT INTO checks (machine_id, run_id, check_key, mode, of_what, result, checked, units,"
         " ended_at) VALUES (1, 1, 'lie-of-files', 'look', 'C:', 'clean', ?, 0, 9)",
         (json.dumps(CHECKED),)),
    ):  # fmt: skip
        conn.execute(statement, values)
    content = {"at": 1, "deed": "retire", "v": 2, "previous": "0" * 64}
    hashed = json.dumps(content, sort_keys=True, separators=(",", ":"))
    conn.execute(
        "INSERT INTO audit (at, who, deed, subject, hashed, digest) VALUES (1, '', 'retire', '', ?,"
        " ?)", (hashed, sha256(hashed.encode()).hexdigest()),
    )  # fmt: skip
    conn.execute("INSERT INTO audit_parts (deed) VALUES (1)")


def _archive(path: Path, old: sqlite3.Connection) -> None:
    """What a service of that time wrote of its shop, in the names of that time."""
    old.row_factory = sqlite3.Row
    files: dict[str, bytes] = {}
    for (name,) in old.execute("SELECT name FROM sqlite_schema WHERE type = 'table'").fetchall():
        table = table_named(name)
        if table and table.leaves and (rows := list(archive.rows(old, name))):
            lines = "".join(f"{json.dumps(row)}\n" for row in rows)
            files[f"tables/{name}.jsonl"] = lines.encode()
    manifest = {
        "phylax": "archive", "form": 1, "of": "shop", "schema": 34, "written_at": "then",
        "files": {name: {"sha256": sha256(text).hexdigest()} for name, text in files.items()},
    }  # fmt: skip
    with zipfile.ZipFile(path, "w") as written:
        for name, text in (files | {"archive.json": json.dumps(manifest).encode()}).items():
            written.writestr(name, text)


@pytest.fixture
def conn(tmp_path: Path) -> Iterator[sqlite3.Connection]:
    path = tmp_path / "phylax.sqlite3"
    Database(path, schema=34).close()
    with closing(sqlite3.connect(path)) as old, old:
        _fill(old)
    database = Database(path)
    with database.read() as conn:
        yield conn
    database.close()


def test_what_was_written_before_is_read(conn: sqlite3.Connection) -> None:
    visit = visits.visit(conn, 1, today=date(2026, 3, 5))
    assert visit and (visit.turn, visit.accessories, visit.approval_limit) == (
        Turn.CLIENT, "bag", 60
    )  # fmt: skip
    assert visit.follow_up_on == date(2026, 3, 4) and visit.overdue
    survey = surveys.survey(conn, 1)
    assert survey is not None
    (line,) = survey.lines
    assert line.total == line.removable and line.total.size == 30
    assert line.kept[0].size == 2 and line.kept_by[0].entry.pattern == "*.dcm"
    (known,) = notebook.entries(conn)
    assert known.edit.intent is Intent.ON_DEMAND and known.edit.depends_on is not None
    rule = program_rules.rule(conn, program_rules.Scope.SHOP, 0, "scan")
    assert rule is not None and rule.rule.intent is Intent.AFTER_START
    (change,) = settings_changes.of_machine(conn, 1)
    assert (change.setting, change.before, change.after) == ("startup-programs", "at start", "off")
    (item,) = attention.all_open(conn, at=10)
    assert (item.cause, item.next_step) == ("needs approval", "see startup programs")
    (checked,) = checks.newest(conn, [1])
    assert (checked.checked.check, checked.checked.target, checked.checked.unlisted) == (
        "fragmentation", "C:", 0
    )  # fmt: skip


def test_what_was_hashed_stays_as_it_was(conn: sqlite3.Connection) -> None:
    assert audit.verify(conn).intact and audit.verify(conn).entries == 1
    (entry,) = audit.listed(conn, before=9, limit=9)
    assert entry.action == "retire"
    # a run's entry stands on the very text of its result
    assert conn.execute("SELECT result FROM runs").fetchone()[0] == RESULT
    detail = runs.detail(conn, 1)
    assert detail is not None and detail.passes == 3


def test_an_archive_of_that_time_is_loaded(tmp_path: Path) -> None:
    path = tmp_path / "phylax.sqlite3"
    Database(path, schema=34).close()
    with closing(sqlite3.connect(path)) as old:
        _fill(old)
        old.execute("UPDATE keeping SET file_names_months = 7")
        old.execute("INSERT INTO acted VALUES (1, 1, 'restart', '', 'done', 5)")
        _archive(tmp_path / "shop.zip", old)
    loaded = loading.load(tmp_path / "loaded", tmp_path / "shop.zip")
    assert loaded.intact_audit
    database = Database(tmp_path / "loaded" / path.name)
    with database.read() as conn:
        assert data_retention.keeping(conn).file_names_months == 7
        assert conn.execute("SELECT action FROM action_results").fetchall()[0][0] == "restart"
        visit = visits.visit(conn, 1, today=date(2026, 3, 5))
        assert visit is not None and visit.turn is Turn.CLIENT
    database.close()


@pytest.mark.parametrize(
    ("text", "renamed"),
    [
        ('{"goes":1,"x":[{"goes":"goes"}]}', '{"removable":1,"x":[{"removable":"goes"}]}'),
        ("{", "{"),
        (None, None),
        ('{"größe":"goes"}', '{"größe":"goes"}'),
    ],
)
def test_keys_are_renamed_at_every_depth_and_values_are_not(
    text: str | None, renamed: str | None
) -> None:
    assert renamed_keys(text, "goes=removable") == renamed
