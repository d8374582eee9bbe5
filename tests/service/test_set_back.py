"""Records that were set back to an earlier copy: agents notice, and tell again what they hold."""

from __future__ import annotations

import sqlite3
from datetime import timedelta
from pathlib import Path

import pytest

from helpers import Clock, enrol, make_file, make_standin
from phylax.agent.outbox.spool import Spool
from phylax.agent.runtime.loop import Agent
from phylax.agent.runtime.restore_epoch_keeper import KnownRecords
from phylax.client import Phylax
from phylax.core.backups.restore_epochs import RestoreEpoch, heard, met
from phylax.core.clients.shop import Machine
from phylax.core.hold.holds import HeldPick
from phylax.core.protocol import RestoredMessage
from phylax.core.retention import Rule, Scope
from phylax.service.context.context import Context
from phylax.store.backups import restore_epoch

ONE, OTHER = "1" * 32, "2" * 32


@pytest.mark.parametrize(
    ("known", "now", "lost", "set_back"),
    [
        (None, (ONE, 5), False, False),
        ((ONE, 5), (ONE, 5), False, False),
        ((ONE, 5), (ONE, 9), False, False),
        ((ONE, 9), (ONE, 8), True, True),
        ((ONE, 9), (OTHER, 99), True, False),
    ],
)
def test_younger_records_or_another_life_of_them_are_noticed(
    known: tuple[str, int] | None, now: tuple[str, int], lost: bool, set_back: bool
) -> None:
    known_ = known and RestoreEpoch(name=known[0], come_to=known[1])
    change = met(known_, RestoreEpoch(name=now[0], come_to=now[1]))
    assert (change.lost, change.set_back) == (lost, set_back)
    assert (change.known.name, change.known.come_to) == now


@pytest.mark.parametrize("text", ["", "1;2", ONE, f"{ONE};-1", f"{ONE};{'9' * 19}", f" {ONE};1"])
def test_an_answer_that_says_nothing_of_its_records_changes_nothing(text: str) -> None:
    assert heard(text) is None
    assert heard(RestoreEpoch(name=ONE, come_to=7).said()) == RestoreEpoch(name=ONE, come_to=7)


def test_where_it_cannot_be_noted_the_next_answer_says_so_again(tmp_path: Path) -> None:
    told: list[str] = []

    def full() -> None:
        told.append("x")
        if len(told) == 1:
            raise OSError(28, "no room")

    spool = Spool(tmp_path / "spool")
    known = KnownRecords(tmp_path, spool, full)
    known.hear(RestoreEpoch(name=ONE, come_to=9))
    known.hear(RestoreEpoch(name=ONE, come_to=3))
    assert len(told) == 1 and not len(spool)
    # also by an agent that starts anew
    KnownRecords(tmp_path, spool, full).hear(RestoreEpoch(name=ONE, come_to=4))
    (waiting,) = spool.waiting()
    assert len(told) == 2 and isinstance(waiting.message, RestoredMessage)
    assert (waiting.message.known_event, waiting.message.newest_event) == (9, 4)


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return make_standin(tmp_path / "m")


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, home: Path) -> Agent:
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


def test_what_was_held_since_the_copy_is_known_again_and_can_be_put_back(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, context: Context, clock: Clock,
    tmp_path: Path,
) -> None:  # fmt: skip
    agent.once()
    copy = sqlite3.connect(tmp_path / "copy")
    with sqlite3.connect(context.db.path) as now:
        now.backup(copy)
    lost = make_file(home / ".tmp/letter.txt", 700, days_old=9)
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for=timedelta(days=3)))
    run = owner.runs.clean(machine.tag, ["user-temp"])
    agent.once()
    agent.once()
    assert owner.holds.list(machine.tag)[0].run_id == run.id and not lost.exists()
    with context.db.write() as conn:
        name = restore_epoch.current(conn).name
    copy.backup(context.db._writer)
    assert not owner.holds.list(machine.tag)

    for _ in range(3):
        agent.once()
    (hold,) = owner.holds.list(machine.tag)
    assert hold.run_id is None and hold.held.count == 1
    with context.db.write() as conn:
        assert restore_epoch.current(conn).name != name
    (said,) = [r.text for r in owner.records.list(machine=machine.tag) if "older copy" in r.text]
    assert "What was reported in between is lost" in said
    owner.runs.put_back(machine.tag, [HeldPick(hold_id=hold.id)])
    agent.once()
    assert lost.exists()


def test_an_agent_that_lies_makes_no_new_life_every_time(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, clock: Clock
) -> None:

    def claim(knew: int, came_to: int, number: int) -> str:
        with context.db.write() as conn:
            name = restore_epoch.current(conn).name
        agent._link.report(
            RestoredMessage(
                id=f"set-back-{number}", restore_epoch=name, known_event=knew, newest_event=came_to
            )
        )
        with context.db.write() as conn:
            return restore_epoch.current(conn).name

    first = claim(5, 9, 1)
    assert claim(9, 9, 2) == first  # it is no younger than it was
    second = claim(9, 5, 3)
    assert second != first
    assert claim(9, 5, 4) == second
    clock.now += timedelta(hours=2)
    assert claim(9, 5, 5) != second
