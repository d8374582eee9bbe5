"""The engine on real files: what goes, what stays, and what is never touched."""

import os
import subprocess
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
import tomli_w

from engine import Bench, ByContents, now, rule
from helpers import make_file, make_standin, trashed
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.config.guard import is_plain_path
from phylax.agent.machines.standin import StandInMachine
from phylax.core.protocol import CategoryOutcome, CategoryRule
from phylax.core.retention import Reason
from phylax.core.survey import Item, unspell


@pytest.fixture
def home(tmp_path: Path) -> Path:
    path = tmp_path / "home" / "anna"
    path.mkdir(parents=True)
    return path


@pytest.fixture
def real(home: Path, tmp_path: Path) -> Bench:
    """This very machine, looking after one made-up home."""
    (tmp_path / "runs").mkdir()
    return Bench(ByContents([str(home)]), tmp_path / "runs")


def left(outcome: CategoryOutcome) -> dict[str, int]:
    return {stay.reason.value: stay.count for stay in outcome.left}


def test_old_temporary_files_go_young_and_open_ones_stay(real: Bench, home: Path) -> None:
    old = make_file(home / ".tmp/deep/er/old", days_old=3)
    young = make_file(home / ".tmp/young")
    opened = make_file(home / ".tmp/opened", days_old=3)
    with opened.open():
        line = real.look("user-temp")
        outcome, cleaner = real.clean("user-temp")
    assert line is not None and line.removable.count == 1
    assert (old.exists(), young.exists(), opened.exists()) == (False, True, True)
    assert left(outcome) == {"too young": 1, "in use": 1}
    assert [(item.path, item.reason) for item in cleaner.outcomes.named] == [("opened", "in use")]


def test_a_link_goes_as_a_link_and_what_it_points_to_stays(real: Bench, home: Path) -> None:
    letter = make_file(home / "Documents/letter.odt", days_old=99)
    (home / ".tmp").mkdir()
    for name, target in [("folder", home / "Documents"), ("file", letter)]:
        link = home / ".tmp" / name
        link.symlink_to(target)
        os.utime(link, (0, 0), follow_symlinks=False)
    real.clean("user-temp")
    assert letter.exists() and list((home / ".tmp").iterdir()) == []


def test_a_location_that_is_itself_a_link_is_not_followed(real: Bench, home: Path) -> None:
    letter = make_file(home / "Documents/letter.odt", days_old=99)
    (home / ".tmp").symlink_to(home / "Documents")
    assert real.look("user-temp") is None
    real.clean("user-temp")
    assert letter.exists()


def test_hard_links_count_once(real: Bench, home: Path) -> None:
    path = make_file(home / ".tmp/one", 50_000, days_old=3)
    os.link(path, home / ".tmp/two")
    line = real.look("user-temp")
    assert line is not None
    assert (line.total.count, line.total.size) == (1, path.stat().st_blocks * 512)


@contextmanager
def mounted(at: Path) -> Iterator[None]:
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(at)], check=True)
    try:
        yield
    finally:
        subprocess.run(["umount", str(at)], check=True)


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_another_volume_mounted_below_is_never_entered(real: Bench, home: Path) -> None:
    (home / ".tmp/usb").mkdir(parents=True)
    with mounted(home / ".tmp/usb"):
        kept = make_file(home / ".tmp/usb/kept", days_old=9)
        line = real.look("user-temp")
        real.clean("user-temp")
        assert kept.exists()
    assert line is not None and line.total.count == 0


@pytest.mark.parametrize("name", [b"line\nbreak", b"\xff\xfe", b"-rf", "ümlaut".encode(), b" "])
def test_odd_names_are_listed_agreed_to_and_removed(real: Bench, home: Path, name: bytes) -> None:
    path = home / "Downloads" / os.fsdecode(name)
    make_file(path, days_old=200)
    real.look("downloads")
    (item,) = [Item.model_validate_json(i.model_dump_json()) for i in real.listing]
    assert os.fsencode(unspell(item)) == name
    outcome, _ = real.clean("downloads", agreed=[item])
    assert outcome.removed.count == 1 and not path.exists()


