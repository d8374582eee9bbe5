"""Limits, groups, protection and odd input on real trees: survey, cleaning and what-if agree."""

import json
import os
import shutil
import time
import tomllib
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import pytest
import tomli_w
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from engine import Bench, ByContents, NothingRuns, lines_of, rule
from helpers import make_file, make_standin
from phylax.agent.config.guard import Guard
from phylax.agent.files.arrivals import Arrivals
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.survey.candidates import Candidates, Conditions
from phylax.agent.survey.places import Place, Territory
from phylax.agent.survey.task import Stopped
from phylax.core.catalogue import category
from phylax.core.protocol.trusted_time import by_clock_alone
from phylax.core.retention import (
    Caution,
    ProtectEntry,
    Protection,
    ProtectKind,
    Reason,
    RuleInForce,
)
from phylax.core.survey import SurveyLine
from phylax.core.survey.what_if import PreparedRule, packed, unpacked

FOLDER, PATTERN = ProtectKind.FOLDER, ProtectKind.PATTERN


def bench(folder: Path, *protect: tuple[ProtectKind, str]) -> Bench:
    home = folder / "anna"
    home.mkdir(parents=True, exist_ok=True)
    (folder / "agent").mkdir(exist_ok=True)
    entries = [ProtectEntry(kind=kind, pattern=what) for kind, what in protect]
    return Bench(ByContents([str(home)]), folder / "agent", protect=entries)


def pretended(folder: Path, system: str, **more: object) -> tuple[Bench, Path]:
    home = make_standin(folder / "m", system=system, **more)  # type: ignore[arg-type]
    (folder / "agent").mkdir()
    return Bench(StandInMachine(folder / "m"), folder / "agent"), home


def what_if(line: SurveyLine, by: RuleInForce) -> tuple[int, int, bool]:
    at = int(time.time())
    profile = unpacked(1, at, line.capacity, line.free, line.rule.only_larger, *packed(line))
    return PreparedRule(by, Caution.SAFE).would_go(profile)


# --- survey, cleaning and what-if agree ------------------------------------------------------

TREES = st.lists(
    st.tuples(st.sampled_from(["a", "b/c"]), st.integers(0, 60), st.integers(0, 30_000)),
    min_size=1, max_size=10,
)  # fmt: skip


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(
    tree=TREES,
    days=st.integers(0, 60),
    newest=st.integers(0, 3),
    under=st.sampled_from([0, 10_000, 50_000]),
    larger=st.sampled_from([0, 8192]),
    system=st.sampled_from(["real", "linux", "windows"]),
)
def test_what_if_a_new_survey_and_a_cleaning_say_the_same(
    tmp_path_factory: pytest.TempPathFactory,
    tree: list,
    days: int,
    newest: int,
    under: int,
    larger: int,
    system: str,
) -> None:
    folder = tmp_path_factory.mktemp("agree")
    if system == "real":
        it, home = bench(folder), folder / "anna"
        temp = home / ".tmp"
    else:
        it, home = pretended(folder, system)
        temp = home / (".tmp" if system == "linux" else "AppData/Local/Temp")
    for number, (below, age, size) in enumerate(tree):
        make_file(temp / below / f"f{number}", size, days_old=age + 0.3)
    surveyed = it.look("user-temp", keep_for="P10D")
    assert surveyed is not None
    plain = rule(keep_for=timedelta(days=days))
    then = {
        "keep_for": timedelta(days=days), "keep_newest": newest, "keep_under": under,
        "only_larger": larger,
    }  # fmt: skip
    line = it.look("user-temp", keep_for=timedelta(days=days))
    assert line is not None
    assert what_if(surveyed, plain) == (line.removable.count, line.removable.size, True)
    line = it.look("user-temp", **then)
    assert line is not None
    promised = (line.removable.count, line.removable.size)
    outcome, _ = it.clean("user-temp", **then)
    assert (outcome.removed.count, outcome.removed.size) == promised
    again = it.look("user-temp", **then)
    assert again is None or again.removable.count == 0 or newest, "nothing more goes a second time"


