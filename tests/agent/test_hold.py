"""The hold: things wait some days, can be put back whole, and then go for good."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from engine import Bench, NothingRuns
from helpers import make_file, make_standin, trashed
from phylax.agent import files
from phylax.agent.hold.batch import Batch, Held
from phylax.agent.hold.hold import Hold
from phylax.agent.machines.standin import StandInMachine
from phylax.core.retention import Reason

HOLD = {"hold_for": "P3D"}


@pytest.fixture
def home(tmp_path: Path) -> Path:
    home = tmp_path / "anna"
    (home / "Documents").mkdir(parents=True)
    return home


@pytest.fixture
def real(tmp_path: Path, home: Path) -> Bench:
    return Bench(NothingRuns([str(home)]), tmp_path)


def held_in(hold: Hold) -> Iterator[tuple[Batch, Held]]:
    for batch in hold.batches():
        for entry in batch.held():
            yield batch, entry


def put_all_back(hold: Hold, *, beside: bool = False) -> list[str]:
    return [batch.put_back(entry, beside=beside) for batch, entry in held_in(hold)]


def test_what_is_held_is_out_of_the_way_and_unreadable_to_others(real: Bench, home: Path) -> None:
    old = make_file(home / ".tmp/deep/old", 5000, days_old=9)
    young = make_file(home / ".tmp/deep/young")
    outcome, _ = real.clean("user-temp", **HOLD)
    assert not old.exists() and young.exists()
    assert (outcome.removed.count, outcome.held.count) == (0, 1)
    assert outcome.held.size >= 5000
    (folder,) = real.hold.folders()
    assert os.stat(folder).st_mode & 0o077 == 0
    ((batch, entry),) = held_in(real.hold)
    assert (entry.place, entry.path) == (f"{home}/.tmp", "deep/old")
    days = batch.head.until_at - batch.head.held_at
    assert days == timedelta(days=3)


def test_put_back_restores_name_times_mode_owner_and_attributes(real: Bench, home: Path) -> None:
    odd = "naïve \n name".encode() + b"\xff"
    path = os.fsencode(home / ".tmp") + b"/deep/" + odd
    make_file(Path(os.fsdecode(path)), 5000, days_old=9.123456789)
    os.chmod(path, 0o640)
    os.setxattr(path, "user.note", b"mine")
    if os.geteuid() == 0:
        os.chown(path, -1, 1235)
    before = os.stat(path)
    real.clean("user-temp", **HOLD)
    assert not os.path.exists(path)
    put_all_back(real.hold)
    after = os.stat(path)
    for field in ("st_ino", "st_mode", "st_uid", "st_gid", "st_size", "st_mtime_ns"):
        assert getattr(after, field) == getattr(before, field), field
    assert os.getxattr(path, "user.note") == b"mine"


def test_folders_on_the_way_that_have_gone_meanwhile_are_made_again(
    real: Bench, home: Path
) -> None:
    old = make_file(home / ".tmp/one/two/old", days_old=9)
    os.chmod(home / ".tmp/one", 0o750)
    real.clean("user-temp", **HOLD)
    os.rmdir(home / ".tmp/one/two")
    os.rmdir(home / ".tmp/one")
    put_all_back(real.hold)
    assert old.exists()
    assert (home / ".tmp/one").stat().st_mode & 0o777 == 0o750


def test_nothing_is_overwritten_and_there_is_a_choice(real: Bench, home: Path) -> None:
    old = make_file(home / ".tmp/report.txt", 3000, days_old=9)
    real.clean("user-temp", **HOLD)
    old.write_text("another one by now")
    with pytest.raises(FileExistsError):
        put_all_back(real.hold)
    assert len(list(held_in(real.hold))) == 1, "it stays held"
    assert put_all_back(real.hold, beside=True) == ["report (put back).txt"]
    assert old.read_text() == "another one by now"
    assert (home / ".tmp/report (put back).txt").stat().st_size == 3000


def test_a_link_in_the_way_back_leads_nowhere(real: Bench, home: Path) -> None:
    make_file(home / ".tmp/deep/letter.odt", days_old=9)
    real.clean("user-temp", **HOLD)
    os.rmdir(home / ".tmp/deep")
    (home / ".tmp/deep").symlink_to(home / "Documents")
    with pytest.raises(OSError):
        put_all_back(real.hold)
    assert list((home / "Documents").iterdir()) == []
    assert len(list(held_in(real.hold))) == 1


def test_a_held_thing_of_the_trash_comes_back_with_its_note(real: Bench, home: Path) -> None:
    thing = trashed(home, "old.iso", 3000, days_ago=40)
    note = home / ".local/share/Trash/info/old.iso.trashinfo"
    outcome, _ = real.clean("trash", keep_for="P30D", **HOLD)
    assert outcome.held.count == 1
    assert not thing.exists() and not note.exists()
    put_all_back(real.hold)
    assert thing.exists() and "old.iso" in note.read_text()


def test_agreed_items_and_whole_folders_are_held_as_well(real: Bench, home: Path) -> None:
    film = make_file(home / "Downloads/films/film.mkv", 9000, days_old=200)
    unpacked = make_file(home / "Downloads/setup/setup.bin", 4000, days_old=200).parent
    listed = real.look("downloads", off=False, keep_for="P90D")
    assert listed is not None
    outcome, _ = real.clean("downloads", agreed=list(real.listing), off=False, **HOLD)
    assert outcome.held.count == 2 and not film.exists()
    assert not any(unpacked.iterdir())
    put_all_back(real.hold)
    assert film.exists() and (unpacked / "setup.bin").exists()


def test_what_must_always_be_held_is_held_whatever_the_rule_says(tmp_path: Path) -> None:
    scans = make_file(tmp_path / "scans/page.tif", 4000, days_old=99).parent
    home = tmp_path / "anna"
    home.mkdir()
    it = Bench(NothingRuns([str(home)], own_folders=[str(scans)]), tmp_path)
    outcome, _ = it.clean("own-folders", standing=True, off=False, folders=(str(scans),))
    assert (outcome.held.count, outcome.removed.count) == (1, 0)


def test_no_more_of_a_volume_is_held_than_its_share(tmp_path: Path) -> None:
    home = make_standin(tmp_path / "m")
    for n in range(4):
        make_file(home / f".tmp/{n}", 40_000_000, days_old=9)
    it = Bench(StandInMachine(tmp_path / "m"), tmp_path)
    outcome, _ = it.clean("user-temp", **HOLD)
    # a tenth of a volume of 1,000 MB
    assert outcome.held.count == 2
    (left,) = outcome.left
    assert (left.reason, left.count) == (Reason.NO_ROOM, 2)
    assert len(list((home / ".tmp").iterdir())) == 2


def test_what_is_held_takes_its_space_until_it_goes(tmp_path: Path) -> None:
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old", 50_000_000, days_old=9)
    it = Bench(StandInMachine(tmp_path / "m"), tmp_path)
    before = it.machine.volumes()[0].free
    it.clean("user-temp", **HOLD)
    (batch,) = it.hold.batches()
    assert before - it.machine.volumes()[0].free < 10_000, "only the manifest"
    batch = it.hold.batch(batch.name)
    assert batch.let_go(1, lambda path, why: None)
    assert it.machine.volumes()[0].free - before > 49_000_000
    batch.close()


def test_what_is_due_and_only_that(tmp_path: Path, real: Bench, home: Path) -> None:
    make_file(home / ".tmp/old", days_old=9)
    real.clean("user-temp", **HOLD)
    now = datetime.now(UTC)
    assert list(real.hold.due(now + timedelta(days=2, hours=23))) == []
    assert len(list(real.hold.due(now + timedelta(days=3, seconds=1)))) == 1


def test_it_gives_way_only_where_the_rule_says_so(tmp_path: Path) -> None:
    home = make_standin(tmp_path / "m")  # 900 of 1,000 MB are free
    make_file(home / ".tmp/old", 5_000_000, days_old=9)
    trashed(home, "older", 5_000_000, days_ago=40)
    it = Bench(StandInMachine(tmp_path / "m"), tmp_path)
    it.clean("user-temp", hold_yields_below=10, **HOLD)
    it.clean("trash", **HOLD)
    now = datetime.now(UTC)
    assert list(it.hold.due(now)) == []
    make_file(home / "Documents/film", 820_000_000)
    assert [batch.head.category for batch in it.hold.due(now)] == ["user-temp"]


def test_another_persons_folder_in_the_way_is_not_used(real: Bench, home: Path) -> None:
    path, own = real.hold.possible()
    os.mkdir(path, 0o755)
    old = make_file(home / ".tmp/old", days_old=9)
    outcome, _ = real.clean("user-temp", **HOLD)
    assert not old.exists() and outcome.held.count == 1
    assert os.listdir(path) == [] and real.hold.folders() == [own]


@pytest.mark.skipif(os.geteuid() != 0, reason="to make another person's folder needs root's rights")
def test_nothing_goes_back_into_a_folder_that_is_somebody_elses_by_now(
    real: Bench, home: Path
) -> None:
    """Root may write there, and its new owner would have what is put back."""
    old = make_file(home / ".tmp/one/old", days_old=9)
    (home / ".tmp/one").chmod(0o700)
    real.clean("user-temp", **HOLD)
    if (home / ".tmp/one").exists():
        (home / ".tmp/one").rmdir()
    (home / ".tmp/one").mkdir(0o700)
    os.chown(home / ".tmp/one", 3002, 3002)
    with pytest.raises(PermissionError, match="somebody else's by now"):
        put_all_back(real.hold)
    assert not old.exists()
    put_all_back(real.hold, beside=True)
    assert (home / ".tmp/one (put back)/old").exists()


def test_where_both_names_are_taken_nothing_goes(real: Bench, home: Path) -> None:
    for path in real.hold.possible():
        os.mkdir(path, 0o755)
    old = make_file(home / ".tmp/old", days_old=9)
    outcome, cleaner = real.clean("user-temp", **HOLD)
    assert old.exists() and outcome.held.count == 0
    assert [item.reason for item in cleaner.outcomes.named] == [Reason.NO_RIGHT]


@pytest.mark.parametrize("name", ["../../etc", "1.trash.0000000g", "1.trash.00000000/..", ""])
def test_a_batch_that_is_none_is_not_looked_for(real: Bench, name: str) -> None:
    with pytest.raises(FileNotFoundError):
        real.hold.batch(name)


def test_a_damaged_manifest_hurts_nobody_else(real: Bench, home: Path) -> None:
    make_file(home / ".tmp/old", days_old=9)
    trashed(home, "older", 3000, days_ago=40)
    real.clean("user-temp", **HOLD)
    real.clean("trash", **HOLD)
    (manifest,) = Path(real.hold.folders()[0]).glob("1.user-temp.*/manifest.jsonl")
    manifest.write_text("not ours\n")
    assert [entry.name for _, entry in held_in(real.hold)] == ["older"]
    assert len(list(manifest.parent.glob("things/*"))) == 1, "and nothing in it is touched"


@pytest.mark.parametrize("gone", ["things", "manifest.jsonl", "the part"])
def test_a_removal_of_a_batch_that_was_interrupted_leaves_no_run_stuck(
    real: Bench, home: Path, tmp_path: Path, gone: str
) -> None:
    """Half a batch, as a kill in the middle of its removal left it, is no batch, and its name is
    free again for the same run."""
    make_file(home / ".tmp/old", 5000, days_old=9)
    real.clean("user-temp", **HOLD)
    ((batch, entry),) = held_in(real.hold)
    head, folder, name = batch.head, os.path.dirname(batch.path), batch.name
    real.hold.batch(name).put_back(entry, beside=False)
    left = Path(folder) / name
    if gone == "the part":
        (left / "things/0").rmdir()
        (left / "manifest.jsonl").unlink()
    elif gone == "things":
        (left / "things/0").rmdir()
        (left / "things").rmdir()
    else:
        (left / gone).unlink()
    again = Batch.make(folder, name, head)
    assert again.is_empty and again.sweep_up()
    assert os.listdir(folder) == []


def test_half_a_batch_in_which_something_is_held_stays(real: Bench, home: Path) -> None:
    old = make_file(home / ".tmp/old", 5000, days_old=9)
    real.clean("user-temp", **HOLD)
    ((batch, _),) = held_in(real.hold)
    head, folder, name = batch.head, os.path.dirname(batch.path), batch.name
    (Path(folder) / name / "manifest.jsonl").unlink()
    with pytest.raises(OSError):
        Batch.make(folder, name, head)
    assert not old.exists()
    assert [p.stat().st_size for p in Path(folder).glob("*/things/*/*")] == [5000]


@pytest.mark.parametrize("last", range(7))
def test_a_removal_of_a_batch_ends_at_any_step_without_harm(
    real: Bench, home: Path, monkeypatch: pytest.MonkeyPatch, last: int
) -> None:
    """Whichever call is the last, the same run can hold again."""
    make_file(home / ".tmp/old", 5000, days_old=9)
    real.clean("user-temp", **HOLD)
    ((batch, entry),) = held_in(real.hold)
    batch = real.hold.batch(batch.name)
    batch.put_back(entry, beside=False)
    calls = iter(range(100))

    def ends(real_call: Callable[..., object]) -> Callable[..., object]:
        def call(*arguments: object) -> object:
            if next(calls) >= last:
                raise KeyboardInterrupt
            return real_call(*arguments)

        return call

    with monkeypatch.context() as patch, suppress(KeyboardInterrupt):
        for name in ("unlink", "rmdir", "move"):
            patch.setattr(files, name, ends(getattr(files, name)))
        batch.sweep_up()
    folder = os.path.dirname(batch.path)
    again = Batch.make(folder, batch.name, batch.head)
    assert again.is_empty and again.sweep_up()
    assert os.listdir(folder) == []


@pytest.mark.skipif(os.geteuid() != 0, reason="a group that is not one's own needs root's rights")
@pytest.mark.parametrize("is_root", [True, False])
def test_a_set_group_folder_is_made_anew_with_its_group_or_shown_to_none(
    tmp_path: Path, is_root: bool
) -> None:
    folder = tmp_path / "shared"
    folder.mkdir()
    folder.chmod(0o755)
    tmp_path.chmod(0o711)
    os.chown(folder, 3001, 3001)
    top = files.open_top(str(tmp_path))
    child = os.fork()
    if not child:
        code = 1
        try:
            if not is_root:
                os.setgroups([])
                os.setresgid(3001, 3001, 3001)
                os.setresuid(3001, 3001, 3001)
            files.give("shared", top, 0o2770, 3001, 4000)
            code = 0
        finally:
            os._exit(code)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
    files.close(top)
    of = folder.stat()
    expected = (0o2770, 4000) if is_root else (0o0700, 3001)
    assert (of.st_mode & 0o7777, of.st_gid) == expected
