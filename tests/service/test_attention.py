"""What needs somebody: found by itself, taken on, put off, settled, and back when it gets worse."""

from __future__ import annotations

import os
import threading
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from conftest import Service
from helpers import Clock, enrol, make_file, make_standin, needs_attention
from phylax.client import ChangedMeanwhileError, Phylax, RefusedError
from phylax.core.attention import Attention, Cause, Finding, Handling, MachineCondition
from phylax.core.clients.shop import Machine
from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.ground.tally import Tally
from phylax.core.protocol import Awake, ReadingsMessage, SurveyMessage
from phylax.core.survey import SurveyKind
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.service.runs import ingest
from phylax.store.clients import agents
from phylax.store.trends import readings

GIB = 2**30


def tell(
    context: Context, machine: Machine, used: float, at: datetime | None = None, mount: str = "/"
) -> None:
    """A volume of 100 GiB was read."""
    reading = ReadingIn(
        mount=mount, capacity=100 * GIB, free=int((100 - used) * GIB), at=at or context.clock()
    )
    with context.db.write() as conn:
        readings.add(conn, machine.id, by_volume([reading]))


def test_taken_on_put_off_settled_and_back_when_it_gets_worse(
    owner: Phylax, service: Service, context: Context, machine: Machine, clock: Clock
) -> None:
    tell(context, machine, 91)
    (item,) = needs_attention(context, owner)
    assert (item.cause, item.handling) == (Cause.NEARLY_FULL, Handling.OPEN)
    with service.as_("wren") as wren:
        taken = wren.attention.take_on(item)
        assert (taken.handling, taken.taken_by) == (Handling.TAKEN, "Wren Halloran")
    with pytest.raises(ChangedMeanwhileError):
        owner.attention.take_on(item)
    put_off = owner.attention.put_off(taken, clock.now + timedelta(days=7))
    assert put_off.handling is Handling.PUT_OFF and needs_attention(context, owner) == []
    assert "Nothing needs attention." in owner.today().sentence
    assert [item.id for item in owner.attention.list(also_handled=True)] == [item.id]
    clock.pass_(timedelta(days=8))
    (back,) = needs_attention(context, owner)
    settled = owner.attention.settle(back, "a larger disk is ordered")
    assert settled.handling is Handling.SETTLED
    assert "larger disk is ordered" in next(owner.records.list(machine=machine.tag)).text
    tell(context, machine, 92)
    assert needs_attention(context, owner) == []
    tell(context, machine, 94)
    (worse,) = needs_attention(context, owner)
    assert (worse.id, worse.handling) == (item.id, Handling.TAKEN)


def test_what_is_over_ends_and_what_comes_and_goes_is_one(
    owner: Phylax, context: Context, machine: Machine, clock: Clock
) -> None:
    ids = set()
    for _ in range(4):
        tell(context, machine, 91)
        (item,) = needs_attention(context, owner)
        ids.add(item.id)
        clock.pass_(timedelta(hours=1))
        tell(context, machine, 80)
        gone = needs_attention(context, owner)
        clock.pass_(timedelta(hours=1))
    assert len(ids) == 1 and item.comes_and_goes
    # it went a third time, and stays named until it has been away for a day
    assert [item.id for item in gone] == [item.id]
    clock.pass_(timedelta(days=2))
    assert needs_attention(context, owner) == []