def test_pressure_counts_by_the_space_there_is_now(tmp_path: Path) -> None:
    _, home = pretended(tmp_path, "linux")
    for n in (2, 10, 40):
        make_file(home / f".tmp/old-{n}", 100, days_old=n)
    steps = [{"below_percent": 15, "keep_for": "P7D"}, {"below_percent": 5, "keep_for": "P1D"}]

    def going(share_free: float) -> int:
        state = tmp_path / "m/machine.toml"
        said = tomllib.loads(state.read_text())
        said["volumes"][0]["base_used"] = int(10**9 * (1 - share_free))
        state.write_text(tomli_w.dumps(said))
        machine = Bench(StandInMachine(tmp_path / "m"), tmp_path / "agent")
        line = machine.look("user-temp", keep_for="P30D", pressure=steps)
        assert line is not None
        return line.removable.count

    assert [going(share) for share in (0.5, 0.12, 0.02)] == [1, 2, 3]


# --- folders and things ----------------------------------------------------------------------


def test_the_newest_backup_of_each_device_stays(tmp_path: Path) -> None:
    it, home = pretended(tmp_path, "macos")
    backups = home / "Library/Application Support/MobileSync/Backup"
    for name, days in (("00008030-001A", 5), ("00008030-001A-20250311-181200", 90),
                       ("00008030-001A-20240101-090000", 400), ("00008110-002B", 800)):  # fmt: skip
        make_file(backups / name / "Manifest.db", 1000, days_old=days)
        make_file(backups / name / "ab/abcdef", 500, days_old=days + 3)
    it.look("device-backups", keep_for="P0D", keep_newest=1)
    assert {i.path: (i.size, i.reason) for i in it.listing} == {
        "00008030-001A": (1500, "among the newest"),
        "00008030-001A-20250311-181200": (1500, None),
        "00008030-001A-20240101-090000": (1500, None),
        "00008110-002B": (1500, "among the newest"),
    }
    agreed = [item for item in it.listing if item.reason is None]
    make_file(backups / "00008030-001A-20240101-090000/ab/new", 10)
    outcome, _ = it.clean("device-backups", agreed=agreed, keep_for="P0D", keep_newest=1)
    assert outcome.removed.count == 1
    assert {stay.reason for stay in outcome.left} == {"changed since"}
    assert sorted(os.listdir(backups)) == [
        "00008030-001A", "00008030-001A-20240101-090000", "00008110-002B",
    ]  # fmt: skip


def test_a_folder_with_something_protected_or_open_in_it_stays_whole(tmp_path: Path) -> None:
    it, home = pretended(
        tmp_path, "macos", files_in_use=("root/private/tmp/b.installer/deep/open.pkg",)
    )
    temp = home.parents[1] / "private/tmp"
    for name in ("a.installer/keep.kdbx", "b.installer/deep/open.pkg", "c.installer/x.pkg"):
        make_file(temp / name, 100, days_old=30)
    it.protect = [ProtectEntry(kind=PATTERN, pattern="*.kdbx")]
    outcome, _ = it.clean("setup-leftovers", keep_for="P7D")
    assert outcome.removed.count == 1
    assert {stay.reason for stay in outcome.left} == {"protected", "in use"}
    assert sorted(os.listdir(temp)) == ["a.installer", "b.installer"]


def test_what_is_no_file_goes_from_the_stand_in_and_its_space_comes_free(tmp_path: Path) -> None:
    it, _ = pretended(tmp_path, "macos")
    now = int(time.time())
    things = [
        {"source": "local-snapshots", "name": f"s{n}", "size": 10**7, "made": now - n * 3600}
        for n in range(4)
    ]
    (tmp_path / "m/things.json").write_text(json.dumps(things))
    before = it.machine.volumes()[0].free
    outcome, _ = it.clean("local-snapshots", standing=True, keep_for="P0D", keep_newest=1)
    assert outcome.removed.count == 3
    assert it.machine.volumes()[0].free - before == 3 * 10**7
    assert [t.name for t in it.machine.things("local-snapshots")] == ["s0"]
    with pytest.raises(FileNotFoundError):
        it.machine.let_go("local-snapshots", "s3")


