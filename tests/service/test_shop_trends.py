"""Over the shop: what was freed by week, what costs the most, before and after of a change."""

from __future__ import annotations

from datetime import timedelta

import pytest

from helpers import Clock
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.ground.tally import Tally
from phylax.core.protocol import CategoryOutcome, ResultMessage
from phylax.core.retention import Rule, Scope
from phylax.core.runs.runs import RunState
from phylax.core.scheduling.routines import Routine, RoutineEdit, RoutineStep, StepKind
from phylax.service.context.context import Context
from phylax.service.runs import dispatch, ingest
from phylax.store.clients import agents

GIB = 2**30


@pytest.fixture
def machine(machine: Machine, context: Context) -> Machine:
    with context.db.write() as conn:
        conn.execute(
            "INSERT INTO agents VALUES (?, ?, 'standin', '', '', 0)", (machine.id, b"agent")
        )
        agents.seen(conn, machine.id, at=context.now())
    return machine


def clean(
    owner: Phylax, context: Context, machine: Machine, routine: int, freed: dict[str, int]
) -> None:
    """One cleaning by a routine, told by the machine."""
    (run,) = owner.routines.run(routine, [machine.id])
    with context.db.write() as conn:
        order = dispatch.offer(conn, machine.id, at=context.now())
        assert order is not None and order.run_id == run.id
        result = ResultMessage(
            id=f"result-{run.id}-x", run_id=run.id, passes=1,
            started_at=context.clock() - timedelta(minutes=10), ended_at=context.clock(),
            outcomes=tuple(
                CategoryOutcome(category=key, removed=Tally(count=size // 1000, size=size))
                for key, size in freed.items()
            ),
        )  # fmt: skip
        ingest.apply(conn, machine.id, result, at=context.now())
    assert owner.runs.get(run.id).state is RunState.DONE


def weekly(
    owner: Phylax, context: Context, machine: Machine, clock: Clock, routine: int,
    weeks: int, freed: dict[str, int],
) -> None:  # fmt: skip
    for _ in range(weeks):
        clock.pass_(timedelta(days=7))
        clean(owner, context, machine, routine, freed)


@pytest.fixture
def routine(owner: Phylax) -> Routine:
    step = RoutineStep(kind=StepKind.CLEAN, categories=("trash", "web-cache"))
    return owner.routines.add(RoutineEdit(name="Ours", steps=(step,)))


def test_what_was_freed_by_week_and_what_costs_the_most(
    owner: Phylax, context: Context, machine: Machine, clock: Clock, routine: Routine
) -> None:
    weekly(owner, context, machine, clock, routine.id, 3, {"trash": GIB, "web-cache": 2 * GIB})
    clean(owner, context, machine, routine.id, {"trash": GIB})
    trends = owner.trends.shop()
    assert len(trends.weeks) == 26 and {week.monday.weekday() for week in trends.weeks} == {0}
    assert [week.size // GIB for week in trends.weeks[-4:]] == [0, 3, 3, 4]
    assert [(category.category, category.size // GIB) for category in trends.costliest] == [
        ("web-cache", 6), ("trash", 4),
    ]  # fmt: skip
    assert trends.weeks[-2].by_category[0].name == "Browsers' cached pages and pictures"


def test_before_and_after_of_a_rule(
    owner: Phylax, context: Context, machine: Machine, clock: Clock, routine: Routine
) -> None:
    weekly(owner, context, machine, clock, routine.id, 10, {"trash": GIB, "web-cache": GIB})
    owner.rules.put(Scope.MACHINE, machine.id, "trash", Rule(keep_for=timedelta(days=3)))
    (early,) = owner.trends.shop().changes
    assert early.after.days == 0 and early.before.freed_each == GIB
    weekly(owner, context, machine, clock, routine.id, 10, {"trash": 3 * GIB, "web-cache": GIB})
    (effect,) = owner.trends.shop().changes
    assert (effect.what, effect.name, effect.about, effect.who) == (
        "rule", "Trash", machine.tag, "Ines Marrow",
    )  # fmt: skip
    assert "3 days" in effect.now and effect.was != effect.now
    # the week of the change itself counts for neither
    assert (effect.before.cleanings, effect.before.freed_each) == (8, GIB)
    assert (effect.after.cleanings, effect.after.freed_each) == (8, 3 * GIB)


def test_before_and_after_of_a_routine(
    owner: Phylax, context: Context, machine: Machine, clock: Clock, routine: Routine
) -> None:
    weekly(owner, context, machine, clock, routine.id, 4, {"trash": GIB})
    only_trash = RoutineStep(kind=StepKind.CLEAN, categories=("trash",))
    owner.routines.change(routine, RoutineEdit(name="Ours", steps=(only_trash,)))
    weekly(owner, context, machine, clock, routine.id, 2, {"trash": GIB})
    (effect,) = owner.trends.shop().changes
    assert (effect.what, effect.name, effect.about) == ("routine", "Ours", "version 2")
    assert (effect.before.cleanings, effect.after.cleanings) == (4, 2)
    assert effect.before.days == 21 and effect.after.days == 7
