"""Backups: made while the shop works, checked, kept by a plan; and one put back in its place."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import threading
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from zoneinfo import ZoneInfo

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Service
from helpers import Clock
from phylax.client import NotAllowedError, Phylax, RefusedError
from phylax.core.backups.backups import BackupPlan, is_due, kept
from phylax.core.clients.shop import Machine
from phylax.service.backups import making, restoring
from phylax.service.context.context import Context
from phylax.store.backups import copies, restore_epoch
from phylax.store.backups.copies import BadCopyError
from phylax.store.file.database import Database, migrations
from phylax.store.file.shop_file import FILE, HeldError, NoShopError, alone

DUBLIN = ZoneInfo("Europe/Dublin")


# --- which are kept -------------------------------------------------------------------------------


@given(st.lists(st.integers(0, 800 * 24), max_size=60))
def test_the_newest_of_days_weeks_and_months_stay(hours: list[int]) -> None:
    plan = BackupPlan(daily=3, weekly=2, monthly=2)
    first = datetime(2026, 1, 1, tzinfo=UTC)
    times = {first + timedelta(hours=hour) for hour in hours}
    stay = kept(times, plan, DUBLIN)
    assert stay <= times and len(stay) <= 7
    if times:
        assert max(times) in stay
    days = {at.astimezone(DUBLIN).date() for at in times}
    assert len({at.astimezone(DUBLIN).date() for at in stay}) >= min(3, len(days))
    assert kept(stay, plan, DUBLIN) == stay, "what stays, stays"


def test_a_year_of_days_leaves_days_weeks_and_months() -> None:
    last = datetime(2026, 11, 29, 2, tzinfo=UTC)
    stay = kept([last - timedelta(days=n) for n in range(400)], BackupPlan(), DUBLIN)
    assert len([at for at in stay if last - at < timedelta(days=14)]) == 14
    assert min(stay) < last - timedelta(days=330) and len(stay) < 14 + 13 + 12


def test_one_made_by_hand_gives_way_to_no_other_of_its_day() -> None:
    evening = datetime(2026, 11, 29, 22, tzinfo=UTC)
    before_a_change = evening - timedelta(hours=6)
    times = [before_a_change, evening]
    assert kept(times, BackupPlan(), DUBLIN) == {evening}
    assert kept(times, BackupPlan(), DUBLIN, by_hand={before_a_change}) == set(times)
    later = [*times, evening + timedelta(days=20)]
    assert before_a_change not in kept(later, BackupPlan(), DUBLIN, by_hand={before_a_change})


def test_one_a_day_from_an_hour_on_and_at_once_where_the_last_is_old() -> None:
    at = datetime(2026, 11, 29, 1, 59, tzinfo=UTC)
    plan = BackupPlan(hour=2)
    yesterday = at - timedelta(hours=23)
    assert not is_due(yesterday, at, plan, DUBLIN)
    assert is_due(yesterday, at + timedelta(minutes=1), plan, DUBLIN)
    assert not is_due(at, at + timedelta(minutes=1), plan, DUBLIN)
    assert is_due(at - timedelta(days=9), at, plan, DUBLIN)
    assert is_due(at + timedelta(days=900), at, plan, DUBLIN), "a clock that was set back"
    assert is_due(None, at, plan, DUBLIN)


# --- making ---------------------------------------------------------------------------------------


def test_a_backup_made_under_load_is_whole(
    service: Service, owner: Phylax, machine: Machine
) -> None:
    ended = threading.Event()

    def write() -> None:
        while not ended.is_set():
            owner.records.add_note(machine.id, "noted " * 100)

    writer = threading.Thread(target=write)
    writer.start()
    try:
        made = [owner.backups.make() for _ in range(3)]
    finally:
        ended.set()
        writer.join()
    assert [backup.why for backup in made] == ["", "", ""]
    path = Path(made[-1].place, made[-1].name)
    checked = copies.check(path)
    assert checked.entries == made[-1].entries and checked.head == made[-1].head
    assert path.stat().st_mode & 0o077 == 0 and not Path(f"{path}-wal").exists()
    with service.as_("wren") as technician:
        assert technician.backups.state().newest_good
        with pytest.raises(NotAllowedError):
            technician.backups.list()


def test_what_is_no_longer_kept_goes_and_nothing_else_does(context: Context, clock: Clock) -> None:
    place = making.place_of(context, BackupPlan())
    for _ in range(20):
        assert not making.make(context).why
        clock.pass_(timedelta(days=1))
    (place / "phylax-2020-01-01T000000Z.sqlite3").write_text("somebody's own")
    making.make(context)
    names = {path.name for path in place.glob("*.sqlite3")}
    assert "phylax-2020-01-01T000000Z.sqlite3" in names and len(names) < 20
    state = making.state(context)
    assert state.newest_good and state.beside and not state.wrong


def test_no_place_no_room_no_right_is_said_and_tried_again(
    service: Service, owner: Phylax, clock: Clock, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    safe = tmp_path / "safe"
    for place in (str(safe), "relative/path"):
        with pytest.raises(RefusedError):
            owner.backups.set_plan(owner.backups.plan(), place=place)
    safe.mkdir()
    plan = owner.backups.set_plan(owner.backups.plan(), place=str(safe))
    assert owner.backups.make().place == str(safe)
    # a disk that is not mounted: its folder is there, empty
    safe.rename(tmp_path / "unplugged")
    safe.mkdir()
    assert "is its disk there?" in owner.backups.make().why
    assert list(safe.iterdir()) == []
    clock.pass_(timedelta(days=4))
    assert "4 days old" in owner.today().shop_needs and "is its disk" in owner.today().shop_needs
    safe.rmdir()
    (tmp_path / "unplugged").rename(safe)
    monkeypatch.setattr(making.shutil, "disk_usage", lambda path: _Full())
    assert "no room" in owner.backups.make().why
    monkeypatch.undo()
    assert not owner.backups.make().why and owner.today().shop_needs == ""
    with pytest.raises(RefusedError):
        owner.backups.set_plan(plan.model_copy(update={"version": 1}), hour=4)


class _Full:
    free = 10


def test_it_is_made_by_itself_once_a_day(
    context: Context, clock: Clock, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened = context.now()
    monkeypatch.setattr(making.shop, "opened_at", lambda conn: opened)
    assert making.make_where_due(context) is None, "just opened"
    clock.pass_(timedelta(days=1))
    assert making.make_where_due(context)
    assert making.make_where_due(context) is None
    clock.pass_(timedelta(days=1))
    assert making.make_where_due(context)


def test_a_copy_that_is_torn_altered_or_of_another_kind_is_none(
    context: Context, tmp_path: Path
) -> None:
    made = making.make(context)
    good = Path(made.place, made.name).read_bytes()
    bad = tmp_path / "bad.sqlite3"
    for content in (
        b"",
        b"no database",
        good[: len(good) // 2],
        good[:8192] + bytes(len(good) - 8192),
    ):
        bad.write_bytes(content)
        with pytest.raises(BadCopyError):
            copies.check(bad)
    bad.write_bytes(good)
    with closing(sqlite3.connect(bad)) as conn, conn:
        conn.execute(f"PRAGMA user_version = {migrations()[-1][0] + 1}")
    with pytest.raises(BadCopyError, match="has schema"):
        copies.check(bad)
    with pytest.raises(BadCopyError, match="no file"):
        copies.check(tmp_path / "nowhere")
    bad.write_bytes(good)
    with closing(sqlite3.connect(bad)) as conn, conn:
        conn.execute("INSERT INTO machine_programs VALUES (99, 99)")
    with pytest.raises(BadCopyError, match="machine_programs names what is not there"):
        copies.check(bad)


# --- restoring ------------------------------------------------------------------------------------


def stopped(context: Context) -> Path:
    context.db.close()
    return context.db.path.parent


def test_a_restore_keeps_what_was_there_and_begins_a_new_life(
    service: Service, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    owner.records.add_note(machine.id, "before")
    made = owner.backups.make()
    owner.records.add_note(machine.id, "after")
    backup = Path(made.place, made.name)
    data = tmp_path / "elsewhere"
    assert restoring.restore(data, backup) is None
    with closing(sqlite3.connect(data / FILE)) as conn:
        conn.row_factory = sqlite3.Row
        texts = [row["text"] for row in conn.execute("SELECT text FROM record_words")]
        assert "before" in texts and "after" not in texts
        with service.context.db.read() as now:
            assert restore_epoch.current(conn).name != restore_epoch.current(now).name
        (action,) = conn.execute(
            "SELECT p.subject FROM audit_parts p JOIN audit a ON a.id = p.audit_id"
            " WHERE a.action = 'restore'"
        ).fetchall()
        assert made.head[:12] in action["subject"]
    looked = restoring.outlook(service.context.db.path.parent, backup)
    assert looked.replaced and looked.replaced.entries == looked.backup.entries + 1


def test_in_the_place_of_a_shop_the_old_file_is_kept_with_all_that_it_held(
    context: Context, tmp_path: Path
) -> None:
    made = making.make(context)
    backup = Path(made.place, made.name)
    with context.db.write() as conn:
        conn.execute("UPDATE shop SET name = 'Later'")
    copy = tmp_path / "copy"
    copy.mkdir()
    # as a kill leaves it: with a log that was not folded in
    for end in ("", "-wal"):
        (copy / f"{FILE}{end}").write_bytes(Path(f"{context.db.path}{end}").read_bytes())
    looked = restoring.outlook(copy, backup)
    assert looked.replaced is not None and looked.replaced.shop == "Later"
    old = restoring.restore(copy, backup)
    assert old is not None
    with closing(sqlite3.connect(old)) as conn:
        assert conn.execute("SELECT name FROM shop").fetchone()[0] == "Later"
    assert not (copy / f"{FILE}-wal").exists()
    assert copies.check(copy / FILE).shop == "Quayside"


def test_over_a_file_that_cannot_be_read_it_is_restored_all_the_same(
    context: Context, tmp_path: Path
) -> None:
    made = making.make(context)
    data = tmp_path / "broken"
    data.mkdir()
    with context.db.write() as conn:
        conn.execute("UPDATE shop SET name = 'Later'")
    (data / FILE).write_bytes(b"torn" * 5000)
    # its log is whole: it must not be taken for that of the file that comes
    (data / f"{FILE}-wal").write_bytes(Path(f"{context.db.path}-wal").read_bytes())
    looked = restoring.outlook(data, Path(made.place, made.name))
    assert looked.unreadable and looked.replaced is None
    old = restoring.restore(data, Path(made.place, made.name))
    assert old is not None and old.read_bytes().startswith(b"torn")
    database = Database(data / FILE)
    try:
        with database.read() as conn:
            assert conn.execute("SELECT name FROM shop").fetchone()[0] == "Quayside"
    finally:
        database.close()


def test_nothing_is_restored_under_a_running_service_or_from_no_backup(
    context: Context, tmp_path: Path
) -> None:
    made = making.make(context)
    backup, data = Path(made.place, made.name), context.db.path.parent
    with alone(data, "a service at 127.0.0.1:8610"), pytest.raises(HeldError, match="a service"):
        restoring.restore(data, backup)
    before = context.db.path.read_bytes()
    bad = tmp_path / "bad"
    bad.write_bytes(b"no database")
    with pytest.raises(BadCopyError):
        restoring.restore(data, bad)
    assert context.db.path.read_bytes() == before
    assert restoring.rehearse(backup).backup.shop == "Quayside"


RESTORE = """
import os, sys
from pathlib import Path
from phylax.service.backups import restoring
step = int(sys.argv[3])
count = 0
def cut(function):
    def counted(*given, **named):
        global count
        count += 1
        if count == step:
            os._exit(9)
        return function(*given, **named)
    return counted
