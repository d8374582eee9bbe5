"""Ways in which people's files were lost, each closed: what is somebody's survives."""

from __future__ import annotations

import os
import shutil
import sqlite3
import struct
import time
from collections.abc import Callable, Iterable, Iterator
from datetime import timedelta
from pathlib import Path

import pytest

from attack.maker import wait_for_the_next_second
from engine import Bench, NothingRuns, rule
from helpers import make_file, trashed
from people import ANNA, BEN, PeopleDesk, SetClock, give, mounted, silent_mount
from phylax.agent import files
from phylax.agent.files import posix
from phylax.agent.hold.batch import Batch
from phylax.agent.machines import InUse
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.machines.linux.mounts import mount_over, mount_table
from phylax.core.protocol import AgreedListing, CleanOrder, ListingMessage, SurveyMessage
from phylax.core.retention import ProtectEntry, ProtectKind, Reason

NOW = {"keep_for": "P0D"}
MONTH = timedelta(days=30)


# --- mounts --------------------------------------------------------------------------------------


@pytest.mark.parametrize("at", [".cache", ".cache/app", ".local/share/Trash/files/old/inside"])
def test_documents_bound_into_a_place_are_not_entered(
    desk: PeopleDesk, home: Path, at: str
) -> None:
    letter = make_file(home / "Documents/letter", days_old=400)
    (home / at).mkdir(parents=True)
    give(home, ANNA)
    with mounted("bind", home / at, str(home / "Documents")):
        by = {key: rule(**NOW) for key in ("user-caches", "trash", "user-temp", "tool-caches")}
        lines = desk.look(by)
        told = [unread.why for line in lines for unread in line.unread]
        assert any("mounted" in why for why in told), told
        desk.clean(by)
        assert letter.exists()


def test_the_older_way_to_tell_mounts_apart_refuses_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(posix, "_openat2", lambda: None)
    (tmp_path / "folder/inner").mkdir(parents=True)
    (tmp_path / "link").symlink_to(tmp_path / "folder")
    top = os.open(tmp_path, os.O_RDONLY)
    os.close(files.open_folder("folder", top))
    with mounted("bind", tmp_path / "folder", str(tmp_path)), pytest.raises(OSError, match="mount"):
        files.open_folder("folder", top)
    for name in ("link", "..", ".", "folder/inner"):
        with pytest.raises(OSError):
            files.open_folder(name, top)
    os.close(top)


def test_a_mount_that_does_not_answer_keeps_nobody_waiting(desk: PeopleDesk, home: Path) -> None:
    give(home, ANNA)
    old = give(make_file(home / ".cache/app/old", days_old=400), ANNA)
    give(home / ".cache", ANNA)
    by = {"user-caches": rule(**NOW)}
    with (
        silent_mount(home / ".cache/remote", ANNA) as remote,
        silent_mount(desk.volume / "nas", 0) as nas,
    ):
        # also where the shop itself names folders on it, straight or through a link
        way = desk.volume / "way"
        way.symlink_to(nas)
        named = (f"{nas}/archive", f"{way}/archive", f"{remote}/kept")
        protect = tuple(ProtectEntry(kind=ProtectKind.FOLDER, pattern=what) for what in named)
        (line,) = desk.look(by, protect=protect)
        assert [unread.path for unread in line.unread] == [str(remote)]
        covers = desk.messages(SurveyMessage)[-1].covers or ()
        assert [(c.entry.pattern, c.exists) for c in covers] == [(what, False) for what in named]
        desk.clean(by, protect=protect)
        assert not old.exists()


# --- other people's ---------------------------------------------------------------------------


