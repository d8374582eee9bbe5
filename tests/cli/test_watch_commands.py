"""`phylax trend`, `attention` and `notice`: what they print, write and refuse."""

from __future__ import annotations

import json
from datetime import timedelta
from pathlib import Path

import pytest

from helpers import Clock, Run
from phylax.core.clients.shop import Machine
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.service.attention import monitor
from phylax.service.context.context import Context, system_clock
from phylax.store.trends import readings

GIB = 2**30


@pytest.fixture
def clock() -> Clock:
    """The command line goes by the real clock."""
    return Clock(system_clock())


@pytest.fixture
def filling(context: Context, machine: Machine, clock: Clock) -> Machine:
    """From 50 to 8 GiB free of 100 in 42 days, not the same each day."""
    with context.db.write() as conn:
        for day in range(42, -1, -1):
            at = clock.now - timedelta(days=day)
            free = (8 + day) * GIB + day * 7 % 5 * GIB // 2
            reading = ReadingIn(mount="C:", capacity=100 * GIB, free=free, at=at)
            readings.add(conn, machine.id, by_volume([reading]))
    monitor.whole(context)
    return machine


def test_a_trend_is_drawn_with_what_may_come_and_said_in_sentences(
    phylax: Run, filling: Machine
) -> None:
    shown = phylax("trend", "show", filling.tag, "--span", "60 days", COLUMNS="80").stdout
    assert "8.0 GiB free of 100.0 GiB" in shown
    assert "90\N{NO-BREAK SPACE}% used" in shown.replace("90 %", "90\N{NO-BREAK SPACE}%")
    assert "•" in shown and "█" in shown
    assert "Fills by 1.0 GiB a day" in shown
    assert "Over 90 % already." in shown and "Full: likely" in shown
    assert max(len(line) for line in shown.splitlines()) <= 80
    rows = phylax("trend", "show", filling.tag, "--format", "csv").stdout.splitlines()
    assert rows[0] == "at,capacity,free,low,high" and len(rows) > 40


@pytest.mark.parametrize(("name", "begins"), [("t.png", b"\x89PNG"), ("t.svg", b"<?xml")])
def test_a_trend_is_written_as_a_picture(
    phylax: Run, filling: Machine, tmp_path: Path, name: str, begins: bytes
) -> None:
    path = tmp_path / name
    assert phylax("trend", "draw", filling.tag, str(path)).returncode == 0
    assert path.read_bytes().startswith(begins)


def test_another_kind_of_picture_is_refused(phylax: Run, filling: Machine, tmp_path: Path) -> None:
    refused = phylax("trend", "draw", filling.tag, str(tmp_path / "t.gif"))
    assert refused.returncode == 2 and ".png or .svg" in refused.stderr


def test_who_will_be_over_and_what_the_shop_freed(phylax: Run, filling: Machine) -> None:
    soon = json.loads(phylax("trend", "list-soon", "--format", "json").stdout)
    assert [(one["machine_tag"], one["over"]) for one in soon] == [(filling.tag, True)]
    assert "Freed by week" in phylax("trend", "show-shop").stdout
    assert "Not seen yet" in phylax("trend", "list-regrowth", filling.tag).stdout
    assert phylax("trend", "list-soon", "--within", "soonish").returncode == 2


def test_a_threshold_is_shown_set_and_dropped_for_whom_it_is(
    phylax: Run, filling: Machine, context: Context
) -> None:
    def said(*words: str) -> str:
        return phylax("trend", "set-threshold", *words).stdout.strip()

    clients = f"{filling.client_name}'s"
    assert said("--machine", filling.tag).endswith("above 90 %, the shop's")
    assert said("80", "--client", filling.client_name).endswith(f"above 80 %, {clients}")
    assert said("75", "--machine", filling.tag).endswith("above 75 %, its own")
    monitor.whole(context)
    (one,) = json.loads(phylax("trend", "list-soon", "--format", "json").stdout)
    assert one["threshold_percent"] == 75
    assert said("--no-own", "--machine", filling.tag).endswith(f"above 80 %, {clients}")
    assert said("95").endswith("the shop: nearly full above 95 %, the shop's")
    for wrong in (["--no-own"], ["20"], ["80", "--no-own", "--machine", filling.tag]):
        assert phylax("trend", "set-threshold", *wrong).returncode == 2


