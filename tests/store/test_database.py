"""One file: brought up to date, copied aside first, refused when newer; records only grow."""

import sqlite3
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from helpers import TUESDAY
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.record.records import Entry, RecordKind
from phylax.core.record.searching import read_search
from phylax.core.survey import ledger
from phylax.service.context.context import Context
from phylax.service.runs import queue
from phylax.store.file import database
from phylax.store.file.database import Database, NewerFileError
from phylax.store.record import records
from phylax.store.record.records import RecordChoice
from phylax.store.runs import leases, runs
from phylax.store.scheduling import rounds, routines
from phylax.store.survey import profiles, surveys
from phylax.store.trends import readings

NOW = datetime(2026, 3, 2, 9, tzinfo=UTC)


def add_machine(context: Context, tag: str = "ferry-desk") -> int:
    with context.db.write() as conn:
        conn.execute(
            "INSERT OR IGNORE INTO clients (id, name, contact, mail, phone, note, changed_by,"
            " changed_at) VALUES (1, 'F', '', '', '', '', '', 0)"
        )
        conn.execute(
            """
            INSERT INTO machines (tag, client_id, system, make, model, serial, note, changed_by,
                                  changed_at)
            VALUES (?, 1, 'linux', '', '', '', '', '', 0)
            """,
            (tag,),
        )
        return int(conn.execute("SELECT max(id) FROM machines").fetchone()[0])


def test_a_file_of_a_newer_program_is_refused_and_left_alone(tmp_path: Path) -> None:
    path = tmp_path / "shop.sqlite3"
    with sqlite3.connect(path) as newer:
        newer.execute("PRAGMA user_version = 9999")
    before = path.read_bytes()
    with pytest.raises(NewerFileError, match="start the newer Phylax"):
        Database(path)
    assert path.read_bytes() == before


def test_an_older_file_is_copied_aside_before_it_is_changed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "shop.sqlite3"
    Database(path).close()
    landed = database.migrations()
    number = landed[-1][0]
    later = [*landed, (number + 1, "CREATE TABLE later (id INTEGER PRIMARY KEY) STRICT;")]
    monkeypatch.setattr(database, "migrations", lambda: later)
    Database(path).close()
    with sqlite3.connect(path) as after, sqlite3.connect(f"{path}.schema-{number}") as copy:
        assert after.execute("PRAGMA user_version").fetchone()[0] == number + 1
        assert copy.execute("PRAGMA user_version").fetchone()[0] == number


