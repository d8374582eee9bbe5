"""Settings of one value on machines: read, changed, read back, put back; and what is refused."""

from __future__ import annotations

import itertools
import json
import shutil
import subprocess
from pathlib import Path

import pytest

from helpers import make_standin
from phylax.agent.machines import MachineKind
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.machines.linux.values import update_times
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.runtime.settings_run import SettingsRun
from phylax.core.ground.values import Scalar
from phylax.core.protocol import ChangeSettingsOrder, PutSettingsBackOrder
from phylax.core.tuning.changes import ChangeMade, ChangeState, WantedValue
from phylax.core.tuning.setting import settings
from startup_trees import add_file, picture

UPDATES = settings()["updates"]
WEEKLY = [choice for choice in UPDATES.choices if choice != "by-itself"]
TIMER = "[Unit]\nDescription=Daily apt\n[Timer]\nOnCalendar=*-*-* 6,18:00\nPersistent=true\n"


_RUNS = itertools.count(1)


def order(setting: str, was: Scalar | None, value: Scalar, of: str = "") -> ChangeSettingsOrder:
    wanted = WantedValue(setting=setting, person=of, previous=was, value=value)
    return ChangeSettingsOrder(run_id=next(_RUNS), lease="lease", values=(wanted,))


def change(run: SettingsRun, *args: object, **more: str) -> ChangeMade:
    (made,) = run.change(order(*args, **more))  # type: ignore[arg-type]
    return made


def back(run: SettingsRun, made: ChangeMade) -> ChangeMade:
    assert made.id is not None, made.refused
    (told,) = run.put_back(PutSettingsBackOrder(run_id=2, lease="l", changes=(made.id,)))
    return told


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "root"
    for timer in update_times.TIMERS:
        add_file(root, f"usr/lib/systemd/system/{timer}", TIMER)
    (root / "etc/systemd/system").mkdir(parents=True)
    return root


def run_on(machine: MachineKind, tmp_path: Path, never: str = "") -> SettingsRun:
    settings = frozenset([never] if never else [])
    return SettingsRun(machine, tmp_path / "journal", frozenset(), settings)


@pytest.mark.parametrize("value", WEEKLY)
def test_updates_get_a_weekly_time_that_systemd_takes_and_go_back(
    root: Path, tmp_path: Path, value: str
) -> None:
    machine = LinuxMachine(root=str(root))
    run = run_on(machine, tmp_path)
    before = picture(root)
    (seen,) = machine.values()
    assert (seen.key, seen.value) == ("updates", "by-itself")
    made = change(run, "updates", "by-itself", value)
    assert (made.refused, made.after) == ("", UPDATES.choices[value])
    assert [seen.value for seen in machine.values()] == [value]
    for timer in update_times.TIMERS:
        merged = subprocess.run(
            ["systemd-analyze", f"--root={root}", "cat-config", f"systemd/system/{timer}"],
            check=True, capture_output=True, text=True,
        ).stdout  # fmt: skip
        last = [line for line in merged.splitlines() if line.startswith("OnCalendar=")]
        # what the package says is taken back, and ours is the only time
        assert last[-2:] == ["OnCalendar=", last[-1]]
        time = last[-1].removeprefix("OnCalendar=")
        subprocess.run(["systemd-analyze", "calendar", time], check=True, capture_output=True)
        checked = subprocess.run(
            ["systemd-analyze", f"--root={root}", "verify", timer], capture_output=True, text=True
        )
        assert "lacks value setting" not in checked.stderr
    assert back(run, made).state is ChangeState.PUT_BACK
    assert picture(root) == before


def test_from_one_day_to_another_and_back_by_two_steps(root: Path, tmp_path: Path) -> None:
    run = run_on(LinuxMachine(root=str(root)), tmp_path)
    before = picture(root)
    first = change(run, "updates", "by-itself", "monday-noon")
    between = picture(root)
    second = change(run, "updates", "monday-noon", "friday-noon")
    assert back(run, second).state is ChangeState.PUT_BACK
    assert picture(root) == between
    assert back(run, first).state is ChangeState.PUT_BACK
    assert picture(root) == before


@pytest.mark.parametrize(
    "path",
    [
        "etc/systemd/system/apt-daily.timer.d/50-ours.conf",
        "etc/systemd/system/apt-daily.timer.d/99-later.conf",
        "usr/lib/systemd/system/apt-daily-upgrade.timer.d/10-package.conf",
        "etc/systemd/system/apt-daily.timer",
    ],
)
def test_an_administrators_own_time_is_not_touched(root: Path, tmp_path: Path, path: str) -> None:
    add_file(root, path, "[Timer]\nOnCalendar=Sun 04:00\n")
    before = picture(root)
    run = run_on(LinuxMachine(root=str(root)), tmp_path)
    made = change(run, "updates", "by-itself", "monday-noon")
    assert "administrator's own file" in made.refused and made.id is None
    assert picture(root) == before


