"""What a person's desktop keeps, set by workers with their rights at the real daemons."""

from __future__ import annotations

import json
import os
import pwd
import subprocess
from pathlib import Path

import pytest

from people import PeopleDesk, give
from phylax.agent.machines.linux.values import session
from phylax.core.ground.values import Scalar
from phylax.core.protocol import ChangeSettingsOrder, ChangesMessage, PutSettingsBackOrder
from phylax.core.tuning.changes import ChangeMade, ChangeState, WantedValue
from phylax.core.tuning.verdicts import Seen
from startup_trees import picture

ANNA, BEN = (pwd.getpwnam(name).pw_uid for name in ("games", "news"))
"""Accounts that every Debian has: a bus is only for who has one."""
STORE = ["-d", "org.freedesktop.impl.portal.PermissionStore",
         "-o", "/org/freedesktop/impl/portal/PermissionStore", "-m"]  # fmt: skip
INTERFACE = "org.freedesktop.impl.portal.PermissionStore"


@pytest.fixture
def home(desk: PeopleDesk) -> Path:
    return desk.home("games", ANNA)


def as_person(uid: int, home: Path, *command: str) -> str:
    """What a person's own program says, on a bus of its own."""
    home.mkdir(exist_ok=True)
    runtime = home / ".runtime"
    runtime.mkdir(mode=0o700, exist_ok=True)
    os.chown(runtime, uid, uid)
    return subprocess.run(
        ["dbus-run-session", "--", *command], user=uid, group=uid, extra_groups=[], cwd="/",
        env={"PATH": os.environ["PATH"], "HOME": str(home), "XDG_RUNTIME_DIR": str(runtime)},
        check=True, capture_output=True, text=True,
    ).stdout  # fmt: skip


def allow(home: Path, table: str, what: str, program: str, words: str) -> None:
    as_person(ANNA, home, "gdbus", "call", "--session", *STORE, f"{INTERFACE}.SetPermission",
              table, "true", what, program, words)  # fmt: skip


def listed(home: Path, table: str, what: str) -> str:
    return as_person(ANNA, home, "gdbus", "call", "--session", *STORE, f"{INTERFACE}.Lookup",
                     table, what)  # fmt: skip


def seen(desk: PeopleDesk) -> dict[tuple[str, str], Seen]:
    desk.worker()
    return {(value.key, value.person): value for value in desk.crew.tuned.values() if value.person}


def change(
    desk: PeopleDesk, setting: str, was: Scalar, value: Scalar, of: str = "games"
) -> ChangeMade:
    wanted = WantedValue(setting=setting, person=of, previous=was, value=value)
    desk.carry_out(ChangeSettingsOrder(run_id=5, lease="l", values=(wanted,)))
    (made,) = desk.messages(ChangesMessage)[-1].changes
    return made  # type: ignore[no-any-return]


def back(desk: PeopleDesk, made: ChangeMade) -> ChangeMade:
    assert made.id is not None, made.refused
    desk.carry_out(PutSettingsBackOrder(run_id=6, lease="l", changes=(made.id,)))
    (told,) = desk.messages(ChangesMessage)[-1].changes
    return told  # type: ignore[no-any-return]


def raw(home: Path, setting: str) -> str:
    """What was set, by their own program; empty where nothing was."""
    return as_person(ANNA, home, "dconf", "read", session.SETTINGS[setting].place).strip()


def test_reading_leaves_nothing_in_a_home(desk: PeopleDesk, home: Path) -> None:
    before = picture(home)
    values = seen(desk)
    assert [(key, value.value) for (key, _), value in values.items()] == [
        ("motion", True), ("interruptions", True),
    ]  # fmt: skip
    assert picture(home) == before


@pytest.mark.parametrize("setting", ["motion", "interruptions"])
@pytest.mark.parametrize("was_set", ["", "true", "false"])
def test_a_desktops_switch_is_set_and_goes_back_to_not_set(
    desk: PeopleDesk, home: Path, setting: str, was_set: str
) -> None:
    if was_set:
        as_person(ANNA, home, "dconf", "write", session.SETTINGS[setting].place, was_set)
    was = was_set != "false"
    made = change(desk, setting, was, not was)
    assert made.refused == ""
    assert raw(home, setting) == ("false" if was else "true")
    assert {path.lstat().st_uid for path in home.rglob("*")} == {ANNA}
    assert back(desk, made).state is ChangeState.PUT_BACK
    assert raw(home, setting) == was_set


def test_who_may_see_is_refused_to_those_who_were_allowed_and_is_as_it_was_again(
    desk: PeopleDesk, home: Path
) -> None:
    assert ("sees", "games") not in seen(desk), "nobody ever asked"
    allow(home, "devices", "camera", "org.example.Chat", "['yes']")
    allow(home, "devices", "camera", "org.example.Odd", "['no']")
    allow(home, "location", "location", "org.example.Map", "['EXACT', '17']")
    before = listed(home, "devices", "camera"), listed(home, "location", "location")
    assert seen(desk)["sees", "games"].value is True
    made = change(desk, "sees", True, False)
    assert made.refused == ""
    assert "'org.example.Chat': ['no']" in listed(home, "devices", "camera")
    now = seen(desk)
    assert (now["sees", "games"].value, now["sees", "games"].settable) == (False, False)
    assert now["locates", "games"].value is True
    places = change(desk, "locates", True, False)
    assert "['NONE', '17']" in listed(home, "location", "location")
    assert back(desk, places).state is back(desk, made).state is ChangeState.PUT_BACK
    assert (listed(home, "devices", "camera"), listed(home, "location", "location")) == before


def test_what_was_allowed_anew_since_is_theirs(desk: PeopleDesk, home: Path) -> None:
    allow(home, "devices", "camera", "org.example.Chat", "['yes']")
    made = change(desk, "sees", True, False)
    allow(home, "devices", "camera", "org.example.Chat", "['ask']")
    assert back(desk, made).state is ChangeState.ALTERED
    assert "['ask']" in listed(home, "devices", "camera")


@pytest.mark.parametrize(
    ("setting", "was", "value", "of", "why"),
    [
        ("motion", True, False, "root", "not there"),
        ("motion", True, False, "ben/../games", "not there"),
        ("motion", False, True, "games", "is on by now"),
        ("sees", True, False, "games", "not there"),
        ("power", "even", "speed", "games", "not there"),
    ],
)
def test_a_hostile_service_can_set_nothing_else(
    desk: PeopleDesk, home: Path, setting: str, was: Scalar, value: Scalar, of: str, why: str
) -> None:
    before = picture(home)
    assert why in change(desk, setting, was, value, of).refused
    assert picture(home) == before


def test_a_home_that_is_made_to_mislead_costs_only_its_own(desk: PeopleDesk, home: Path) -> None:
    """Ben's settings file is a pipe, his folder a link into Anna's, his store is no store."""
    ben = desk.home("news", BEN)
    (ben / ".config/dconf").mkdir(parents=True)
    os.mkfifo(ben / ".config/dconf/user")
    (ben / ".local/share").mkdir(parents=True)
    (ben / ".local/share/flatpak").symlink_to(home)
    (ben / ".local/share/flatpak/db").mkdir()
    (ben / ".local/share/flatpak/db/devices").write_text(json.dumps({"not": "a store"}))
    give(ben, BEN)
    give(home, ANNA)
    values = seen(desk)
    assert values["motion", "games"].value is True
    assert "is no file" in values["motion", "news"].unread
    assert change(desk, "motion", True, False, of="news").refused
    assert raw(home, "motion") == ""
    assert change(desk, "motion", True, False).refused == ""
    assert raw(home, "motion") == "false"
