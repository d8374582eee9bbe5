"""A machine that sends much, or odd things, keeps nobody else waiting."""

from __future__ import annotations

import sqlite3
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from pydantic import ValidationError

from phylax.agent.outbox.sending import Sender
from phylax.agent.outbox.spool import Spool
from phylax.agent.platform.reserve import Reserve
from phylax.client import AgentLink, Phylax, RefusedError, enrol
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.readings import ReadingIn, VolumeReadings
from phylax.core.ground.tally import Tally
from phylax.core.hold.holds import HeldItem
from phylax.core.protocol import (
    CategoryOutcome,
    HeldMessage,
    ReadingsMessage,
    ResultMessage,
    SurveyMessage,
    UnheldMessage,
)
from phylax.core.retention import RuleInForce
from phylax.core.runs.runs import Run, RunState, Work
from phylax.core.survey import AgeDay, SurveyKind, SurveyLine
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.service.limits import quota
from phylax.service.limits.quota import Quota
from phylax.service.runs import ingest, reading_messages
from phylax.service.runs.reading_messages import MESSAGE
from phylax.store.runs import holds, runs
from phylax.store.trends import outlooks

NOW = datetime(2026, 3, 2, 9, 0, tzinfo=UTC)
FACTS = MachineFacts(
    system="linux", host="\x1b]0;owner\x07the boss", agent_version="1", kind="standin"
)


def readings(number: int, volumes: int = 1) -> ReadingsMessage:
    series = VolumeReadings(mount="/", capacity=9, free=(1,) * number, at=tuple(range(number)))
    return ReadingsMessage(id="m" * 9, volumes=(series,) * volumes)


def test_one_message_holds_no_more_than_is_written_in_a_moment() -> None:
    assert readings(2000, 5)
    with pytest.raises(ValidationError, match="10000 readings"):
        readings(2001, 5)


def test_who_sends_without_an_end_is_told_to_wait_and_nobody_else(
    owner: Phylax, machine: Machine, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(quota, "MOST_MESSAGES", 5)
    code = owner.machines.enrolment_code(machine.id).code
    link = AgentLink(owner.url, enrol(owner.url, code, FACTS).key)
    for number in range(5):
        link.report(readings(1).model_copy(update={"id": f"message-{number}"}))
    with pytest.raises(RefusedError, match="goes on in") as refused:
        link.report(readings(1))
    assert refused.value.status == 429
    each = Quota()
    assert each.take(1, quota.MOST_BYTES) == 0 and each.take(1, 1000) > 0
    assert each.take(2, 1000) == 0


def test_a_machine_does_not_choose_the_name_it_acts_under(owner: Phylax, machine: Machine) -> None:
    code = owner.machines.enrolment_code(machine.id).code
    enrol(owner.url, code, FACTS)
    action = next(action for action in owner.people.audit() if action.action == "enrol agent")
    assert action.who == "agent on ferry-desk" and action.subject.isprintable()
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if "enrolled" in e.text]
    assert entry.who == "agent on ferry-desk"


class Refusing:
    """A link whose other side says 400: the service, or a proxy before it."""

    def __init__(self, kind: str) -> None:
        self._kind = kind

    def report(self, message: object, *, age: float | None = None) -> None:
        raise RefusedError(400, self._kind, "no", {})


def test_what_a_proxy_refuses_is_kept_and_what_the_service_never_takes_is_put_aside(
    tmp_path: Path,
) -> None:
    spool = Spool(tmp_path / "spool", Reserve(tmp_path / "reserve"))
    spool.put(readings(1))
    with pytest.raises(RefusedError):
        Sender(Refusing(""), spool).send_spooled()  # type: ignore[arg-type]
    assert len(list(spool.waiting())) == 1
    Sender(Refusing("too-deep"), spool).send_spooled()  # type: ignore[arg-type]
    assert list(spool.waiting()) == []


# --- numbers that cannot be -----------------------------------------------------------------------

MOST = 2**53 - 1
RULE = RuleInForce(off=False, keep_for=timedelta(days=2))
BATCH = "12.system-temp.0123456789abcdef"


def cleaned(
    run: Run, number: int, removed: Tally, at: datetime, *, free: int = 2**60
) -> ResultMessage:
    outcome = CategoryOutcome(category="system-temp", removed=removed)
    before, after = (ReadingIn(mount="/", capacity=2**60, free=free, at=at) for free in (0, free))
    return ResultMessage(
        id=f"result-{number}", run_id=run.id, started_at=at, ended_at=at,
        outcomes=(outcome,) * 3000, before=(before,), after=(after,),
    )  # fmt: skip