def test_what_happens_while_the_watch_looks_is_not_written_over(
    owner: Phylax, context: Context, machine: Machine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another turn, and a person who settles it, both between the survey and its being noted."""
    tell(context, machine, 96)
    look, alone = monitor.look, threading.Event()

    def look_with_company(standing: MachineCondition) -> list[Finding]:
        findings = list(look(standing))
        if threading.current_thread() is threading.main_thread() and not alone.is_set():
            alone.set()
            monitor.whole(context)
            (item,) = owner.attention.list()
            owner.attention.settle(item, "a larger disk is ordered")
        return findings

    monkeypatch.setattr(monitor, "look", look_with_company)
    monitor.whole(context)
    assert alone.is_set() and list(owner.attention.list()) == []
    (kept,) = owner.attention.list(also_handled=True)
    assert kept.handling is Handling.SETTLED


def test_bad_wishes_are_refused_with_what_is_allowed(
    owner: Phylax, context: Context, machine: Machine, clock: Clock
) -> None:
    tell(context, machine, 91)
    (item,) = needs_attention(context, owner)
    with pytest.raises(RefusedError, match="within a year"):
        owner.attention.put_off(item, clock.now - timedelta(days=1))
    with pytest.raises(ValueError, match="how it was settled"):
        owner.attention.settle(item, "  ")
    with pytest.raises(RefusedError):
        owner.attention.get(999)


def test_a_service_that_was_away_calls_no_machine_silent(
    owner: Phylax, context: Context, machine: Machine, clock: Clock
) -> None:
    with context.db.write() as conn:
        facts = MachineFacts(system="linux", host="h", agent_version="0.1.0", kind="linux")
        agents.enrol(conn, machine.id, b"key", facts, at=0)
        agents.seen(conn, machine.id, at=context.now())
    began = context.now()
    clock.pass_(timedelta(days=9))
    with context.db.write() as conn:
        conn.execute("INSERT INTO outages VALUES (?, ?)", (began, context.now() - 3600))
    assert needs_attention(context, owner) == []
    clock.pass_(timedelta(days=7))
    (silent,) = needs_attention(context, owner)
    assert silent.cause is Cause.SILENT


def test_a_clock_that_is_wrong_is_named_and_its_readings_stand_where_they_belong(
    owner: Phylax, context: Context, machine: Machine, clock: Clock
) -> None:
    ahead = timedelta(days=3)
    with context.db.write() as conn:
        for hour in range(3):
            at = clock.now + ahead
            message = ReadingsMessage(
                id=f"reading-{hour}",
                readings=(ReadingIn(mount="/", capacity=100, free=50 + hour, at=at),),
                awake=Awake(at=at, since=at),
            )
            ingest.apply(conn, machine.id, message, at=context.now() + 60, age=60.0)
            clock.pass_(timedelta(hours=1))
    points = owner.machines.readings(machine.tag, by="hour")
    assert [point.free for point in points] == [50, 51, 52]
    assert all(point.at <= clock.now for point in points)
    monitor.whole(context)
    (wrong,) = owner.attention.list()
    assert wrong.cause is Cause.CLOCK_WRONG and "ahead" in wrong.reason
    assert owner.machines.get(machine.tag).clock_off == int(ahead.total_seconds())
    # and a set clock ends it
    with context.db.write() as conn:
        message = ReadingsMessage(
            id="reading-right", readings=(), awake=Awake(at=clock.now, since=clock.now)
        )
        ingest.apply(conn, machine.id, message, at=context.now(), age=0.0)
    assert owner.machines.get(machine.tag).clock_off == 0


def test_a_clock_that_the_agent_does_not_trust_needs_a_person_until_it_does(
    owner: Phylax, context: Context, machine: Machine, clock: Clock
) -> None:
    def told(doubt: str) -> list[Attention]:
        with context.db.write() as conn:
            awake = Awake(at=clock.now, since=clock.now, clock_doubt=doubt)
            message = ReadingsMessage(id=f"reading-{clock.now}", awake=awake)
            ingest.apply(conn, machine.id, message, at=context.now(), age=0.0)
        clock.pass_(timedelta(hours=1))
        return needs_attention(context, owner)

    assert told("") == []
    (doubted,) = told("its clock is 900 s behind what it was")
    assert doubted.cause is Cause.CLOCK_DOUBTED and "900 s" in doubted.evidence
    (same,) = told("its clock is 903 s behind what it was")
    assert (same.id, same.since) == (doubted.id, doubted.since)
    assert told("") == []


def test_what_attributes_alone_keep_young_needs_a_person_at_the_second_look(
    owner: Phylax, context: Context, machine: Machine, clock: Clock, tmp_path: Path
) -> None:
    home = make_standin(tmp_path / "m")
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    make_file(home / ".tmp/x", 1000)
    run = owner.runs.survey(machine.tag)
    agent.once()
    lines = next(owner.machines.surveys(machine.tag)).lines
    # a pretended machine has ages of its own; a real one may have this line
    young = {"young_by_attributes": Tally(count=1, size=1000)}
    lines = tuple(
        line.model_copy(update=young) if line.category == "user-temp" else line for line in lines
    )
    for day in range(3):
        at = clock.now + timedelta(days=day)
        message = SurveyMessage(
            id=f"survey-of-{day}", run_id=run.id, survey_kind=SurveyKind.FIRST, started_at=at,
            ended_at=at,
            lines=lines,
        )  # fmt: skip
        with context.db.write() as conn:
            ingest.apply(conn, machine.id, message, at=context.now())
        needs = [item for item in needs_attention(context, owner) if item.cause is Cause.KEPT_YOUNG]
        assert len(needs) == (1 if day else 0)
    assert needs[0].volume_mount == "/" and "nightly script" in needs[0].evidence


def test_what_grew_is_named_when_a_volume_fills_faster(
    owner: Phylax, context: Context, machine: Machine, clock: Clock, tmp_path: Path
) -> None:
    """Two real looks at a pretended machine, a folder that grows between them."""
    home = make_standin(tmp_path / "m")
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    make_file(home / "Downloads/old", 1000)
    began = clock.now
    for day in range(60):
        tell(context, machine, 40 + day * 0.01, began - timedelta(days=60 - day), "/data")
    owner.runs.survey(machine.tag)
    agent.once()
    os.truncate(make_file(home / "Downloads/films"), 30 * GIB)
    for day in range(14):
        tell(context, machine, 41 + 2.0 * day, began + timedelta(days=day, hours=2), "/data")
    clock.pass_(timedelta(days=14))
    owner.runs.survey(machine.tag)
    agent.once()
    causes = {one.cause: one for one in needs_attention(context, owner)}
    faster = causes[Cause.FILLING_FAST]
    assert "Download folders by 30.0 GiB" in faster.evidence
    (outlook, *_) = [one for one in owner.machines.outlooks(machine.tag) if one.changed]
    assert outlook.advice is not None and "Download folders" in outlook.advice.text