def test_of_downloads_exactly_what_was_agreed_goes(real: Bench, home: Path) -> None:
    for name in ("agreed", "not-agreed", "changed", "replaced", "gone", "open"):
        make_file(home / "Downloads" / name, days_old=200)
    real.look("downloads", keep_for="P90D")
    items = [i for i in real.listing if i.path != "not-agreed"]
    make_file(home / "Downloads/changed", 2000, days_old=200)
    (home / "Downloads/replaced").unlink()
    make_file(home / "Downloads/replaced", days_old=200)
    (home / "Downloads/gone").unlink()
    make_file(home / "Downloads/came-later", days_old=200)
    with (home / "Downloads/open").open():
        outcome, _ = real.clean("downloads", agreed=items)
    assert sorted(p.name for p in (home / "Downloads").iterdir()) == [
        "came-later", "changed", "not-agreed", "open", "replaced",
    ]  # fmt: skip
    assert left(outcome) == {"changed since": 2, "gone already": 1, "in use": 1}


def test_without_a_yes_an_ask_category_is_not_touched(real: Bench, home: Path) -> None:
    kept = make_file(home / "Downloads/kept", days_old=999)
    _, cleaner = real.clean("downloads", keep_for="P0D")
    assert kept.exists()
    assert cleaner.outcomes.problems == ["downloads needs a consent to its listing"]


@pytest.mark.parametrize(
    ("place", "path"),
    [
        ("{home}/Downloads", "../Documents/letter.odt"),
        ("{home}/Downloads", "/etc/hostname"),
        ("{home}/Documents", "letter.odt"),
        ("{home}/Downloads", "sub/../../Documents/letter.odt"),
        ("{home}/Downloads", "link/letter.odt"),
    ],
)
def test_a_forged_listing_reaches_nothing_outside(
    real: Bench, home: Path, place: str, path: str
) -> None:
    letter = make_file(home / "Documents/letter.odt", days_old=200)
    make_file(home / "Downloads/real", days_old=200)
    (home / "Downloads/link").symlink_to(home / "Documents")
    real.look("downloads")
    st = letter.stat()
    template = next(i for i in real.listing if i.path == "real")
    seal = template.seal.model_copy(
        update={"device": st.st_dev, "file": st.st_ino, "size": st.st_size,
                "modified_ns": st.st_mtime_ns}
    )  # fmt: skip
    forged = template.model_copy(
        update={"place": place.format(home=home), "path": path, "seal": seal}
    )
    outcome, _ = real.clean("downloads", agreed=[forged])
    assert letter.exists() and outcome.removed.count == 0 and sum(left(outcome).values()) == 1


def test_a_home_named_as_its_own_download_folder_is_forbidden(real: Bench, home: Path) -> None:
    make_file(home / ".config/user-dirs.dirs").write_text('XDG_DOWNLOAD_DIR="$HOME"\n')
    letter = make_file(home / "letter.odt", days_old=200)
    line = real.look("downloads", keep_for="P1D")
    assert real.listing == [] and line is not None
    assert "never touched" in line.unread[0].why
    assert letter.exists()


@pytest.mark.parametrize(
    "path", ["{home}", "{home}/Documents", "{home}/Documents/x", "/", "/etc", "/usr/share"]
)
def test_the_guard_forbids(real: Bench, home: Path, path: str) -> None:
    assert real.guard.why_forbidden(path.format(home=home))


def test_plain_paths() -> None:
    assert is_plain_path("a/b c/…")
    for path in ("", "a//b", "./a", "a/..", "/a", "a\0b"):
        assert not is_plain_path(path), path


def test_emptied_folders_go_if_they_are_old_and_the_location_stays(real: Bench, home: Path) -> None:
    for folder in ("old", "young"):
        make_file(home / ".tmp" / folder / "file", days_old=3)
    (home / ".tmp/was-empty").mkdir()
    os.utime(home / ".tmp/old", (0, 0))
    real.clean("user-temp")
    assert sorted(p.name for p in (home / ".tmp").iterdir()) == ["was-empty", "young"]


def test_trash_goes_by_its_date_of_deletion_with_its_note(real: Bench, home: Path) -> None:
    old = trashed(home, "old.zip", 9000, days_ago=40)
    recent = trashed(home, "recent.zip", 9000, days_ago=3)
    make_file(home / ".local/share/Trash/files/folder/inside", 5000)
    (home / ".local/share/Trash/info/folder.trashinfo").write_text(
        "[Trash Info]\nPath=/x\nDeletionDate=2020-01-01T00:00:00\n"
    )
    line = real.look("trash", keep_for="P30D")
    assert line is not None and (line.total.count, line.removable.count) == (3, 2)
    outcome, _ = real.clean("trash", keep_for="P30D")
    trash = home / ".local/share/Trash"
    assert not old.exists() and recent.exists()
    assert [p.name for p in (trash / "info").iterdir()] == ["recent.zip.trashinfo"]
    assert outcome.removed.count == 2 and left(outcome) == {"too young": 1}