def held(run: Run, first: int) -> HeldMessage:
    things = (HeldItem(number=first + n, place="/tmp", path="x", size=2**62) for n in range(9))
    return HeldMessage(
        id=f"held-{first}-{run.id}", run_id=run.id, batch=f"{BATCH}{first:06d}",
        category="system-temp", mount="/", held_at=NOW, expires_at=NOW + timedelta(days=9),
        items=tuple(things),
    )  # fmt: skip


def survey(run: Run, number: int, ages: tuple[AgeDay, ...] = ()) -> SurveyMessage:
    lines = (
        SurveyLine(
            category=category, mount="/", rule=RULE, total=Tally(count=2**70, size=2**70),
            removable=Tally(count=1, size=2**70), ages=ages, digest="x",
        )
        for category in ("system-temp", "trash", "downloads")
    )  # fmt: skip
    return SurveyMessage(
        id=f"survey-{number}", run_id=run.id, survey_kind=SurveyKind.FIRST, started_at=NOW,
        ended_at=NOW,
        lines=tuple(lines),
    )  # fmt: skip


def test_numbers_that_cannot_be_harm_nobody_else(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    """What the shop adds up over machines still comes out, and honest machines are taken in."""
    honest = owner.machines.add(
        MachineEdit(tag="honest", client_id=machine.client_id, system="linux")
    )
    full = tuple(AgeDay(day=day, count=MOST, size=MOST) for day in range(800))
    with context.db.write() as conn:
        for number in range(4):
            run = owner_run(conn, machine, "clean")
            for message in (
                survey(run, number, full),
                held(run, 1 + 100 * number),
                cleaned(run, number, Tally(count=2**62, size=2**62), NOW),
            ):
                ingest.apply(conn, machine.id, message, at=context.now())
        run = owner_run(conn, honest, "clean")
        removed = cleaned(run, 99, Tally(count=1, size=5), NOW, free=9)
        ingest.apply(conn, honest.id, removed, at=context.now())
    monitor.whole(context)
    assert owner.runs.get(run.id).state is RunState.DONE
    assert owner.today()
    assert {item.machine_tag for item in owner.attention.list()} == {"honest"}
    assert owner.trends.shop()
    assert list(owner.holds.list(machine.tag))
    assert owner.machines.retirement(machine.tag).held.size == MOST
    assert owner.machines.ledger(machine.tag).removable.size == MOST


def test_a_cleaning_counts_once_however_often_its_end_is_told(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    with context.db.write() as conn:
        run = owner_run(conn, machine, "clean")
        for number in range(3):
            told = cleaned(run, number, Tally(count=1, size=1), NOW)
            ingest.apply(conn, machine.id, told, at=context.now())
        row = conn.execute("SELECT runs, items FROM shop_weeks").fetchone()
    assert tuple(row) == (1, 3000)


@pytest.mark.parametrize("size", [2**53, 2**63, 2**80, -(2**53)])
def test_days_beyond_what_can_be_are_refused(size: int) -> None:
    with pytest.raises(ValidationError):
        AgeDay(day=0, count=1, size=size)


# --- heavy messages -------------------------------------------------------------------------------


def owner_run(conn: sqlite3.Connection, machine: Machine, work: Work) -> Run:
    number = runs.add(conn, runs.Waiting(machine.id, work, ("system-temp",), "Ines"), at=0)
    assert number is not None
    made = runs.run(conn, number)
    assert made is not None
    return made


def test_a_large_message_is_read_in_pieces_to_the_same(
    owner: Phylax, machine: Machine, context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    with context.db.write() as conn:
        run = owner_run(conn, machine, "survey")
    ages = tuple(AgeDay(day=day, count=1, size=day) for day in range(800))
    message = survey(run, 1, ages)
    body = message.model_dump_json().encode()
    monkeypatch.setattr(reading_messages, "_IN_ONE_STEP", 10)
    pieces = []
    validate = SurveyLine.model_validate
    monkeypatch.setattr(SurveyLine, "model_validate", lambda p: pieces.append(p) or validate(p))
    assert reading_messages.read(body) == message == MESSAGE.validate_json(body)
    assert len(pieces) == 3
    for wrong in (
        body.replace(b'"day":7,', b'"day":"seven",', 1),
        body.replace(b'"kind":"survey"', b'"kind":"surway"'),
        body.replace(b'"lines":[', b'"lines":[5,'),
        body.replace(b'"lines":[', b'"lines":{"a":1},"more":['),
        body[:-1],
        b"[]" + b" " * 20,
    ):
        with pytest.raises(ValidationError) as in_pieces:
            reading_messages.read(wrong)
        with pytest.raises(ValidationError) as at_once:
            MESSAGE.validate_json(wrong)
        for piecewise, whole in zip(in_pieces.value.errors(), at_once.value.errors(), strict=False):
            assert (piecewise["loc"], piecewise["type"]) == (whole["loc"], whole["type"])


def test_nobody_waits_for_the_file_while_a_survey_is_made_ready(
    owner: Phylax, machine: Machine, context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    code = owner.machines.enrolment_code(machine.id).code
    link = AgentLink(owner.url, enrol(owner.url, code, FACTS).key)
    run = owner.runs.survey(machine.tag)
    make, wrote = reading_messages.prepared, []

    def while_others_write(message: SurveyMessage) -> reading_messages.Prepared:
        other = threading.Thread(
            target=lambda: wrote.append(owner.records.add_note(machine.id, "x"))
        )
        other.start()
        other.join(timeout=60)
        return make(message)

    monkeypatch.setattr(reading_messages, "prepared", while_others_write)
    link.report(survey(run, 1))
    assert wrote
    assert len(list(owner.machines.surveys(machine.tag))) == 1


def test_what_is_held_no_longer_is_written_in_steps_and_each_number_once(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    with context.db.write() as conn:
        run = owner_run(conn, machine, "clean")
        things = tuple(HeldItem(number=n, place="/tmp", path="x", size=n) for n in range(1, 41))
        told = held(run, 1).model_copy(update={"items": things})
        ingest.apply(conn, machine.id, told, at=context.now())
        gone = UnheldMessage(
            id="gone-message", batch=told.batch, status="gone", at=NOW,
            numbers=((5, 2**60), (3, 3), (1, 7), (3, 20), (39, 39), (9, 8)),
        )  # fmt: skip
        steps, begin = [], 0
        while begin is not None:
            steps.append(begin)
            begin = holds.end(conn, machine.id, gone, begin=begin, most=7)
        (hold,) = holds.of_machine(conn, machine.id, also_ended=True, limit=9)
    assert (hold.held.count, hold.deleted.count, hold.deleted.size) == (0, 40, sum(range(1, 41)))
    assert steps == [0, 8, 15, 22, 29, 36]


def test_a_stop_between_two_steps_leaves_the_rest_to_the_next_try(
    owner: Phylax, machine: Machine, context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    code = owner.machines.enrolment_code(machine.id).code
    link = AgentLink(owner.url, enrol(owner.url, code, FACTS).key)
    with context.db.write() as conn:
        run = owner_run(conn, machine, "clean")
    told = held(run, 1)
    link.report(told)
    gone = UnheldMessage(
        id="gone-message", batch=told.batch, status="gone", at=NOW, numbers=((1, 9),)
    )
    whole = holds.end

    def only_some(conn: sqlite3.Connection, *args: object, begin: int, **more: int) -> int | None:
        if begin:
            raise sqlite3.OperationalError("disk I/O error")
        return whole(conn, *args, begin=begin, most=4)  # type: ignore[arg-type]

    monkeypatch.setattr(holds, "end", only_some)
    with pytest.raises(RefusedError):
        link.report(gone)
    (hold,) = owner.holds.list(machine.tag)
    assert (hold.held.count, hold.deleted.count) == (5, 4)
    monkeypatch.setattr(holds, "end", whole)
    link.report(gone)
    link.report(gone)
    with context.db.read() as conn:
        (hold,) = holds.of_machine(conn, machine.id, also_ended=True, limit=9)
    assert (hold.held.count, hold.deleted.count) == (0, 9)


def test_what_an_earlier_version_took_in_breaks_no_sum_either(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    """Sizes that nothing bounded then lie in the file."""
    honest = owner.machines.add(
        MachineEdit(tag="honest", client_id=machine.client_id, system="linux")
    )
    week = outlooks.week_of(int(NOW.timestamp()))
    with context.db.write() as conn:
        for _ in range(3):
            run = owner_run(conn, machine, "clean")
            ingest.apply(conn, machine.id, held(run, 1 + 100 * run.id), at=context.now())
        # what needs somebody there is looked at together with the others
        own = cleaned(run, 6, Tally(count=1, size=5), NOW, free=9)
        ingest.apply(conn, machine.id, own, at=context.now())
        conn.execute("UPDATE holds SET held_size = 1 << 62")
        conn.execute("UPDATE shop_weeks SET size = ? WHERE week = ?", (2**63 - 10, week))
        run = owner_run(conn, honest, "clean")
        told = cleaned(run, 7, Tally(count=1, size=5), NOW, free=9)
        ingest.apply(conn, honest.id, told, at=context.now())
    monitor.whole(context)
    assert owner.runs.get(run.id).state is RunState.DONE
    assert {item.machine_tag for item in owner.attention.list()} == {"honest", "ferry-desk"}
    assert owner.machines.retirement(machine.tag).held.count == 27
