"""Who said not now is not asked again within that time, and is asked after it."""

from __future__ import annotations

from datetime import date, timedelta

import pytest

from helpers import Clock
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.desk.advice import AdviceStatus, AdviceStep
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.service.context.context import Context
from phylax.service.upkeep.advising import propose
from phylax.store.trends import readings

GIB = 2**30


def look(context: Context, machine: Machine, used: int = 97) -> None:
    reading = ReadingIn(mount="C:", capacity=100 * GIB, free=(100 - used) * GIB, at=context.clock())
    with context.db.write() as conn:
        readings.add(conn, machine.id, by_volume([reading]))
        propose(conn, machine.id, at=context.now())


def test_not_now_is_kept_to_and_then_it_comes_up_again(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    look(context, machine)
    (proposed,) = owner.upkeep.advice(machine.tag)
    assert proposed.status is AdviceStatus.PROPOSED
    owner.upkeep.set_status(proposed.id, AdviceStatus.TOLD)
    declined = owner.upkeep.set_status(
        proposed.id, AdviceStatus.DECLINED, "not this year", again_on=date(2026, 6, 1)
    )
    assert declined.again_on == date(2026, 6, 1) and not declined.comes_up(date(2026, 5, 31))
    for _ in range(3):
        clock.pass_(timedelta(days=29))
        look(context, machine)
        (kept,) = owner.upkeep.advice(machine.tag)
        assert (kept.status, kept.comment) == (AdviceStatus.DECLINED, "not this year")
    clock.pass_(timedelta(days=10))
    look(context, machine)
    (again,) = owner.upkeep.advice(machine.tag)
    assert (again.id, again.status, again.again_on) == (proposed.id, AdviceStatus.PROPOSED, None)
    # declined without a day, it never comes up again
    owner.upkeep.set_status(again.id, AdviceStatus.DECLINED)
    clock.pass_(timedelta(days=900))
    look(context, machine)
    assert owner.upkeep.advice(machine.tag)[0].status is AdviceStatus.DECLINED


def test_a_day_is_for_what_was_declined() -> None:
    with pytest.raises(ValueError, match="was declined"):
        AdviceStep(status=AdviceStatus.DONE, again_on=date(2026, 6, 1))
