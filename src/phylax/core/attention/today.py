"""How the shop stands, in a sentence and in what is behind it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from phylax.core.attention import Attention, machines_that_need
from phylax.core.ground.quantities import spoken
from phylax.core.ground.values import Moment, Value
from phylax.core.runs.runs import Run
from phylax.core.scheduling.rounds import Round


class Today(Value):
    sentence: str
    shop_needs: str = ""
    """What somebody has to see to that is of no machine: backups."""
    needs_attention: tuple[Attention, ...]
    running: tuple[Run, ...]
    waiting: tuple[Run, ...]
    next_rounds: tuple[Round, ...]
    done: tuple[Run, ...]
    freed: int
    since: Moment


def in_a_sentence(
    attention: Sequence[Attention], coming: Sequence[Round], local_now: datetime
) -> str:
    """How many machines need somebody, how many rounds run in the next 24 hours, and when first.

    `local_now` is the time in the shop's zone, in which the hour is given.
    """
    machines = machines_that_need(attention)
    head = "Nothing needs attention."
    if machines:
        verb = "needs" if machines == 1 else "need"
        head = f"{spoken(machines, 'machine').capitalize()} {verb} attention."
    horizon = local_now + timedelta(hours=24)
    times = [r.next_at for r in coming if r.next_at and not r.paused and r.next_at < horizon]
    if not times:
        return f"{head} No round runs in the next 24 hours."
    first = min(times).astimezone(local_now.tzinfo)
    if len(times) == 1:
        return f"{head} One round runs in the next 24 hours, at {first:%H:%M}."
    rounds = spoken(len(times), "round").capitalize()
    return f"{head} {rounds} run in the next 24 hours, the first at {first:%H:%M}."