for name in ("replace", "link", "fsync", "open"):
    setattr(os, name, cut(getattr(os, name)))
restoring.restore(Path(sys.argv[1]), Path(sys.argv[2]))
"""


@pytest.mark.parametrize("step", range(1, 14))
def test_cut_off_at_any_step_one_whole_file_is_there(
    context: Context, tmp_path: Path, step: int
) -> None:
    made = making.make(context)
    data = tmp_path / "data"
    data.mkdir()
    with context.db.write() as conn:
        conn.execute("UPDATE shop SET name = 'Later'")
    for end in ("", "-wal"):
        (data / f"{FILE}{end}").write_bytes(Path(f"{context.db.path}{end}").read_bytes())
    backup = str(Path(made.place, made.name))
    subprocess.run([sys.executable, "-c", RESTORE, str(data), backup, str(step)], timeout=300)
    database = Database(data / FILE)
    try:
        with database.read() as conn:
            name = conn.execute("SELECT name FROM shop").fetchone()[0]
            restored = conn.execute(
                "SELECT count(*) FROM audit WHERE action = 'restore'"
            ).fetchone()
    finally:
        database.close()
    assert (name, restored[0]) in (("Later", 0), ("Quayside", 1))
    restoring.restore(data, Path(backup))
    assert copies.check(data / FILE).shop == "Quayside"


# --- one at a time, and what is there -------------------------------------------------------------


def test_one_process_at_a_time_has_the_file_and_says_who(context: Context) -> None:
    data = context.db.path.parent
    with (
        alone(data, "a service at 127.0.0.1:8610"),
        pytest.raises(HeldError, match=f"127.0.0.1:8610, process {os.getpid()}"),
        alone(data, "another"),
    ):
        pass
    with alone(data, "the next"):
        pass
    with pytest.raises(NoShopError, match="shop open"), alone(data / "nothing", "a service"):
        pass
    assert not (data / "nothing").exists()


def test_the_file_and_its_copies_are_for_this_user_alone(context: Context, tmp_path: Path) -> None:
    path = context.db.path
    assert path.stat().st_mode & 0o077 == 0
    path.chmod(0o644)
    Database(path).close()
    assert path.stat().st_mode & 0o077 == 0
    old = tmp_path / "old" / FILE
    old.parent.mkdir()
    first = migrations()[0]
    with closing(sqlite3.connect(old)) as conn:
        conn.executescript(f"{first[1]}; PRAGMA user_version = 1;")
    stale = old.with_name(f"{FILE}.schema-1.part")
    stale.write_bytes(b"cut off before")
    for number in (90, 91, 92, 93):
        old.with_name(f"{FILE}.schema-{number}").touch()
    Database(old).close()
    copied = {p.name for p in old.parent.glob("*.schema-*")}
    assert not stale.exists() and len(copied) == 3


@pytest.mark.parametrize("seed", range(4))
def test_a_file_torn_under_its_service_is_said_and_the_last_backup_is_there(
    owner: Phylax, machine: Machine, context: Context, tmp_path: Path, seed: int
) -> None:
    """Pages of the file become something else while the service works with it."""
    for number in range(60):
        owner.records.add_note(machine.id, f"note {number} " + "and so on " * 40)
    good = owner.backups.make()
    with closing(sqlite3.connect(context.db.path)) as conn:
        conn.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    dice = Random(seed)
    with context.db.path.open("r+b") as file:
        pages = context.db.path.stat().st_size // 4096
        # the first page stays, or nothing is a database any more
        for page in dice.sample(range(1, pages), pages // 3):
            file.seek(4096 * page)
            file.write(dice.choice((dice.randbytes(4096), bytes(4096))))
    headers = {"Authorization": f"Bearer {owner.secret}"}
    with httpx.Client(base_url=f"{owner.url}/api/v2", headers=headers, timeout=60) as client:
        answers = [client.get(path) for path in (
            "/shop", "/today", "/clients", "/machines", "/records", "/records/verification",
            "/audit", "/people", "/rounds", "/routines", "/attention", "/machines/1/trend",
            "/records?words=note", "/records/authors", "/backups",
        )]  # fmt: skip
        answers += [client.post("/records", json={"machine_id": machine.id, "text": "x"})]
        after = client.post("/backups")
        assert client.get("/health").status_code == 200
    for answer in answers:
        assert answer.is_success or answer.json()["detail"], answer.text
    assert any(answer.status_code == 503 for answer in answers)
    assert not after.is_success or after.json()["why"], "no torn file is called a good backup"
    kept = Path(good.place, good.name)
    restoring.restore(tmp_path / "elsewhere", kept)
    assert copies.check(tmp_path / "elsewhere" / FILE).entries == good.entries


def test_a_record_that_was_altered_is_said_at_once(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    owner.records.add_note(machine.id, "Nothing was removed.")
    owner.backups.make()
    assert not owner.backups.state().wrong and not owner.today().shop_needs
    with context.db.write() as conn:
        conn.execute("DROP TRIGGER record_parts_are_not_changed")
        conn.execute("UPDATE record_parts SET text = 'Twelve files were removed.'")
    clock.pass_(timedelta(hours=3))
    assert "its record is broken at entry 1" in owner.backups.make().why
    said = owner.backups.state().wrong
    assert said.startswith("The last try to make a backup failed: its record is broken at entry 1")
    assert said.endswith("3 hours old.")
