"""Readings over a volume's life: resized, replaced, renamed, gone, silent for a year."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from sqlite3 import Connection

import pytest

from phylax.core.clients.shop import ClientEdit, MachineEdit
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.store.clients import shop
from phylax.store.trends import outlooks, readings

NOW = datetime(2026, 3, 2, 9, tzinfo=UTC)
GIB = 2**30


@pytest.fixture
def machine_id(context: Context) -> int:
    with context.db.write() as conn:
        client_id = shop.add_client(conn, ClientEdit(name="Skerry Ferry Office"), who="", at=0)
        edit = MachineEdit.model_validate(
            {"tag": "ferry-desk", "client_id": client_id, "system": "linux"}
        )
        return shop.add_machine(conn, edit, who="", at=0)


def read(
    days_ago: float, used: float, *, size: float = 200, mount: str = "/", identity: str = "a"
) -> ReadingIn:
    return ReadingIn(
        mount=mount, capacity=int(size * GIB), free=int((size - used) * GIB), identity=identity,
        at=NOW - timedelta(days=days_ago),
    )  # fmt: skip


def add(conn: Connection, machine_id: int, *found: ReadingIn) -> None:
    for reading in found:
        readings.add(conn, machine_id, by_volume([reading]), of_all_volumes=True)


def test_a_volume_that_shrank_to_a_tenth_is_foreseen_by_what_it_is_now(
    context: Context, machine_id: int
) -> None:
    with context.db.write() as conn:
        add(conn, machine_id, *(read(day, 100 - day) for day in range(90, 20, -1)))
        add(conn, machine_id, *(read(day, 12 - 0.1 * day, size=20) for day in range(20, -1, -1)))
    monitor.whole(context)
    with context.db.read() as conn:
        (outlook,) = outlooks.of_machine(conn, machine_id)
        (line, now) = readings.lines(conn, outlook.volume_id)
        old = readings.daily(conn, outlook.volume_id, 0, 2**40)
    assert outlook.fill_rate is not None and abs(outlook.fill_rate.likely / GIB - 0.1) < 0.03
    assert now.why == "20.0 GiB instead of 200.0 GiB" and line.capacity == 200 * GIB
    assert outlook.sudden == () and len(old) == 91


def test_a_renamed_volume_begins_anew_and_the_old_name_is_gone_at_once(
    context: Context, machine_id: int
) -> None:
    with context.db.write() as conn:
        add(conn, machine_id, read(9, 50, mount="D:"), read(8, 51, mount="E:"))
        machine = shop.machine(conn, machine_id)
        assert machine is not None
        assert [volume.mount for volume in machine.volumes] == ["E:"]
        assert [volume.mount for volume in machine.gone_volumes] == ["D:"]
        (line,) = readings.lines(conn, machine.volumes[0].id)
        assert line.why == "it was D: before"
        (old,) = readings.daily(conn, machine.gone_volumes[0].id, 0, 2**40)
        assert old.capacity - old.free == 50 * GIB


def test_a_volume_that_is_missed_for_a_day_is_gone_until_it_is_back(
    context: Context, machine_id: int
) -> None:
    both = [read(3, 50), read(3, 9, mount="/mnt", identity="b")]
    with context.db.write() as conn:
        readings.add(conn, machine_id, by_volume(both), of_all_volumes=True)
        add(conn, machine_id, read(2.5, 50))
        assert len(shop.machine(conn, machine_id).volumes) == 2  # type: ignore[union-attr]
        add(conn, machine_id, read(1, 50))
        assert [v.mount for v in shop.machine(conn, machine_id).volumes] == ["/"]  # type: ignore[union-attr]
        add(conn, machine_id, read(0.5, 9, mount="/mnt", identity="b"))
        assert len(shop.machine(conn, machine_id).volumes) == 2  # type: ignore[union-attr]


def test_readings_of_a_year_in_any_order_come_out_the_same(
    context: Context, machine_id: int
) -> None:
    wanted = [read(day, 100 - day / 5) for day in range(300, -1, -1)]
    shuffled = wanted[::3] + wanted[1::3] + wanted[2::3] + wanted[:50]
    with context.db.write() as conn:
        for reading in shuffled:
            readings.add(conn, machine_id, by_volume([reading]))
        days = readings.daily(conn, 1, 0, 2**40)
        assert len(days) == 301 and len(readings.lines(conn, 1)) == 1
        used = [day.capacity - day.free for day in days]
        assert used == sorted(used)
        assert readings.hourly(conn, 1, 0, 2**40)[-1].free == days[-1].free


def test_thresholds_are_the_machines_else_the_clients_else_the_shops(
    context: Context, machine_id: int
) -> None:
    with context.db.write() as conn:
        assert shop.machine(conn, machine_id).limit_percent == 90  # type: ignore[union-attr]
        edit = ClientEdit(name="Skerry Ferry Office", threshold_percent=80)
        shop.change_client(conn, 1, edit, who="", at=0)
        assert shop.machine(conn, machine_id).limit_percent == 80  # type: ignore[union-attr]
        conn.execute("UPDATE machines SET threshold_percent = 95")
        assert shop.machine(conn, machine_id).limit_percent == 95  # type: ignore[union-attr]
        readings.add(conn, machine_id, by_volume(read(day, 186) for day in range(30, -1, -1)))
    monitor.whole(context)
    with context.db.read() as conn:
        (outlook,) = outlooks.of_machine(conn, machine_id)
    assert outlook.threshold_percent == 95 and not outlook.over


def test_a_small_line_shows_the_lowest_share_of_each_step_and_gaps_as_unknown(
    context: Context, machine_id: int
) -> None:
    with context.db.write() as conn:
        for days_ago, low in ((4, 40), (3.5, 30), (0, 90)):
            add(conn, machine_id, read(days_ago, 100 - low, size=100))
        since, until = (int((NOW - timedelta(days=days)).timestamp()) for days in (4, 0))
        found = readings.lowest_shares(conn, [machine_id], since, until, 4)
    assert found == {(machine_id, 1): [0.3, None, None, 0.9]}
