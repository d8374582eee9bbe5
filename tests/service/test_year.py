"""A year of five hundred machines that are off, asleep or cut off, with a service that crashes and
a clock that is set: every occurrence ends once, for the reason it really had."""

from __future__ import annotations

import json
from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from random import Random
from sqlite3 import Connection
from zoneinfo import ZoneInfo

import pytest

from phylax.core.clients.shop import ClientEdit, ClosingDaysEdit, MachineEdit, ShopEdit
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.protocol import Asleep, Awake, CleanOrder, Order, ResultMessage, SurveyOrder
from phylax.core.record.records import verify
from phylax.core.scheduling.missed import MissedCause
from phylax.core.scheduling.rounds import RoundEdit
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler
from phylax.service.runs import availability, dispatch, ingest, queue
from phylax.service.scheduling.timetable import place_all, place_round
from phylax.store.clients import closing_days, shop
from phylax.store.file.database import Database
from phylax.store.record import records
from phylax.store.scheduling import presence, rounds, routines

STEP = 1800
DAYS = 365
MACHINES = 500
BEGIN = datetime(2026, 1, 5, tzinfo=UTC)
OFF, ON, ASLEEP, CUT_OFF = range(4)
DUBLIN, NEW_YORK = "Europe/Dublin", "America/New_York"


