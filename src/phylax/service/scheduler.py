"""What happens because time passes: rounds fall due, runs are missed, offers lapse.

`tick` does all of it for one moment and may be called as often as one likes; it is driven by the
service and, with a clock of their own, by tests.
"""

from __future__ import annotations

import asyncio
import logging

from phylax.core.recurrence import next_dates
from phylax.core.rounds import Round, fall_due
from phylax.core.runs import Run, RunState
from phylax.core.shop import Shop
from phylax.core.values import from_seconds, to_seconds
from phylax.service import work
from phylax.service.house import House
from phylax.store import agents, rounds, runs, shop
from phylax.store.database import Connection

_LONGEST_SLEEP = 20.0
_log = logging.getLogger("phylax.scheduler")


def tick(house: House) -> set[int]:
    """Do what is due now; the machines there is new work for."""
    now = house.now()
    nudged: set[int] = set()
    with house.db.read() as conn:
        quiet = not (
            rounds.due(conn, at=now) or runs.out_of_time(conn, at=now) or runs.lapsed(conn, at=now)
        )
    if quiet:
        return nudged
    with house.db.write() as conn:
        the_shop = shop.shop(conn)
        if the_shop is None:
            return nudged
        for due in rounds.due(conn, at=now):
            nudged |= _carry_out(conn, the_shop, due, now)
        for late in runs.out_of_time(conn, at=now):
            work.give_up(conn, late, RunState.MISSED, _why_missed(conn, late), at=now)
        for lapsed in runs.lapsed(conn, at=now):
            _lease_lapsed(conn, lapsed, now)
        agents.forget_old_messages(conn, at=now)
    return nudged


def next_after(round_: Round, the_shop: Shop, after: int) -> int | None:
    """When a round falls due next after a moment; None when it is over."""
    found = next_dates(
        round_.recurrence,
        round_.starts_on,
        round_.at,
        the_shop.clock,
        after=from_seconds(after),
        most=1,
    )
    return to_seconds(found[0]) if found else None


def _carry_out(conn: Connection, the_shop: Shop, round_: Round, now: int) -> set[int]:
    """Make the runs of every occurrence up to now, each once, and move the round on."""
    nudged: set[int] = set()
    due_at = None if round_.next_at is None else to_seconds(round_.next_at)
    while due_at is not None and due_at <= now:
        if not round_.paused:
            for machine_id in round_.machine_ids:
                if _occur(conn, round_, machine_id, due_at, now):
                    nudged.add(machine_id)
        due_at = next_after(round_, the_shop, due_at)
    rounds.set_next(conn, round_.id, due_at)
    return nudged


def _occur(conn: Connection, round_: Round, machine_id: int, due_at: int, now: int) -> bool:
    """One occurrence for one machine; True when the machine may start."""
    due = fall_due(from_seconds(due_at), round_.catch_up, from_seconds(now))
    for earlier in runs.waiting_of_round(conn, round_.id, machine_id):
        work.give_up(
            conn, earlier, RunState.MISSED, "its next time came before the machine did", at=now
        )
    run_id = runs.add(
        conn,
        machine_id,
        "clean",
        round_.categories,
        who=round_.name,
        at=now,
        due_at=due_at,
        until_at=to_seconds(due.until_at),
        round_id=round_.id,
    )
    if run_id is None:
        return False
    made = runs.run(conn, run_id)
    assert made is not None
    if due.state is RunState.MISSED:
        work.give_up(conn, made, RunState.MISSED, due.reason, at=now)
        return False
    return True


def _why_missed(conn: Connection, run: Run) -> str:
    machine = shop.machine(conn, run.machine_id)
    if machine is None or not machine.enrolled:
        return "no agent is enrolled on the machine"
    if machine.seen_at is None or machine.seen_at < run.due_at:
        return "the machine was off, or could not reach the service"
    return "the machine was busy with other work until its time had passed"


def _lease_lapsed(conn: Connection, run: Run, now: int) -> None:
    if who := runs.stop_asked_by(conn, run.id):
        work.give_up(conn, run, RunState.CALLED_OFF, f"called off by {who}", at=now)
    elif run.state is RunState.OFFERED:
        runs.take_back(conn, run.id)


async def keep_time(house: House) -> None:
    """Tick until the service stops: when the next round is due, and every so often."""
    while not house.hub.stopping.is_set():
        try:
            for machine_id in await asyncio.to_thread(tick, house):
                house.hub.nudge(machine_id)
            wait = await asyncio.to_thread(_until_next, house)
        except Exception:  # noqa: BLE001
            # one bad tick must not end all later ones
            _log.exception("the scheduler stumbled; it goes on")
            wait = _LONGEST_SLEEP
        await house.hub.wait_for_stop(wait)


def _until_next(house: House) -> float:
    with house.db.read() as conn:
        due = rounds.next_due(conn)
    if due is None:
        return _LONGEST_SLEEP
    return min(_LONGEST_SLEEP, max(0.5, due - house.clock().timestamp()))