def test_an_agent_without_the_system_says_that_it_cannot_let_a_kernel_go(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    it = bench(tmp_path)
    monkeypatch.setattr(it.machine, "things", StandInMachine(_with_kernel(tmp_path)).things)
    outcome, cleaner = it.clean("old-kernels", keep_for="P0D", keep_newest=0, standing=True)
    assert outcome.removed.count == 0
    assert [(left.path, left.reason) for left in cleaner.outcomes.named] == [
        ("6.1.0-9", "could not be removed")
    ]
    assert "by hand" in cleaner.outcomes.named[0].detail


def _with_kernel(folder: Path) -> Path:
    make_standin(folder / "other")
    thing = {"source": "old-kernels", "name": "6.1.0-9", "size": 5, "made": 1}
    (folder / "other/things.json").write_text(json.dumps([thing]))
    return folder / "other"


# --- the shop's own folders ------------------------------------------------------------------


@pytest.mark.parametrize(
    ("allowed", "asked", "found"),
    [
        (["/srv/scans"], "/srv/scans", True),
        (["/srv/scans"], "/srv/scans/inbox", True),
        ([], "/srv/scans", False),
        (["/srv/scans"], "/srv", False),
        (["/home/anna/Documents"], "/home/anna/Documents", False),
        (["/home/anna/Documents/Scans"], "/home/anna/Documents/Scans", True),
        (["/home/anna/Documents/Scans"], "/home/anna/Documents", False),
        (["/home"], "/home", False),
        (["/srv/scans"], "/srv/none", False),
    ],
)
def test_the_shop_names_only_folders_that_the_machine_lets_it(
    tmp_path: Path, allowed: list[str], asked: str, found: bool
) -> None:
    _, home = pretended(tmp_path, "linux")
    state = tmp_path / "m/machine.toml"
    state.write_text(f"own_folders = {json.dumps(allowed)}\n" + state.read_text())
    top = home.parents[1]
    for path in ("srv/scans/inbox/a.tif", "home/anna/Documents/Scans/b.tif"):
        make_file(top / path, 100, days_old=90)
    line = Bench(StandInMachine(tmp_path / "m"), tmp_path / "agent").look(
        "own-folders", off=False, keep_for="P30D", folders=[asked]
    )
    assert (line is not None and line.removable.count == 1) is found
    if line is not None and not found:
        assert line.unread_count == 1 and line.total.count == 0


# --- protection ------------------------------------------------------------------------------


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(
    files=st.lists(
        st.tuples(st.sampled_from(["", "Keep/", "deep/Keep/", "deep/"]), st.sampled_from("abK")),
        min_size=1, max_size=6,
    ),
    entry=st.sampled_from(
        [(PATTERN, "Keep/"), (PATTERN, "K"), (FOLDER, "deep"), (PATTERN, "/**/a")]
    ),
)  # fmt: skip
def test_nothing_protected_ever_goes_from_a_real_tree(
    tmp_path_factory: pytest.TempPathFactory, files: list, entry: tuple[ProtectKind, str]
) -> None:
    folder = tmp_path_factory.mktemp("kept")
    temp = folder / "anna/.tmp"
    kind, what = entry
    it = bench(folder, (kind, str(temp / what) if kind is FOLDER else what))
    paths = {make_file(temp / below / name, days_old=90) for below, name in files}
    line = it.look("user-temp", keep_for="P0D")
    it.clean("user-temp", keep_for="P0D")
    kept = {
        "Keep/": lambda p: "Keep" in p.relative_to(temp).parts[:-1],
        "K": lambda p: p.name == "K",
        "deep": lambda p: p.relative_to(temp).parts[0] == "deep",
        "/**/a": lambda p: p.name == "a",
    }[what]
    assert {p for p in paths if p.exists()} == {p for p in paths if kept(p)}
    assert line is not None
    assert line.removable.count == len([p for p in paths if not kept(p)])


def test_an_agreed_file_that_is_protected_by_now_stays(tmp_path: Path) -> None:
    it = bench(tmp_path)
    scan = make_file(tmp_path / "anna/Downloads/x.dcm", days_old=90)
    other = make_file(tmp_path / "anna/Downloads/y.zip", days_old=90)
    it.look("downloads", off=False, keep_for="P30D")
    it.protect = [ProtectEntry(kind=PATTERN, pattern="*.dcm")]
    outcome, _ = it.clean("downloads", agreed=list(it.listing))
    assert scan.exists() and not other.exists()
    assert {stay.reason for stay in outcome.left} == {"protected"}


def test_a_standing_consent_lets_go_by_the_rule_and_without_one_nothing_goes(
    tmp_path: Path,
) -> None:
    it = bench(tmp_path)
    old = make_file(tmp_path / "anna/Downloads/old.zip", days_old=90)
    young = make_file(tmp_path / "anna/Downloads/young.zip", days_old=3)
    _, cleaner = it.clean("downloads", off=False, keep_for="P30D")
    assert old.exists() and "needs a consent to its listing" in cleaner.outcomes.problems[0]
    it.clean("downloads", off=False, keep_for="P30D", standing=True)
    assert not old.exists() and young.exists()
    _, cleaner = it.clean("programs", standing=True)
    assert "only ever listed" in cleaner.outcomes.problems[0]


# --- large and idle --------------------------------------------------------------------------


def test_large_idle_files_are_listed_wherever_people_keep_them_but_not_twice(
    tmp_path: Path,
) -> None:
    it = bench(tmp_path)
    home = tmp_path / "anna"
    for path, size, days in (("Documents/film.mkv", 9000, 400), ("Documents/small", 10, 400),
                             ("Projects/disk.iso", 9000, 300), ("Projects/used.iso", 9000, 10),
                             (".cache/drawing/big", 9000, 400), ("Downloads/big.zip", 9000, 400),
                             ):  # fmt: skip
        make_file(home / path, size, days_old=days)
    line = it.look("large-and-idle", keep_for="P180D", only_larger=8192)
    assert {item.path for item in it.listing} == {"Documents/film.mkv", "Projects/disk.iso"}
    assert line is not None and line.removable.count == 0 and line.total.count == 2


# --- odd input -------------------------------------------------------------------------------


def test_a_folder_that_vanishes_while_it_is_looked_through_is_no_error(tmp_path: Path) -> None:
    it = bench(tmp_path)
    temp = tmp_path / "anna/.tmp"
    for n in range(30):
        make_file(temp / f"{n:02d}/deep/file", days_old=9)
    seen = 0

    def watch(category: str, items: int, size: int) -> None:
        nonlocal seen
        seen += items > 0
        if seen == 3 and temp.exists():
            shutil.rmtree(temp)

    lines = lines_of(it.machine, watch=watch)
    held = {line.category: line.total.count for line in lines}
    assert 1 <= held["user-temp"] < 30
    assert held["programs"] == 0, "the rest is done all the same"


def test_a_place_that_vanishes_before_its_limits_are_weighed_is_no_error(tmp_path: Path) -> None:
    it = bench(tmp_path)
    temp, cache = tmp_path / "anna/.tmp", tmp_path / "anna/.cache/drawing"
    make_file(temp / "old", days_old=9)
    make_file(cache / "old", days_old=99)
    places = Territory(it.machine, it.guard, it.machine.volumes())
    gone = places.places("user-temp")
    shutil.rmtree(temp)
    limited = rule(keep_for=timedelta(days=1), keep_under=10, keep_newest=1)
    conditions = Conditions(
        it.machine, places, Protection((), it.machine.system), it.machine.in_use(),
        by_clock_alone(time.time()), Arrivals(),
    )  # fmt: skip
    candidates = Candidates(conditions, category("user-temp"), limited)
    assert candidates.judge_for("/", gone).why_stays(0, group="elsewhere") is None


def test_agreed_backups_whose_place_vanished_are_gone_already(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    it, home = pretended(tmp_path, "macos")
    backups = home / "Library/Application Support/MobileSync/Backup"
    for name, days in (("A", 5), ("A-20250311-181200", 90)):
        make_file(backups / name / "Manifest.db", days_old=days)
    it.look("device-backups", keep_for="P0D", keep_newest=1)
    agreed = [item for item in it.listing if item.reason is None]
    places = Territory.places

    def then_vanish(territory: Territory, key: str) -> list[Place]:
        found = places(territory, key)
        shutil.rmtree(backups, ignore_errors=True)
        return found

    monkeypatch.setattr(Territory, "places", then_vanish)
    outcome, cleaner = it.clean("device-backups", agreed=agreed, keep_for="P0D", keep_newest=1)
    assert {stay.reason for stay in outcome.left} == {"gone already"}
    assert outcome.unread_count == 1 and not cleaner.outcomes.problems


def test_names_that_are_not_text_and_deep_paths_are_found_and_let_go(tmp_path: Path) -> None:
    it = bench(tmp_path)
    temp = os.fsencode(tmp_path / "anna/.tmp")
    os.makedirs(temp)
    odd = [b"\xff\xfe.tmp", b"line\nbreak", b"\x1b[31mred", b" ", b"-rf"]
    for name in odd:
        Path(os.fsdecode(os.path.join(temp, name))).write_bytes(b"x")
    deep = os.open(temp, os.O_RDONLY)
    for _ in range(20):
        os.mkdir("d" * 200, dir_fd=deep)
        deeper = os.open("d" * 200, os.O_RDONLY, dir_fd=deep)
        os.close(deep)
        deep = deeper
    os.close(os.open("file", os.O_CREAT | os.O_WRONLY, dir_fd=deep))
    os.close(deep)
    line = it.look("user-temp", keep_for="P0D")
    assert line is not None and line.removable.count == len(odd) + 1
    outcome, _ = it.clean("user-temp", keep_for="P0D")
    assert outcome.removed.count == len(odd) + 1
    assert outcome.unread_count == 0


def test_a_folder_of_very_many_entries_is_counted_whole(tmp_path: Path) -> None:
    it = bench(tmp_path)
    temp = tmp_path / "anna/.tmp/many"
    temp.mkdir(parents=True)
    for n in range(20_000):
        os.close(os.open(temp / f"{n}", os.O_CREAT | os.O_WRONLY))
    line = it.look("user-temp", keep_for="P1D", keep_under=10**9)
    assert line is not None and line.total.count == 20_000
    assert len(line.largest) == 20


def test_a_look_tells_each_category_as_it_is_known_and_stops_when_told(tmp_path: Path) -> None:
    it = bench(tmp_path)
    make_file(tmp_path / "anna/.tmp/a", days_old=9)
    make_file(tmp_path / "anna/.cache/drawing/a", days_old=9)
    parts: list[str] = []

    def stop_at(key: str) -> Callable[[str, int, int], None]:
        def watch(category: str, items: int, size: int) -> None:
            if category == key:
                raise Stopped

        return watch

    with pytest.raises(Stopped):
        lines_of(
            it.machine,
            watch=stop_at("user-caches"),
            part=lambda lines: parts.extend(line.category for line in lines),
        )
    assert "user-temp" in parts and "user-caches" not in parts


def test_the_guard_lets_nothing_go_beside_the_openings_in_sealed_folders(tmp_path: Path) -> None:
    make_standin(tmp_path / "m", system="windows")
    top = tmp_path / "m/C"
    for path in ("Windows/System32", "Windows/Temp", "Windows/SoftwareDistribution/Download"):
        (top / path).mkdir(parents=True)
    guard = Guard(StandInMachine(tmp_path / "m"))
    assert guard.why_forbidden(str(top / "Windows/Temp")) is None
    assert guard.why_forbidden(str(top / "Windows/SoftwareDistribution/Download")) is None
    for path in ("Windows", "Windows/System32", "Windows/Temporary", "", "Users", "Users/anna",
                 "Users/anna/Documents", "Program Files/x"):  # fmt: skip
        assert guard.why_forbidden(str(top / path)), path


def test_what_is_dated_ahead_stays_though_a_limit_of_size_is_passed(
    tmp_path: Path,
) -> None:
    """The remover's quick way is bounded as the judge is."""
    home = tmp_path / "anna"
    ahead = make_file(home / ".tmp/ahead", 9000, days_old=-90)
    old = make_file(home / ".tmp/old", 9000, days_old=9)
    it = Bench(NothingRuns([str(home)]), tmp_path)
    outcome, _ = it.clean("user-temp", keep_for="P1D", keep_under=1)
    assert ahead.exists(), "its age is not known"
    assert {stay.reason: stay.count for stay in outcome.left} == {Reason.DATED_AHEAD: 1}
    assert outcome.removed.count == 1 and not old.exists()