def habits(random: Random) -> bytearray:
    """What a machine is at every half hour of the year."""
    week = bytearray(336)
    kind = random.choice(["office", "evenings", "always", "odd", "kiosk"])
    for slot in range(336):
        day, hour = slot // 48, slot % 48 / 2
        on = {
            "office": day < 5 and 8 <= hour < 18,
            "evenings": 17 <= hour < 23.5,
            "always": True,
            "odd": random.random() < 0.3,
            "kiosk": 9 <= hour < 22,
        }[kind]
        week[slot] = ON if on else OFF
    year = week * (DAYS // 7 + 2)
    for _ in range(40):
        begin, length = random.randrange(len(year)), random.randrange(2, 120)
        state = random.choice([OFF, OFF, ON, ASLEEP, CUT_OFF])
        year[begin : begin + length] = bytes([state]) * min(length, len(year) - begin)
    return year


@dataclass
class Machine:
    number: int
    client: int
    year: bytearray
    job: Order | None = None
    left: int = 0
    told: int = 0
    """The last half hour of which it has told."""

    def awake(self, slot: int) -> Awake:
        """What its agent knows: since when it is at work, and the sleeps since it told last."""
        first = slot
        while first and self.year[first - 1] != OFF:
            first -= 1
        slept = [
            Asleep(begin=at_slot(n), end=at_slot(n + 1))
            for n in range(max(first, self.told), slot)
            if self.year[n] == ASLEEP
        ]
        self.told = slot
        return Awake(at=at_slot(slot), since=at_slot(first), slept=tuple(slept))


def at_slot(slot: int) -> datetime:
    return BEGIN + timedelta(seconds=slot * STEP)


@dataclass
class World:
    context: Context
    now: int
    random: Random
    machines: dict[int, Machine]
    limits: dict[int, int]
    skew: int = 0
    up: bool = True
    down_until: int = 0
    truth_down: list[tuple[int, int]] = field(default_factory=list)
    at_work: Counter[int] = field(default_factory=Counter)
    orders: list[tuple[int, int, int]] = field(default_factory=list)
    """(run, machine, moment) of each offer."""
    refused: set[int] = field(default_factory=set)
    asked: set[int] = field(default_factory=set)
    presumed: set[int] = field(default_factory=set)
    """Machines that were presumed off, and have not told otherwise since."""

    def clock(self) -> datetime:
        return from_seconds(self.now + self.skew)


def make_world(folder: Path) -> World:
    random = Random(86101)
    context = Context(Database(folder / "year.sqlite3"))
    world = World(context, to_seconds(BEGIN), random, {}, {})
    context.clock = world.clock
    at = world.now
    with context.db.write() as conn:
        shop.open_shop(conn, ShopEdit(name="Quayside", zone=DUBLIN))
        routines.ship(conn, at=at)
        for n in range(40):
            at_once = 2 if n % 4 == 0 else None
            edit = ClientEdit(name=f"c{n}", at_once=at_once, zone=NEW_YORK if n % 5 == 0 else None)
            client = shop.add_client(conn, edit, who="t", at=at)
            if at_once:
                world.limits[client] = at_once
        for n in range(MACHINES):
            edit = MachineEdit(tag=f"m{n}", client_id=n % 40 + 1, system="linux")
            number = shop.add_machine(conn, edit, who="t", at=at)
            conn.execute(
                "INSERT INTO agents VALUES (?, ?, 'linux', '', '', ?)",
                (number, number.to_bytes(4), at),
            )
            world.machines[number] = Machine(number, n % 40 + 1, habits(random))
            long_ones = 4 if n % 97 == 0 else 1
            routines.note_length(conn, 1, number, 1800 * long_ones)
        closing_days.add(
            conn, ClosingDaysEdit(first=date(2026, 12, 24), last=date(2027, 1, 2), name="Yule"),
            who="t", at=at,
        )  # fmt: skip
        for edit in ROUNDS:
            place_round(conn, rounds.add(conn, edit, who="t", at=at), edit, at=at)
        place_all(conn, at=at)
        presence.note_awake(conn, at=at)
    return world


def _round(name: str, first: int, last: int, **more: object) -> RoundEdit:
    return RoundEdit.model_validate(
        {"name": name, "routine_id": 1, "starts_on": "2026-01-01",
         "machine_ids": range(first, last + 1), "on_closing_days": "run", **more}
    )  # fmt: skip


ROUNDS = (
    _round("nightly window", 1, 100, recurrence="FREQ=WEEKLY;BYDAY=TU", at="20:00",
           closes="06:00", catch_up="PT0S", spread="PT1H"),
    _round("office hours", 80, 160, recurrence="FREQ=WEEKLY;INTERVAL=2;BYDAY=WE", at="09:00",
           closes="17:00", catch_up="P2D", zone_of="client"),
    _round("quarterly", 1, MACHINES, recurrence="FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=1", at="01:30",
           catch_up="PT36H", on_closing_days="next day"),
    _round("short", 400, 420, recurrence="FREQ=WEEKLY;BYDAY=FR", at="12:00", closes="13:00",
           catch_up="PT0S", spread="PT0S"),
)  # fmt: skip


def live(world: World) -> None:
    """Every half hour of the year, one after the other."""
    end = world.now + DAYS * 86400
    slot = 0
    while world.now < end:
        _service(world)
        _pass(world, slot)
        world.now += STEP
        slot += 1
    world.skew = 0
    world.up = True
    _pass(world, slot, quiet=True)


def _service(world: World) -> None:
    """Crashes, comes back, has its clock set."""
    random = world.random
    if not world.up and world.now >= world.down_until:
        world.up = True
        world.truth_down[-1] = (world.truth_down[-1][0], world.now)
    elif world.up and random.random() < 0.002:
        world.up = False
        world.down_until = world.now + STEP * random.choice([1, 3, 10, 48, 70])
        # what it did since the last tick was acknowledged; what it had begun is undone
        _crash_in_the_middle(world)
        world.truth_down.append((world.now, world.down_until))
    if random.random() < 0.003:
        world.skew = random.choice([0, 0, -120, 90, -600, 300])


def _crash_in_the_middle(world: World) -> None:
    with pytest.raises(KeyboardInterrupt), world.context.db.write() as conn:
        queue.make_due(conn, at=world.context.now())
        raise KeyboardInterrupt


def _pass(world: World, slot: int, *, quiet: bool = False) -> None:
    context = world.context
    if world.up:
        scheduler.tick(context)
        scheduler.tick(context)
    if quiet:
        return
    with context.db.write() as conn:
        now = context.now()
        if world.up:
            asked = conn.execute(
                "SELECT DISTINCT machine_id FROM runs WHERE due_at <= ?"
                " AND state IN ('waiting', 'offered', 'running')",
                (now,),
            )
            world.asked = {row[0] for row in asked}
            world.presumed |= {
                row[0]
                for row in conn.execute(
                    "SELECT machine_id FROM runs WHERE cause = 'off' AND ended_at >= ?",
                    (now - 900,),
                )
            }
        working = {m.number for m in world.machines.values() if m.job is not None}
        for number in sorted(working | world.asked | world.presumed):
            machine = world.machines[number]
            state = machine.year[slot]
            reachable = state == ON and world.up
            if machine.job is not None and state in (ON, CUT_OFF):
                _work_on(world, conn, machine, now, reachable)
            if reachable and number in world.presumed:
                world.presumed.discard(number)
                availability.told_awake(conn, number, machine.awake(slot), at=now)
            if reachable and machine.job is None and number in world.asked:
                _ask(world, conn, machine, now)


def _ask(world: World, conn: Connection, machine: Machine, now: int) -> None:
    order = dispatch.offer(conn, machine.number, at=now)
    if order is None:
        world.refused.add(machine.number)
        return
    assert isinstance(order, CleanOrder | SurveyOrder)
    if machine.client in world.limits:
        assert world.at_work[machine.client] < world.limits[machine.client], "the site's limit"
        world.at_work[machine.client] += 1
    world.orders.append((order.run_id, machine.number, now))
    machine.job, machine.left = order, world.random.choice([1, 1, 1, 2])
    conn.execute(
        "UPDATE runs SET state = 'running', started_at = ? WHERE id = ?", (now, order.run_id)
    )


def _work_on(world: World, conn: Connection, machine: Machine, now: int, reachable: bool) -> None:
    order = machine.job
    assert isinstance(order, CleanOrder | SurveyOrder)
    over = order.end_by is not None and now >= to_seconds(order.end_by)
    machine.left -= 1
    if not over and machine.left > 0:
        return
    if not reachable:
        machine.left = 1
        return
    ended = from_seconds(min(now, to_seconds(order.end_by)) if order.end_by else now)
    result = ResultMessage(
        id=f"result-{order.run_id}-{order.lease}", run_id=order.run_id,
        started_at=ended - timedelta(seconds=STEP), ended_at=ended, timed_out=over,
    )  # fmt: skip
    ingest.apply(conn, machine.number, result, at=now)
    machine.job = None
    if machine.client in world.limits:
        world.at_work[machine.client] -= 1


@pytest.fixture(scope="module")
def lived(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    patch = pytest.MonkeyPatch()
    # a machine that sleeps, or is cut off, in the middle keeps its place until it is back
    for module in (dispatch, ingest):
        patch.setattr(module, "LEASE_SECONDS", 400 * 86400)
    # time passes in steps here
    patch.setattr(presence, "_ASLEEP_AFTER", STEP + 700)
    world = make_world(tmp_path_factory.mktemp("year"))
    live(world)
    yield world
    world.context.db.close()
    patch.undo()


def rows(world: World, sql: str) -> list[tuple]:
    with world.context.db.read() as conn:
        return [tuple(row) for row in conn.execute(sql)]


def times(edit: RoundEdit, zone: str, days: list[date]) -> set[int]:
    local = (datetime.combine(day, edit.at, ZoneInfo(zone)) for day in days)
    last = to_seconds(BEGIN) + DAYS * 86400
    return {at for at in map(to_seconds, local) if to_seconds(BEGIN) < at <= last - 86400 * 3}


def test_each_occurrence_is_made_once_and_none_is_forgotten(lived: World) -> None:
    every_day = [date(2026, 1, 1) + timedelta(days=n) for n in range(DAYS + 20)]
    fortnight = date(2025, 12, 29)
    wanted = {
        1: [d for d in every_day if d.weekday() == 1],
        2: [d for d in every_day if d.weekday() == 2 and (d - fortnight).days // 7 % 2 == 0],
        3: [d for d in every_day if d.day == 1 and d.month % 3 == 1],
        4: [d for d in every_day if d.weekday() == 4],
    }
    made: dict[tuple[int, int], Counter[int]] = defaultdict(Counter)
    for round_id, machine, occurs in rows(
        lived, "SELECT round_id, machine_id, occurs_at FROM runs WHERE round_id IS NOT NULL"
    ):
        made[round_id, machine][occurs] += 1
    for round_id, edit in enumerate(ROUNDS, 1):
        for machine in edit.machine_ids:
            client = lived.machines[machine].client
            own = edit.zone_of == "client" and (client - 1) % 5 == 0
            expected = times(edit, NEW_YORK if own else DUBLIN, wanted[round_id])
            found = made[round_id, machine]
            assert set(found) >= expected, (round_id, machine)
            assert max(found.values()) == 1


def test_every_run_ended_in_one_state_and_wrote_one_record(lived: World) -> None:
    last = lived.now - 3 * 86400
    states = Counter(
        state for (state,) in rows(lived, f"SELECT state FROM runs WHERE occurs_at < {last}")
    )
    under_way = {m.job.run_id for m in lived.machines.values() if m.job is not None}
    open_ = rows(
        lived,
        f"SELECT id FROM runs WHERE occurs_at < {last}"
        " AND state IN ('waiting', 'offered', 'running')",
    )
    assert {run for (run,) in open_} <= under_way, "only what a machine still works on is open"
    assert states["done"] > 5000 and states["missed"] > 500 and states["partly"] > 10
    assert set(states) <= {"done", "missed", "partly", "running"}
    recorded = Counter(
        run for (run,) in rows(lived, "SELECT run_id FROM records WHERE run_id IS NOT NULL")
    )
    ended = {run for (run,) in rows(lived, "SELECT id FROM runs WHERE ended_at IS NOT NULL")}
    assert set(recorded) == ended and set(recorded.values()) == {1}


def test_no_run_was_given_out_twice_and_none_outside_its_window(lived: World) -> None:
    given = Counter(run for run, _, _ in lived.orders)
    assert set(given.values()) == {1}
    stretches = dict(rows(lived, "SELECT id, stretches FROM runs"))
    for run, machine, at in lived.orders:
        assert any(a <= at <= b for a, b, _ in json.loads(stretches[run])), (run, machine)
    late = rows(
        lived,
        "SELECT r.id FROM runs r, json_each(r.stretches) s WHERE r.started_at >= s.value->>0"
        " AND r.started_at <= s.value->>1 AND r.ended_at > s.value->>2",
    )
    assert late == [], "what began in a window has ended when it closes"


def test_every_missed_one_has_its_true_reason(lived: World) -> None:
    begin, slack = to_seconds(BEGIN), STEP
    down = [(a - slack, b + slack) for a, b in lived.truth_down]
    seen: Counter[str] = Counter()
    for machine_id, text, ended, cause in rows(
        lived, "SELECT machine_id, stretches, ended_at, cause FROM runs WHERE state = 'missed'"
    ):
        year = lived.machines[machine_id].year
        seen[cause] += 1
        slots = [
            (at, year[(at - begin) // STEP])
            for a, b, _ in json.loads(text)
            for at in range(a - a % STEP + STEP, min(b, ended), STEP)
            if 0 <= (at - begin) // STEP < len(year)
        ]
        is_down = [any(a <= at < b for a, b in down) for at, _ in slots]
        reachable = [
            at for (at, state), gone in zip(slots, is_down, strict=True) if state == ON and not gone
        ]
        story = (machine_id, text, cause, [s for _, s in slots])
        if cause in (MissedCause.OFF, MissedCause.ASLEEP):
            assert len(reachable) <= 1, story
            if cause == MissedCause.ASLEEP:
                assert any(state == ASLEEP for _, state in slots), story
        elif cause == MissedCause.OUT_OF_REACH:
            # or it was on for the rest of the half hour in which its turn came
            turn = year[(json.loads(text)[0][0] - begin) // STEP]
            assert any(s == CUT_OFF for _, s in slots) or any(is_down) or turn == ON, story
            assert len(reachable) <= 1, story
        elif cause == MissedCause.SERVICE_DOWN:
            assert any(is_down) and len(reachable) <= 1, story
        elif cause in (MissedCause.SITE, MissedCause.TOO_LONG, MissedCause.TOO_LATE):
            assert machine_id in lived.refused, story
        else:
            assert cause == MissedCause.BUSY, story
    assert seen.keys() >= {"off", "asleep", "service down", "out of reach", "site", "busy"}, seen


def test_the_records_of_the_year_are_one_unbroken_chain(lived: World) -> None:
    with lived.context.db.read() as conn:
        checked = verify(records.chain(conn))
    assert checked.intact and checked.entries > 5000