def test_a_drop_in_of_ours_that_somebody_rewrote_is_no_value_of_ours(
    root: Path, tmp_path: Path
) -> None:
    machine = LinuxMachine(root=str(root))
    run = run_on(machine, tmp_path)
    made = change(run, "updates", "by-itself", "monday-noon")
    file = root / "etc/systemd/system/apt-daily.timer.d/90-phylax.conf"
    file.write_text(file.read_text().replace("Mon", "Sat"))
    (seen,) = machine.values()
    assert "different times" in seen.unread
    assert [drift.value for drift in run.drifted([], machine.values())] == [None]
    theirs = picture(root)
    assert back(run, made).state is ChangeState.ALTERED
    assert picture(root) == theirs


def test_a_system_without_such_timers_has_no_such_setting(tmp_path: Path) -> None:
    (tmp_path / "root").mkdir()
    machine = LinuxMachine(root=str(tmp_path / "root"))
    assert machine.values() == []
    made = change(run_on(machine, tmp_path), "updates", "by-itself", "monday-noon")
    assert made.refused == "not there"


# --- a stand-in ---------------------------------------------------------------------------------


@pytest.fixture
def standin(tmp_path: Path) -> StandInMachine:
    make_standin(tmp_path / "m")
    folder = tmp_path / "m/settings"
    folder.mkdir()
    for name, value in {"power": "even", "asleep-when": 30, "motion.anna": True}.items():
        (folder / f"{name}.json").write_text(json.dumps({"value": value}) + "\n\n")
    (folder / "play.anna.json").write_text('{"value": null}')
    (folder / "wake-timers.json").write_text('{"value": true, "settable": false}')
    (folder / "shadows.anna.json").write_text("{ torn")
    (folder / "no-such.json").write_text("{ torn")
    return StandInMachine(tmp_path / "m")


@pytest.mark.parametrize(
    ("key", "was", "value", "of"),
    [
        ("power", "even", "speed", ""), ("asleep-when", 30, 0, ""), ("motion", True, False, "anna"),
        ("play", None, False, "anna"),
    ],
)  # fmt: skip
def test_values_are_set_read_back_and_put_back_exactly(
    standin: StandInMachine, tmp_path: Path, key: str, was: Scalar | None, value: Scalar, of: str
) -> None:
    run = run_on(standin, tmp_path)
    before = picture(tmp_path / "m")
    made = change(run, key, was, value, of=of)
    assert made.refused == ""
    assert [s.value for s in standin.values() if (s.key, s.person) == (key, of)] == [value]
    assert back(run, made).state is ChangeState.PUT_BACK
    assert picture(tmp_path / "m") == before


@pytest.mark.parametrize(
    ("key", "was", "value", "of", "why"),
    [
        ("power", "even", "faster", "", "is no choice of power"),
        ("asleep-when", 30, 601, "", "asleep-when is 0 to 600 min"),
        ("asleep-when", 30, True, "", "asleep-when is 0 to 600 min"),
        ("motion", True, "off", "anna", "motion is true or false"),
        ("motion", 1, False, "anna", "is on by now"),
        ("motion", True, False, "bram", "not there"),
        ("motion", True, False, "../../anna", "not there"),
        ("power", "speed", "battery", "", "is even by now, not speed first"),
        ("wake-timers", True, False, "", "only by hand"),
        ("shadows", True, False, "anna", "cannot be read"),
        ("updates", None, "monday-noon", "", "not there"),
        ("startup-programs", None, "off", "", "not in this machine's catalogue"),
        ("no-such-thing", None, True, "", "not in this machine's catalogue"),
    ],
)
def test_a_hostile_service_can_set_nothing_else(
    standin: StandInMachine, tmp_path: Path,
    key: str, was: Scalar | None, value: Scalar, of: str, why: str,
) -> None:  # fmt: skip
    before = picture(tmp_path / "m")
    made = change(run_on(standin, tmp_path), key, was, value, of=of)
    assert why in made.refused and made.id is None
    assert picture(tmp_path / "m") == before


def test_the_machines_own_guard_has_the_last_word(standin: StandInMachine, tmp_path: Path) -> None:
    made = change(run_on(standin, tmp_path, never="power"), "power", "even", "speed")
    assert "guard" in made.refused
    assert shutil.which("systemd-analyze"), "what the other tests ask"


def test_one_bad_file_costs_only_itself(standin: StandInMachine) -> None:
    seen = {(s.key, s.person): s.unread for s in standin.values()}
    assert "is no setting" in seen["shadows", "anna"]
    assert [of for of, unread in seen.items() if not unread] == [
        ("asleep-when", ""), ("motion", "anna"), ("play", "anna"), ("power", ""),
        ("wake-timers", ""),
    ]  # fmt: skip