def plant_hot_journal(table: Path, victim: Path) -> None:
    """A rollback journal that names a file as the journal of its journals, which SQLite removes
    when it has rolled back (the format: "Database File Format", section 3)."""
    magic, pages = bytes.fromhex("d9d505f920a163d7"), table.stat().st_size // 4096
    header = magic + struct.pack(">IIIII", 0, 7, pages, 512, 4096)
    name = os.fsencode(victim)
    named = struct.pack(">I", 0x40000000 // 4096 + 1) + name
    named += struct.pack(">II", len(name), sum(name)) + magic
    table.with_name(f"{table.name}-journal").write_bytes(header.ljust(512, b"\0") + named)


def make_table(folder: Path) -> Path:
    table = folder / "Cookies"
    folder.mkdir(parents=True, exist_ok=True)
    conn = sqlite3.connect(table)
    conn.executescript(
        "CREATE TABLE cookies (host_key, name, value, encrypted_value, path, last_access_utc,"
        " creation_utc); INSERT INTO cookies VALUES ('.site.example', 'a', 'b', x'', '/', 1, 1);"
    )
    conn.close()
    return table


def test_a_planted_journal_in_a_browsers_folder_removes_nobodys_document(
    desk: PeopleDesk, home: Path, tmp_path: Path
) -> None:
    # that the plant bites: who opens the table with more rights than its owner loses the document
    copy, bait = make_table(tmp_path / "copy"), make_file(tmp_path / "bait")
    plant_hot_journal(copy, bait)
    sqlite3.connect(copy).execute("SELECT count(*) FROM cookies").fetchall()
    assert not bait.exists(), "the journal planted here would harm nobody"

    letter = make_file(desk.home("ben", BEN) / "Documents/letter")
    give(letter.parent, BEN)
    letter.chmod(0o600)
    table = make_table(home / ".config/chromium/Default")
    plant_hot_journal(table, letter)
    give(home, ANNA)
    by = {"web-site-data": rule(**NOW)}
    desk.look(by)
    desk.clean(by, standing=("web-site-data",))
    assert letter.exists()


def test_a_table_swapped_for_a_link_to_somebody_elses_changes_nothing(
    desk: PeopleDesk, home: Path
) -> None:
    theirs = make_table(desk.home("ben", BEN) / "Documents/kept")
    give(desk.volume / "home/ben", BEN)
    theirs.chmod(0o600)
    before = theirs.read_bytes()
    profile = home / ".config/chromium/Default"
    profile.mkdir(parents=True)
    (profile / "Cookies").symlink_to(theirs)
    give(home, ANNA)
    by = {"web-site-data": rule(**NOW)}
    desk.clean(by, standing=("web-site-data",))
    assert theirs.read_bytes() == before


@pytest.mark.parametrize("said", ["$HOME/Schreibtisch", "{ben}/Documents", "$HOME/way", "$HOME/."])
def test_own_folders_in_any_language_and_other_peoples_are_no_download_folders(
    desk: PeopleDesk, home: Path, said: str
) -> None:
    ben = desk.home("ben", BEN)
    letters = [make_file(home / "Schreibtisch/letter", days_old=400)]
    letters.append(make_file(ben / "Documents/letter", days_old=400))
    ben.chmod(0o777)
    (home / "way").symlink_to(home / "Schreibtisch")
    make_file(home / ".config/user-dirs.dirs").write_text(
        f'XDG_DESKTOP_DIR="$HOME/Schreibtisch"\nXDG_DOWNLOAD_DIR="{said.format(ben=ben)}"\n'
    )
    give(home, ANNA)
    (ben / "Documents").chmod(0o777)
    give(ben / "Documents", ANNA)
    by = {"downloads": rule(**NOW)}
    desk.clean(by, standing=("downloads",))
    assert all(letter.exists() for letter in letters)


# --- the same name is another thing ---------------------------------------------------------------


@pytest.fixture
def bench(tmp_path: Path) -> Bench:
    home = tmp_path / "anna"
    home.mkdir()
    (tmp_path / "runs").mkdir()
    return Bench(NothingRuns([str(home)]), tmp_path / "runs")


def at_the_first_deed(
    monkeypatch: pytest.MonkeyPatch, action: str, then: Callable[[], None]
) -> None:
    """Somebody else does something just before the engine does this for the first time."""
    done: list[bool] = []

    def step(name: str) -> None:
        if name == action and not done:
            done.append(True)
            then()

    monkeypatch.setattr(files, "step", step)


def test_a_file_saved_while_its_folder_is_gone_through_stays(
    bench: Bench, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    temp = tmp_path / "anna/.tmp"
    old = [make_file(temp / f"{n}/old", days_old=9) for n in range(5)]
    saved = [make_file(temp / f"{n}", days_old=9) for n in range(10, 15)]

    def save() -> None:
        for path in saved:
            new = make_file(path.with_suffix(".new"), 77)
            new.rename(path)

    at_the_first_deed(monkeypatch, "unlink", save)
    bench.clean("user-temp")
    assert not any(path.exists() for path in old)
    # one of them may have gone just before
    assert sum(path.exists() for path in saved) >= 4
    assert all(path.stat().st_size == 77 for path in saved if path.exists())


@pytest.mark.parametrize("said", [{}, {"hold_for": "P3D"}], ids=["for good", "into the hold"])
def test_what_is_trashed_anew_under_an_old_name_stays_with_its_own_note(
    bench: Bench, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, said: dict
) -> None:
    home = tmp_path / "anna"
    first, second = (trashed(home, name, 1000, days_ago=90) for name in ("a", "b"))

    def empty_and_trash_anew() -> None:
        for path in (first, second):
            path.unlink()
            trashed(home, path.name, 55, days_ago=0)

    at_the_first_deed(monkeypatch, "move", empty_and_trash_anew)
    outcome, _ = bench.clean("trash", **said)
    assert [path.stat().st_size for path in (first, second)] == [55, 55]
    for name in ("a", "b"):
        assert (home / f".local/share/Trash/info/{name}.trashinfo").exists()
    assert outcome.removed.count == outcome.held.count == 0
    assert {stay.reason: stay.count for stay in outcome.left} == {Reason.CHANGED: 2}


def test_what_was_rewritten_in_place_with_its_times_put_back_is_no_longer_agreed_to(
    bench: Bench, tmp_path: Path
) -> None:
    kept = make_file(tmp_path / "anna/Downloads/kept", 1000, days_old=90)
    gone = make_file(tmp_path / "anna/Downloads/gone", 1000, days_old=90)
    bench.look("downloads", **NOW)
    before = kept.stat()
    kept.write_bytes(b"y" * 1000)
    os.utime(kept, ns=(before.st_atime_ns, before.st_mtime_ns))
    outcome, _ = bench.clean("downloads", agreed=list(bench.listing), **NOW)
    assert kept.read_bytes() == b"y" * 1000 and not gone.exists()
    assert {stay.reason: stay.count for stay in outcome.left} == {Reason.CHANGED: 1}


def test_both_names_of_a_file_that_was_agreed_to_go(bench: Bench, tmp_path: Path) -> None:
    first = make_file(tmp_path / "anna/Downloads/first", 1000, days_old=90)
    second = first.with_name("second")
    os.link(first, second)
    bench.look("downloads", **NOW)
    # a listing has a file once; the other name is listed when that has gone
    for _ in range(2):
        bench.look("downloads", **NOW)
        bench.clean("downloads", agreed=list(bench.listing), **NOW)
    assert not first.exists() and not second.exists()


def test_a_chaser_that_saves_over_every_name_loses_nothing(
    bench: Bench, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    downloads = tmp_path / "anna/Downloads"
    paths = [make_file(downloads / f"f{n}", 1000, days_old=90) for n in range(300)]
    bench.look("downloads", **NOW)
    saved: list[Path] = []
    ahead = iter(paths)

    def step(name: str) -> None:
        # in the very moment before a name is moved away, another file takes it
        if name == "move" and len(saved) < len(paths):
            path = next(ahead, None)
            if path is not None and path.exists():
                new = make_file(tmp_path / "anna/new", 44)
                new.rename(path)
                saved.append(path)

    monkeypatch.setattr(files, "step", step)
    bench.clean("downloads", agreed=list(bench.listing), **NOW)
    assert len(saved) > 100
    assert all(path.stat().st_size == 44 for path in saved)


# --- ages and clocks ---------------------------------------------------------------------------


class NothingOpen(LinuxMachine):
    """Ages as they are; nothing is open."""

    def in_use(self) -> InUse:
        return InUse()


def test_ages_count_from_the_newest_time_on_a_real_volume(
    real_volume: Path, age: Callable[[Iterable[Path], float], None], tmp_path: Path
) -> None:
    home = real_volume / "anna"
    old = [make_file(home / f".tmp/{name}") for name in ("old", "deep/old")]
    moved = make_file(home / "Documents/project/old")
    for folder in (home / ".tmp", home / ".tmp/deep", home / "Documents"):
        folder.mkdir(exist_ok=True)
    age([*old, home / ".tmp/deep", moved, moved.parent], 90)
    copied = Path(shutil.copy2(moved, home / ".tmp/copied"))
    touched = make_file(home / ".tmp/touched", days_old=400)
    (home / "Documents/project").rename(home / ".tmp/project")
    bench = Bench(NothingOpen([str(home)]), tmp_path)
    line = bench.look("user-temp", keep_for=MONTH)
    assert line is not None
    assert (line.removable.count, line.young_by_attributes.count) == (2, 2)
    bench.clean("user-temp", keep_for=MONTH)
    assert not any(path.exists() for path in old)
    assert copied.exists() and touched.exists() and (home / ".tmp/project/old").exists()


def test_a_cache_in_daily_use_gives_up_its_old_files_once_a_look_has_seen_it(
    desk: PeopleDesk, home: Path
) -> None:
    cache = home / ".cache/app/entries"
    old = make_file(cache / "old")
    give(home, ANNA)
    over = wait_for_the_next_second()
    moved = make_file(home / "Documents/project/plan")
    by = {"user-caches": rule(keep_for=MONTH)}
    desk.clock = SetClock(over)
    desk.look(by)
    # a month later: the program makes files every day, and somebody moved their work in
    for folder in (cache, cache.parent):
        give(make_file(folder / "new"), ANNA)
    give(moved.parent, ANNA)
    moved.parent.rename(cache / "project")
    desk.clock = SetClock(over + MONTH.total_seconds())
    desk.clean(by)
    assert not old.exists() and (cache / "new").exists() and (cache / "project/plan").exists()


def test_what_is_known_of_folders_ends_with_a_look_that_did_not_see_them(
    desk: PeopleDesk, home: Path
) -> None:
    work = home / ".cache/work"
    make_file(work / "plan")
    give(home, ANNA)
    over = wait_for_the_next_second()
    by = {"user-caches": rule(keep_for=MONTH)}
    give(make_file(home / "Documents/x").parent, ANNA)
    for days, place in enumerate((".cache", "Documents", ".cache")):
        work = work.rename(home / place / "work")
        desk.clock = SetClock(over + days * 86400)
        desk.look(by)
    desk.clock = SetClock(over + MONTH.total_seconds())
    desk.clean(by)
    plan = work / "plan"
    assert plan.exists()
    # what cannot be read is as if nothing had been seen
    for kept in (desk.own / "arrivals").iterdir():
        kept.write_text('{"folders": "AAAA"}')
    desk.clock = SetClock(over + MONTH.total_seconds())
    desk.look(by)
    desk.clean(by)
    assert plan.exists()


def test_nothing_goes_while_the_clock_is_not_trusted(desk: PeopleDesk, home: Path) -> None:
    old = give(make_file(home / ".tmp/old", days_old=9), ANNA)
    asked = give(make_file(home / "Downloads/old", days_old=90), ANNA)
    give(home, ANNA)
    desk.clock = clock = SetClock(time.time() + 10)
    by = {"user-temp": rule(**NOW), "downloads": rule(**NOW)}
    desk.look(by)
    listing = [item for page in desk.messages(ListingMessage) for item in page.items]
    clock.trusted = False
    lines = desk.look(by)
    assert all(stay.reason is Reason.CLOCK for line in lines for stay in line.kept)
    agreed = (AgreedListing(category="downloads", consent_id=1, items=tuple(listing)),)
    result = desk.clean(by, agreed=agreed)
    assert old.exists() and asked.exists()
    reasons = {stay.reason for outcome in result.outcomes for stay in outcome.left}
    assert reasons == {Reason.CLOCK}
    clock.trusted = True
    desk.clean(by, run_id=3, agreed=agreed)
    assert not old.exists() and not asked.exists()


# --- identities ---------------------------------------------------------------------------------


def test_a_number_that_comes_again_does_not_fall_into_an_earlier_batch(
    desk: PeopleDesk, home: Path
) -> None:
    by = {"user-temp": rule(keep_for="P0D", hold_for="P3D")}
    for content in (1, 2):
        give(make_file(home / ".tmp/same", 1000 * content, days_old=9), ANNA)
        give(home, ANNA)
        assert desk.clean(by, run_id=7).outcomes[0].held.count == 1
    entries = list(desk.index.entries())
    assert len(entries) == 2 and len({entry.batch for entry in entries}) == 2


def test_a_journal_of_another_order_with_the_same_number_is_not_gone_on_with(
    desk: PeopleDesk, home: Path
) -> None:
    order = CleanOrder(run_id=9, lease="x", rules=(), clean=(), survey_first=False)
    runs = desk.own / "runs"
    runs.mkdir()
    desk.carry_out(order.model_copy(update={"protect": ()}))
    (runs / "9.jsonl").write_text(
        '{"begun": {"order": {"kind": "survey", "run_id": 9, "lease": "l", "look": []},'
        ' "started_at": "2026-01-01T00:00:00+00:00", "before": [], "boot": 1}}\n'
        '{"sums": {"user-temp": [99, 99]}}\n'
    )
    result = desk.carry_out(order)
    assert result.resumed == 0
    assert [path.name.startswith("9.") for path in (runs / "refused").iterdir()] == [True]


def test_two_agents_that_share_a_volume_leave_each_others_things_alone(tmp_path: Path) -> None:
    benches = []
    with mounted("tmpfs", tmp_path / "volume") as volume:
        home = volume / "anna"
        for name in ("one", "two"):
            (tmp_path / name).mkdir()
            make_file(home / f".tmp/{name}", 1000, days_old=9)
            bench = Bench(SharedVolume([str(home)]), tmp_path / name)
            outcome, _ = bench.clean("user-temp", hold_for="P3D")
            assert outcome.held.count == 1, outcome
            benches.append(bench)
        held = [[batch.name for batch in bench.hold.batches()] for bench in benches]
        assert [len(names) for names in held] == [1, 1] and held[0] != held[1]


class SharedVolume(NothingRuns):
    """A machine that looks after a volume in memory as well."""

    def _mounts(self) -> list:
        homes = {mount_over(home).path for home in self._homes}
        return [mount for mount in mount_table() if mount.path in homes]


# --- accounts ----------------------------------------------------------------------------------


def test_a_trashed_thing_without_a_note_folder_goes_and_is_told_so(
    bench: Bench, tmp_path: Path
) -> None:
    thing = make_file(tmp_path / "anna/.local/share/Trash/files/thing", 1000, days_old=90)
    outcome, _ = bench.clean("trash", hold_for="P3D", **NOW)
    assert (outcome.held.count, outcome.left) == (1, ()) and not thing.exists()


def test_pipes_and_sockets_in_a_trashed_folder_go_with_it(bench: Bench, tmp_path: Path) -> None:
    folder = tmp_path / "anna/.local/share/Trash/files/folder"
    make_file(folder / "file", days_old=90)
    os.mkfifo(folder / "pipe")
    outcome, _ = bench.clean("trash", **NOW)
    assert outcome.removed.count == 1 and not folder.exists()


@pytest.mark.parametrize("name", ["letter.txt", "n" * 255, "ü" * 127])
def test_what_is_put_back_beside_keeps_its_own_note(
    bench: Bench, tmp_path: Path, name: str
) -> None:
    home = tmp_path / "anna"
    info = home / ".local/share/Trash/info"
    if len(name) < 100:
        trashed(home, name, 1000, days_ago=90)
    else:
        make_file(home / ".local/share/Trash/files" / name, 1000, days_old=90)
        info.mkdir(exist_ok=True)
    bench.clean("trash", hold_for="P3D", **NOW)
    make_file(home / ".local/share/Trash/files" / name, 55)
    if len(name) < 100:
        (info / f"{name}.trashinfo").write_text("of the new one")
    (batch,) = list(open_batches(bench))
    (entry,) = batch.held()
    beside = batch.put_back(entry, beside=True)
    batch.close()
    assert beside != name and len(os.fsencode(beside)) <= 255
    assert (home / ".local/share/Trash/files" / beside).stat().st_size == 1000
    if len(name) < 100:
        assert (info / f"{name}.trashinfo").read_text() == "of the new one"
        assert "DeletionDate" in (info / f"{beside}.trashinfo").read_text()


def open_batches(bench: Bench) -> Iterator[Batch]:
    for folder in bench.hold.folders():
        for name in os.listdir(folder):
            yield Batch.open(folder, name)