def test_an_open_program_keeps_its_cache(tmp_path: Path) -> None:
    folder = tmp_path / "m"
    home = make_standin(folder, system="windows", programs_open=("Chrome.exe",))
    chrome = make_file(home / "AppData/Local/Google/Chrome/User Data/Default/Cache/f_1")
    edge = make_file(home / "AppData/Local/Microsoft/Edge/User Data/Default/Cache/f_1")
    bench = Bench(StandInMachine(folder), tmp_path)
    line = bench.look("web-cache", keep_for="P0D")
    outcome, _ = bench.clean("web-cache", keep_for="P0D")
    assert line is not None and line.programs_open == ("chrome.exe",)
    assert (chrome.exists(), edge.exists()) == (True, False)
    assert left(outcome) == {"program open": 1}


def test_a_windows_trash_is_read_by_its_format(tmp_path: Path) -> None:
    from phylax.demo.standins import _write_recycle_info

    folder = tmp_path / "m"
    make_standin(folder, system="windows")
    bin_ = folder / "C/$Recycle.Bin/S-1-5-21-1"
    for name, days in [("$Rold.zip", 40), ("$Rnew.zip", 2)]:
        made = make_file(bin_ / name, 700)
        _write_recycle_info(made, datetime.now(UTC) - timedelta(days=days), "C:\\x.zip")
    bench = Bench(StandInMachine(folder), tmp_path)
    line = bench.look("trash", keep_for="P30D")
    assert line is not None and (line.removable.count, line.removable.size) == (1, 700)
    assert line.largest[0].place == "C:\\$Recycle.Bin\\S-1-5-21-1"
    bench.clean("trash", keep_for="P30D")
    assert sorted(p.name for p in bin_.iterdir()) == ["$Inew.zip", "$Rnew.zip"]


def test_what_cannot_be_removed_is_named_with_the_reason(real: Bench, home: Path) -> None:
    stuck = make_file(home / ".tmp/stuck", days_old=3)
    if subprocess.run(["chattr", "+i", str(stuck)], capture_output=True).returncode:
        pytest.skip("this file system has no immutable files")
    try:
        outcome, cleaner = real.clean("user-temp")
    finally:
        subprocess.run(["chattr", "-i", str(stuck)], check=True)
    assert left(outcome) == {Reason.NO_RIGHT.value: 1}
    assert cleaner.outcomes.named[0].detail == "Operation not permitted"


def test_sockets_and_pipes_are_passed_over(real: Bench, home: Path) -> None:
    (home / ".tmp").mkdir()
    os.mkfifo(home / ".tmp/pipe")
    os.utime(home / ".tmp/pipe", (0, 0))
    real.clean("user-temp")
    assert (home / ".tmp/pipe").exists()


def test_work_is_done_in_an_order_that_helps(tmp_path: Path) -> None:
    """What goes for good before what is held; quick disks before slow ones."""
    make_standin(tmp_path / "m", system="windows")
    state = tmp_path / "m/machine.toml"
    said = tomllib.loads(state.read_text())
    said["volumes"][0]["disk"] = "spinning"
    said["volumes"].append({"mount": "D:", "folder": "D", "capacity": 10**9, "disk": "ssd"})
    state.write_text(tomli_w.dumps(said))
    for top in ("C", "D"):
        make_file(tmp_path / f"m/{top}/$Recycle.Bin/S-1/$Rold", days_old=99)
    make_file(tmp_path / "m/C/Users/anna/AppData/Local/Temp/old", days_old=9)
    it = Bench(StandInMachine(tmp_path / "m"), tmp_path)
    rules = {"user-temp": rule(hold_for="P1D"), "trash": rule()}
    task = CleaningPass(
        run_id=1,
        keys=tuple(rules),
        rules=tuple(CategoryRule(category=key, rule=by) for key, by in rules.items()),
        now=now(),
    )
    assert it.cleaner(task).plan() == [("trash", "D:"), ("trash", "C:"), ("user-temp", "C:")]
