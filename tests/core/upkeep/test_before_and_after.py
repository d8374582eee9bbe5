"""A machine before and after, advice by its figures, and how far long work is."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.agent.outbox.long_work import LongWork
from phylax.core.checks.findings import Finding, Severity, looked
from phylax.core.checks.kept import StoredCheck, uncovered
from phylax.core.checks.time_left import Ran
from phylax.core.clients.shop import Volume
from phylax.core.desk.advice import AdviceKind, proposals
from phylax.core.ground.readings import ReadingIn
from phylax.core.inventory import HardwareListed
from phylax.core.inventory.hardware import MemorySlot
from phylax.core.protocol import Progress
from phylax.core.protocol.snapshots import (
    Snapshot,
    StartsByItself,
    compared,
    comparison_in_words,
)
from phylax.core.scheduling.routines import RoutineStep, StepKind, in_order, shipped
from phylax.core.tuning.programs import Intent

NOW = datetime(2026, 3, 2, 9, tzinfo=UTC)
GIB = 2**30


def snapshot(boot: str = "one", **what: object) -> Snapshot:
    return Snapshot.model_validate({"taken_at": NOW, "boot": boot, **what})


def starts(key: str, intent: Intent) -> StartsByItself:
    return StartsByItself(key=key, name=key.capitalize(), intent=intent)


def test_nothing_is_otherwise_and_nobody_looked() -> None:
    assert compared(1, snapshot(), None).after is None
    assert comparison_in_words(compared(1, snapshot(), None)) == "not looked at afterwards"
    same = compared(1, snapshot(usable=30.0, failed=()), snapshot(usable=90.0, failed=()))
    assert same.differences == () and not same.restarted, "the same start says nothing anew"


def test_what_is_otherwise_is_said_and_what_is_worse_comes_first() -> None:
    reading = ReadingIn(mount="C:", capacity=100 * GIB, free=10 * GIB, at=NOW)
    before = snapshot(
        usable=60.0, failed=("old.service",), volumes=(reading,),
        programs=(starts("bar", Intent.AT_START), starts("gone", Intent.AT_START)),
    )  # fmt: skip
    after = snapshot(
        "two", usable=30.0, failed=("new.service",),
        volumes=(reading.model_copy(update={"free": 30 * GIB}),),
        programs=(starts("bar", Intent.ON_DEMAND), starts("new", Intent.AT_START)),
    )  # fmt: skip
    comparison = compared(1, before, after)
    assert comparison.restarted
    said = {d.what: (d.before, d.after, d.worse) for d in comparison.differences}
    assert said["Until it can be used"] == ("60 s", "30 s", False)
    assert said["Bar"] == ("at start", "on demand", False)
    assert said["New"] == ("not there", "runs at start", True)
    assert said["Gone"] == ("ran at start", "not there", False)
    assert said["Free on C:"] == ("10.0 GiB", "30.0 GiB", False)
    assert said["Parts that failed to start"][2] is True
    assert said["Parts that failed to start before"][1] == "they start"
    worse = [d.worse for d in comparison.differences]
    assert worse == sorted(worse, reverse=True)


def test_what_could_not_be_read_is_no_difference() -> None:
    before = snapshot(programs=(starts("bar", Intent.AT_START),), failed=("x",))
    after = snapshot("two", programs_unread="no right", failed=None)
    assert compared(1, before, after).differences == ()


# --- advice ----------------------------------------------------------------------------------


def volume(mount: str, used: float, capacity: int = 900, disk: str = "ssd") -> Volume:
    free = round(capacity * GIB * (1 - used))
    return Volume.model_validate(
        {"id": 1, "mount": mount, "capacity": capacity * GIB, "free": free, "disk": disk}
    )


def kinds(*volumes: Volume, can_go: int = 0, hardware: HardwareListed | None = None) -> list[str]:
    return [p.kind for p in proposals(volumes, (), hardware, can_go)]


def test_a_volume_that_cleaning_does_not_help() -> None:
    assert kinds(volume("C:", 0.94), can_go=7 * GIB) == [AdviceKind.LARGER_DISK]
    assert kinds(volume("C:", 0.94), can_go=90 * GIB) == []
    assert kinds(volume("C:", 0.94), volume("D:", 0.1)) == [AdviceKind.OTHER_VOLUME]
    assert kinds(volume("C:", 0.5)) == []
    assert kinds(volume("C:", 0.0, capacity=0)) == []


def test_memory_by_what_fits_and_who_waited() -> None:
    slots = (MemorySlot(place="Slot 1", size=4 * GIB, kind="DDR4"), MemorySlot(place="Slot 2"))
    little = HardwareListed(
        taken_at=NOW, make="Haldane", model="Tower 200", memory=4 * GIB, most_memory=16 * GIB,
        slots=slots, pressed=21.0,
    )  # fmt: skip
    (proposal,) = proposals([volume("C:", 0.5)], (), little, 0)
    assert proposal.kind is AdviceKind.MEMORY
    figures = {figure.name: figure.value for figure in proposal.figures}
    assert figures["Make and model"] == "Haldane Tower 200" and figures["Fits"] == "16.0 GiB"
    assert figures["Slot 1"] == "4.0 GiB DDR4" and figures["Slot 2"] == "empty"
    full = little.model_copy(update={"most_memory": 4 * GIB})
    assert proposals([volume("C:", 0.5)], (), full, 0) == [], "nothing more fits"
    roomy = little.model_copy(update={"memory": 16 * GIB, "pressed": 0.0})
    assert proposals([volume("C:", 0.5)], (), roomy, 0) == []
    spinning = [volume("C:", 0.5, disk="spinning")]
    assert [p.kind for p in proposals(spinning, (), roomy, 0)] == [AdviceKind.SOLID_STATE]


# --- what a later check covers ---------------------------------------------------------------


def kept(number: int, mode: str, minutes: int, of: str = "") -> StoredCheck:
    at = NOW + timedelta(minutes=minutes)
    findings = [Finding(severity=Severity.WARNING, what="Malware")]
    checked = looked("malware", of, at, findings, mode=mode)
    checked = checked.model_copy(update={"ended_at": at + timedelta(minutes=1)})
    return StoredCheck(id=number, machine_id=1, run_id=number, checked=checked)


def test_a_full_scan_covers_the_quick_one_before_it_and_not_the_other_way_round() -> None:
    quick, full = kept(1, "quick", 0), kept(2, "full", 10)
    assert [check.id for check in uncovered([quick, full])] == [2]
    later = kept(3, "quick", 30)
    assert {check.id for check in uncovered([later, full])} == {2, 3}
    assert {check.id for check in uncovered([quick])} == {1}


# --- how far long work is --------------------------------------------------------------------


class Listener:
    def __init__(self) -> None:
        self.told: list[Progress] = []

    def check(self) -> None:
        """Nobody ends it."""

    def tell(self, progress: Progress) -> None:
        self.told.append(progress)


@given(st.lists(st.tuples(st.integers(0, 500), st.integers(0, 500)), max_size=60))
def test_progress_never_goes_back(calls: list[tuple[int, int]]) -> None:
    listener = Listener()
    work = LongWork(listener, "check", "malware", [Ran(100, 10.0)])
    for done, of in calls:
        work._told = 0.0
        work(done, of)
    shares = [p.items / p.total_items for p in listener.told if p.total_items]
    assert shares == sorted(shares)
    assert all(p.seconds_left is None or p.seconds_left >= 0 for p in listener.told)


def test_what_was_learnt_is_said_before_anything_is_counted() -> None:
    listener = Listener()
    LongWork(listener, "act", "install-updates", [Ran(0, 120.0)])()
    assert listener.told[0].seconds_left == 120


# --- the order -------------------------------------------------------------------------------

ORDER = (
    StepKind.SURVEY, StepKind.CHECK, StepKind.QUICK_SCAN, StepKind.CLEAN, StepKind.SECOND_LOOK,
    StepKind.FULL_SCAN, StepKind.UPDATE, StepKind.TUNE, StepKind.ARRANGE, StepKind.RESTART,
    StepKind.COMPARE,
)  # fmt: skip


@given(st.permutations(ORDER))
def test_every_wrong_order_is_put_right_and_said(kinds: list[StepKind]) -> None:
    steps = [
        RoutineStep(kind=kind, categories=("trash",) if kind is StepKind.CLEAN else ())
        for kind in kinds
    ]
    ordered = in_order(steps)
    assert tuple(step.kind for step in ordered.steps) == ORDER
    assert bool(ordered.put_right) == (tuple(kinds) != ORDER)


def test_a_comparison_needs_a_look_before() -> None:
    ordered = in_order([RoutineStep(kind=StepKind.COMPARE)])
    assert [step.kind for step in ordered.steps] == [StepKind.SURVEY, StepKind.COMPARE]


@pytest.mark.parametrize("key", ["thorough-monthly", "before-hand-over"])
def test_what_is_shipped_does_all_that_a_good_technician_does(key: str) -> None:
    kinds = {step.kind for step in shipped()[key].steps}
    missing = set(ORDER) - kinds
    assert missing <= ({StepKind.RESTART} if key == "thorough-monthly" else set())