def test_a_survey_of_the_first_schema_is_read_after_the_file_is_brought_up_to_date(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path, landed = tmp_path / "shop.sqlite3", database.migrations()
    rule = '{"off":false,"keep_for":"P14D","off_from":"catalogue","keep_for_from":"shop"}'
    line = (
        f'[{{"category":"trash","mount":"/","rule":{rule},"holds":{{"count":2,"size":9}},'
        '"goes":{"count":1,"size":5},"stays":[{"reason":"too young","count":1,"size":4}],'
        '"ages":[{"day":3,"count":1,"size":4}],"digest":"00"}]'
    )
    with monkeypatch.context() as first:
        first.setattr(database, "migrations", lambda: landed[:1])
        old = Database(path)
        with old.write() as conn:
            conn.execute("INSERT INTO clients VALUES (1, 'Ferry', '', '', '', '', 1, 'ines', 0)")
            conn.execute(
                "INSERT INTO machines (tag, client_id, system, make, model, serial, note,"
                " changed_by, changed_at) VALUES ('a', 1, 'linux', '', '', '', '', 'ines', 0)"
            )
            conn.execute(
                "INSERT INTO runs (machine_id, work, categories, state, made_by, made_at, due_at)"
                " VALUES (1, 'survey', '[]', 'done', 'ines', 0, 0)"
            )
            conn.execute("INSERT INTO surveys VALUES (1, 1, 1, 'look', 5, 9, ?)", (line,))
        old.close()
    new = Database(path)
    with new.read() as conn:
        survey = surveys.survey(conn, 1)
        kept = runs.run(conn, 1)
        assert kept is not None and (kept.work, kept.state, kept.made_by) == (
            "survey", "done", "ines",
        )  # fmt: skip
        assert conn.execute("PRAGMA foreign_keys").fetchone()[0] == 1
        assert conn.execute("PRAGMA foreign_key_check").fetchone() is None
        assert list(profiles.of_category(conn, "trash")) == []
    new.close()
    assert survey is not None
    (told,) = ledger(survey).lines
    assert (told.rule_in_words, told.removable.size, told.pressed) == ("keep for 14 days", 5, False)


def test_a_round_of_the_third_schema_gets_a_routine_of_its_own(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path, landed = tmp_path / "shop.sqlite3", database.migrations()
    with monkeypatch.context() as third:
        third.setattr(database, "migrations", lambda: landed[:3])
        old = Database(path)
        with old.write() as conn:
            conn.execute("INSERT INTO clients VALUES (1, 'Ferry', '', '', '', '', 1, 'ines', 0)")
            conn.execute(
                "INSERT INTO machines (tag, client_id, system, make, model, serial, note,"
                " changed_by, changed_at) VALUES ('a', 1, 'linux', '', '', '', '', 'ines', 0)"
            )
            conn.execute(
                "INSERT INTO rounds (name, recurrence, at, starts_on, catch_up, categories, paused,"
                " next_at, changed_by, changed_at) VALUES ('Tuesdays', 'FREQ=WEEKLY;BYDAY=TU',"
                " '18:30', '2026-03-01', 43200, '[\"trash\"]', 1, 777, 'ines', 5)"
            )
            conn.execute("INSERT INTO round_machines VALUES (1, 1)")
            conn.execute(
                "INSERT INTO runs (machine_id, round_id, work, categories, state, made_by, made_at,"
                " due_at, until_at) VALUES (1, 1, 'clean', '[\"trash\"]', 'waiting', 'r', 7, 8, 9)"
            )
        old.close()
    new = Database(path)
    with new.read() as conn:
        round_ = rounds.round_(conn, 1)
        run = runs.run(conn, 1)
        routine = routines.routine(conn, 1)
        (member,) = rounds.members(conn, 1)
    new.close()
    assert round_ is not None and round_.how_often == "every Tuesday at 18:30"
    assert round_.plan.paused and round_.plan.machine_ids == (1,) and round_.machines == 1
    assert round_.plan.catch_up == timedelta(hours=12) and round_.plan.spread == timedelta(0)
    assert (member.next_at, member.occurs_at) == (777, 777)
    assert routine is not None and [s.in_words for s in routine.steps] == [
        "survey", "clean trash", "second look",
    ]  # fmt: skip
    assert run is not None and run.routine_name == "Tuesdays" and run.occurs_at == run.due_at
    assert run.closes_at == run.start_before is not None


def test_a_schema_file_that_fails_changes_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "shop.sqlite3"
    Database(path).close()
    number = database.migrations()[-1][0]
    bad = [*database.migrations(), (number + 1, "CREATE TABLE half (id INTEGER); NONSENSE;")]
    monkeypatch.setattr(database, "migrations", lambda: bad)
    with pytest.raises(sqlite3.OperationalError):
        Database(path)
    with sqlite3.connect(path) as after:
        assert after.execute("PRAGMA user_version").fetchone()[0] == number
        assert not after.execute("SELECT 1 FROM sqlite_master WHERE name = 'half'").fetchall()


def test_every_table_is_strict_and_what_is_acknowledged_is_on_the_disk(context: Context) -> None:
    with context.db.write() as conn:
        loose = conn.execute(
            """
            SELECT name FROM pragma_table_list
            WHERE schema = 'main' AND type = 'table' AND NOT strict
              AND name NOT LIKE 'sqlite_%' AND name NOT LIKE 'records_text%'
            """
        ).fetchall()
        assert [row[0] for row in loose] == []
        assert conn.execute("PRAGMA synchronous").fetchone()[0] == 2
        assert conn.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
        assert conn.execute("PRAGMA foreign_keys").fetchone()[0] == 1


def test_a_change_that_fails_half_way_leaves_nothing(context: Context) -> None:
    with pytest.raises(RuntimeError), context.db.write() as conn:
        conn.execute("UPDATE shop SET name = 'half'")
        raise RuntimeError
    with context.db.read() as conn:
        assert conn.execute("SELECT name FROM shop").fetchone()[0] == "Quayside"


def test_readers_go_on_while_somebody_writes(context: Context) -> None:
    with context.db.write() as conn:
        conn.execute("UPDATE shop SET name = 'new'")
        seen: list[str] = []

        def read() -> None:
            with context.db.read() as other:
                seen.append(other.execute("SELECT name FROM shop").fetchone()[0])

        thread = threading.Thread(target=read)
        thread.start()
        thread.join(timeout=60)
        assert seen == ["Quayside"]


def test_records_are_appended_and_never_changed(context: Context) -> None:
    machine_id = add_machine(context)
    entry = Entry(machine_id=machine_id, at=NOW, who="Wren", kind=RecordKind.NOTE, text="Told her.")
    with context.db.write() as conn:
        records.append(conn, entry)
    for change in ("UPDATE records SET text = 'x'", "DELETE FROM records"):
        with pytest.raises(sqlite3.IntegrityError, match="append-only"), context.db.write() as conn:
            conn.execute(change)


def choice(words: str) -> RecordChoice:
    return RecordChoice(words=read_search(words).words)


def test_search_takes_words_as_words(context: Context) -> None:
    machine_id = add_machine(context)
    with context.db.write() as conn:
        for text in ('Said "no" AND left', "Scanner folder grows"):
            records.append(
                conn,
                Entry(machine_id=machine_id, at=NOW, who="W", kind=RecordKind.NOTE, text=text),
            )
    with context.db.read() as conn:
        for words, hits in [
            ('"no" AND', 1),
            ("folder scanner", 1),
            ("NEAR( *", 0),
            ("\0", 2),
            ("", 2),
        ]:
            assert len(records.records(conn, choice(words), before=99, limit=9)) == hits, words


def test_a_late_or_repeated_reading_counts_once_and_moves_nothing_back(context: Context) -> None:
    machine_id = add_machine(context)

    def reading(hour: int, free: int) -> ReadingIn:
        return ReadingIn(mount="/", capacity=100, free=free, at=NOW.replace(hour=hour))

    with context.db.write() as conn:
        readings.add(conn, machine_id, by_volume([reading(9, 40), reading(11, 30)]))
        readings.add(conn, machine_id, by_volume([reading(10, 5), reading(9, 40)]))
        volume = conn.execute("SELECT id, free FROM volumes").fetchone()
        assert volume["free"] == 30
        hours = readings.hourly(conn, volume["id"], 0, 2**40)
        assert [r.free for r in hours] == [40, 5, 30]
        (day,) = readings.daily(conn, volume["id"], 0, 2**40)
        assert (day.low, day.high, day.free) == (5, 40, 30)


def test_single_readings_are_dropped_after_ninety_days_and_their_days_stay(
    context: Context,
) -> None:
    machine_id = add_machine(context)
    with context.db.write() as conn:
        for days in (0, 1, 50, 95, 96):
            at = NOW + timedelta(days=days)
            reading = ReadingIn(mount="/", capacity=100, free=days, at=at)
            readings.add(conn, machine_id, by_volume([reading]))
        assert [r.free for r in readings.hourly(conn, 1, 0, 2**40)] == [50, 95, 96]
        assert [r.free for r in readings.daily(conn, 1, 0, 2**40)] == [0, 1, 50, 95, 96]


@pytest.mark.parametrize("in_turn", [True, False], ids=["day by day", "all at once, late"])
def test_after_a_week_the_last_of_each_hour_and_the_days_extremes_are_kept(
    context: Context, in_turn: bool
) -> None:
    machine_id = add_machine(context)
    begin = NOW.replace(hour=0, minute=0)
    read = [
        ReadingIn(mount="/", capacity=1000, free=500 - n % 4, at=begin + timedelta(minutes=15 * n))
        for n in range(11 * 96)
    ]
    # for a quarter of an hour, much more and much less was used
    read[30] = read[30].model_copy(update={"free": 3})
    read[40] = read[40].model_copy(update={"free": 900})
    with context.db.write() as conn:
        if in_turn:
            for one in read:
                readings.add(conn, machine_id, by_volume([one]))
        else:
            readings.add(conn, machine_id, by_volume(read[500:]))
            readings.add(conn, machine_id, by_volume(read[:500]))
        found = readings.hourly(conn, 1, 0, 2**40)
        days = readings.daily(conn, 1, 0, 2**40)

    def of(day: int) -> list[int]:
        first = (begin + timedelta(days=day)).timestamp()
        return [one.free for one in found if first <= one.at < first + 86400]

    assert of(0) == [497] * 7 + [3, 497, 497, 497, 900] + [497] * 14, "24 hours, two extremes"
    assert of(1) == of(2) == [500] + [497] * 24, "the lowest is an hour's last"
    assert [of(day) for day in range(3, 11)] == [[500, 499, 498, 497] * 24] * 8
    assert [(day.low, day.high) for day in days] == [(3, 900)] + [(497, 500)] * 10


def test_an_occurrence_exists_once_and_a_machine_has_one_lease(context: Context) -> None:
    machine_id = add_machine(context)
    with context.db.write() as conn:
        rounds.add(conn, TUESDAY, who="ines", at=0)

        def occur() -> int | None:
            waiting = runs.Waiting(machine_id, "clean", ("trash",), "r", due_at=5, round_id=1)
            return runs.add(conn, waiting, at=5)

        first = occur()
        assert first is not None and occur() is None
        by_hand = runs.add(conn, runs.Waiting(machine_id, "survey", (), "Wren"), at=6)
        assert queue.choose(conn, machine_id, at=10) == first
        leases.lease(conn, first, "lease-1", until=100)
        assert queue.choose(conn, machine_id, at=20) is None
        # the lease has run out: the same run again, before the newer one
        assert queue.choose(conn, machine_id, at=101) == first != by_hand