def test_attention_is_taken_put_off_settled_and_given_back(phylax: Run, filling: Machine) -> None:
    found = json.loads(phylax("attention", "list", "--format", "json").stdout)
    (full,) = [one for one in found if one["cause"] == "nearly full"]
    number = str(full["id"])
    assert "taken on by Ines Marrow" in phylax("attention", "take", number).stdout
    assert "open again" in phylax("attention", "give-back", number).stdout
    assert "put off until" in phylax("attention", "put-off", number, "--for", "3 days").stdout
    listed = phylax("attention", "list").stdout
    assert "is 92" not in listed
    assert "put off by Ines Marrow" in phylax("attention", "list", "--all").stdout
    assert "settled" in phylax("attention", "settle", number, "a disk is ordered").stdout
    assert "a disk is ordered" in phylax("record", "list", "--machine", filling.tag).stdout
    assert phylax("attention", "take", "999").returncode == 4
    assert phylax("attention", "put-off", number, "--for", "ever").returncode == 2


@pytest.mark.parametrize("columns", ["80", "100", "160"])
def test_what_needs_somebody_is_told_whole_on_a_narrow_screen(
    phylax: Run, filling: Machine, columns: str
) -> None:
    needs = phylax("attention", "list", COLUMNS=columns).stdout
    line = next(line for line in needs.splitlines() if filling.tag in line)
    assert line.split()[:2] == ["1", filling.tag]
    assert "    C: is 92 % full" in [line.rstrip() for line in needs.splitlines()]
    machines = phylax("machine", "list", COLUMNS=columns).stdout
    assert filling.tag in machines and filling.client_name.split()[0] in machines
    for line in (needs + machines).splitlines():
        assert len(line) <= int(columns)


def test_notices_are_set_up_and_listed(phylax: Run, machine: Machine) -> None:
    assert "No mail server is set" in phylax("notice", "set-mail-server").stdout
    clear = phylax("notice", "set-mail-server", "--host", "mail.example", "--security", "none",
                   "--sender", "a@quayside.example")  # fmt: skip
    assert clear.returncode == 2 and "in clear to this machine itself only" in clear.stderr
    set_ = phylax("notice", "set-mail-server", "--host", "mail.quayside.example", "--login", "shop",
                  "--sender", "phylax@quayside.example")  # fmt: skip
    assert "mail.quayside.example:587, starttls" in set_.stdout
    wished = phylax("notice", "set-wishes", "--mail", "ines@quayside.example", "--at-once", "all",
                    "--daily", "--quiet", "19:00-07:30", "--trial").stdout  # fmt: skip
    assert "At once: all. Summaries: daily, weekly." in wished
    assert "Quiet from 19:00 to 07:30." in wished and "on its way" in wished
    assert phylax("notice", "set-wishes", "--mail", "nobody").returncode == 2
    assert phylax("notice", "set-wishes", "--quiet", "late").returncode == 2
    assert "no mail" in phylax("notice", "set-wishes", "--mail", "-").stdout
    (waiting,) = json.loads(phylax("notice", "list", "--format", "json").stdout)
    assert waiting["receiver"] == "ines@quayside.example" and waiting["kind"] == "trial"
    added = phylax("notice", "add-hook", "board", "https://board.quayside.example/in").stdout
    assert added.splitlines()[-1].startswith("hook_")
    assert "board.quayside.example" in phylax("notice", "list-hooks").stdout
    assert phylax("notice", "add-hook", "board", "http://10.0.0.9/").returncode == 2
    assert phylax("notice", "withdraw-hook", "1").returncode == 0
    assert phylax("notice", "withdraw-hook", "1").returncode == 4
