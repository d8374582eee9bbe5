"""Trials: whether a change helped, from what starts cost before and after it.

What a start costs is told apart: what is attributable to the programs that were changed, and the
rest. A start that is odd as a whole (a cold disk, a busy hour) makes both dearer, so it is the
share that is judged. And the rest must not have risen by as much as was saved, or another program
took over the work: the rest is compared after each start's own dearness is taken out, as most of
its programs show it. It is judged at fixed looks only: looking after each start finds something
where there is nothing.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from enum import StrEnum
from statistics import median
from typing import Annotated

from pydantic import Field

from phylax.core.ground.values import Moment, Value
from phylax.core.tuning.ranks import lower, shift

LOOKS = (5, 10, 20)
"""Starts after the change at which a trial is judged."""
CHANCE = (0.010, 0.020, 0.020)
"""The chance of a false alarm at each survey; together at most 5 %."""
MOVED = 0.01
"""The chance, at each survey, with which a saving that went elsewhere is taken for one."""
ALONE = 0.2
"""A program that moved from the others by more than so much (as a logarithm: a fifth) moved by
itself."""
LEAST_OTHERS = 3
"""So many other programs tell how dear a start was as a whole; fewer do not."""
TREND = 0.6
"""Of the slopes before a change the one that counts as the trend; a half is the middle one."""
BASELINE = 20
"""So many starts before the change are compared with, the newest."""
LEAST_BASELINE = 5
HELD_BACK = 2
"""The newest starts before the change are left out: a trial begun because of slow starts would
otherwise help by itself."""


class LeftOut(StrEnum):
    """Why a start says nothing about a change."""

    WAITED = "waited for a password"
    AFTER_UPDATES = "after updates"
    RESUMED = "resumed, not started"
    ON_BATTERY = "on battery"


class Start(Value):
    """What one start of a machine cost."""

    boot: Annotated[str, Field(max_length=80)] = Field(description="The system's name of the start")
    at: Moment
    own: float | None = Field(
        None, ge=0, description="Attributable to what was changed; none: nothing can be attributed"
    )
    rest: float = Field(ge=0, description="All else, in the same unit")
    others: dict[str, float] = Field(
        default_factory=dict, description="Of the rest, what is attributable to each program"
    )
    left_out: LeftOut | None = None

    @property
    def total(self) -> float:
        return self.rest + (self.own or 0.0)


class Outcome(StrEnum):
    HELPED = "helped"
    WORSE = "made it worse"
    OPEN = "cannot be told yet"


class Judged(Value):
    """What a trial came to at its last survey."""

    outcome: Outcome
    judged_after: int = Field(0, description="After how many starts it was judged; 0: not yet")
    next_judged_after: int | None = Field(None, description="After how many it is judged again")
    starts: int = Field(0, description="Starts since the change that count")
    least: float | None = Field(None, description="Change of the total, as a share: -0.2 is less")
    likely: float | None = None
    most: float | None = None
    own_before: float | None = Field(
        None, description="What was changed took so much of a start, in the middle"
    )
    own_after: float | None = None


def judge(before: Sequence[Start], after: Sequence[Start]) -> Judged:
    """What a change did on one machine; starts in the order of time, oldest first."""
    base = [start for start in before if start.left_out is None][:-HELD_BACK][-BASELINE:]
    counted = [start for start in after if start.left_out is None]
    if len(base) < LEAST_BASELINE:
        return Judged(outcome=Outcome.OPEN, starts=len(counted), next_judged_after=LOOKS[0])
    judged = Judged(outcome=Outcome.OPEN, starts=len(counted), next_judged_after=LOOKS[0])
    for place, (look, chance) in enumerate(zip(LOOKS, CHANCE, strict=True)):
        if len(counted) < look:
            break
        outcome = _outcome(base, counted[:look], chance)
        least, likely, most = _totals(base, counted[:look])
        following = LOOKS[place + 1] if place + 1 < len(LOOKS) else None
        judged = Judged(
            outcome=outcome,
            judged_after=look,
            next_judged_after=None if outcome is not Outcome.OPEN else following,
            starts=len(counted),
            least=least,
            likely=likely,
            most=most,
            own_before=_own(base),
            own_after=_own(counted[:look]),
        )
        if outcome is not Outcome.OPEN:
            break
    return judged


def _without_trend(
    before: Sequence[float], after: Sequence[float]
) -> tuple[list[float], list[float]]:
    """Logarithms of costs less what a machine that gets dearer from start to start would cost
    anyway: the middle slope from the first half of the starts before to their second half, and
    more than that, as far as it may be by chance. Starts that get cheaper are left as they are."""
    half = len(before) // 2
    slopes = sorted(
        (late - early) / (half + there - here)
        for here, early in enumerate(before[:half])
        for there, late in enumerate(before[half:])
    )
    slope = max(0.0, slopes[int(len(slopes) * TREND)])
    return (
        [cost - slope * place for place, cost in enumerate(before)],
        [cost - slope * (len(before) + HELD_BACK + place) for place, cost in enumerate(after)],
    )


def _own(starts: Sequence[Start]) -> float | None:
    costs = [start.own for start in starts if start.own is not None]
    return median(costs) if costs else None


def _outcome(base: Sequence[Start], after: Sequence[Start], chance: float) -> Outcome:
    totals = _logs([s.total for s in base]), _logs([s.total for s in after])
    gets_dearer = max(lower(totals[0], totals[1]), lower(*_without_trend(*totals)))
    if any(start.own is None for start in (*base, *after)):
        if lower(totals[1], totals[0]) <= chance:
            return Outcome.HELPED
        return Outcome.WORSE if gets_dearer <= chance else Outcome.OPEN
    own = _logs([s.own or 0.0 for s in base]), _logs([s.own or 0.0 for s in after])
    share = _shares(base), _shares(after)
    # both: the cost itself, and its share, which a dearer or cheaper start leaves as it is
    if max(lower(own[1], own[0]), lower(share[1], share[0])) <= chance:
        if gets_dearer <= chance:
            return Outcome.WORSE  # it saved its own, and all else took more than that
        return Outcome.HELPED if _stays_saved(base, after) else Outcome.OPEN
    dearer = max(lower(own[0], own[1]), lower(share[0], share[1]))
    return Outcome.WORSE if min(dearer, gets_dearer) <= chance else Outcome.OPEN


def _stays_saved(base: Sequence[Start], after: Sequence[Start]) -> bool:
    """Whether it can be told that the rest did not rise by as much as was saved."""
    typical = _typical(base, after)
    rest = [[s.rest / _dearness(s, typical) for s in starts] for starts in (base, after)]
    own = [[(s.own or 0.0) / _dearness(s, typical) for s in starts] for starts in (base, after)]
    saved = median(own[0]) - median(own[1])
    return lower(rest[1], [cost + saved for cost in rest[0]]) <= MOVED


def _typical(base: Sequence[Start], after: Sequence[Start]) -> dict[str, float]:
    """What each program costs in the middle before the change, of those that tell how dear a start
    was: they are in all starts, and moved with the others and not by themselves."""
    names = set.intersection(*(set(start.others) for start in (*base, *after)))
    costs = {name: median(start.others[name] for start in base) for name in names}
    moves = {
        name: math.log(median(start.others[name] for start in after) + 1e-9) - math.log(cost)
        for name, cost in costs.items()
        if cost > 0
    }
    middle = median(moves.values()) if moves else 0.0
    return {name: costs[name] for name, move in moves.items() if abs(move - middle) < ALONE}


def _dearness(start: Start, typical: dict[str, float]) -> float:
    """How dear a start was as a whole, as the middle one of its other programs shows it; 1 where
    too few are known. A program that took over work moves the middle by nothing."""
    if len(typical) < LEAST_OTHERS:
        return 1.0
    return max(median(start.others[name] / cost for name, cost in typical.items()), 1e-9)


def _totals(base: Sequence[Start], after: Sequence[Start]) -> tuple[float, float, float]:
    """The change of the total as a share: least, likely, most."""
    moved = shift(_logs([s.total for s in after]), _logs([s.total for s in base]))
    least, likely, most = (math.exp(log) - 1 for log in moved)
    return least, likely, most


def _shares(starts: Sequence[Start]) -> list[float]:
    return [math.log((s.own or 0.0) + 1e-9) - math.log(s.rest + 1e-9) for s in starts]


def _logs(costs: Sequence[float]) -> list[float]:
    return [math.log(cost + 1e-9) for cost in costs]


class MachineTrial(Value):
    """One machine of a trial over many: its starts before and after, and in which half it is."""

    machine_id: int
    changed: bool = Field(description="Whether it is of the half that was changed first")
    before: tuple[Start, ...]
    after: tuple[Start, ...]


def judge_half_first(machines: Sequence[MachineTrial], chance: float = 0.05) -> Judged:
    """What a change did, where half of the machines were changed and the others compared with.

    Each machine counts once, by how its starts moved; what moved all of them is in both halves.
    """
    moved = [(machine.changed, _move(machine)) for machine in machines]
    changed = [move for is_changed, move in moved if is_changed and move is not None]
    others = [move for is_changed, move in moved if not is_changed and move is not None]
    if len(changed) < 3 or len(others) < 3:
        return Judged(outcome=Outcome.OPEN, starts=len(changed))
    least, likely, most = (math.exp(log) - 1 for log in shift(changed, others))
    outcome = Outcome.OPEN
    if lower(changed, others) <= chance:
        outcome = Outcome.HELPED
    elif lower(others, changed) <= chance:
        outcome = Outcome.WORSE
    return Judged(
        outcome=outcome,
        judged_after=len(changed),
        starts=len(changed),
        least=least,
        likely=likely,
        most=most,
    )


def _move(machine: MachineTrial) -> float | None:
    """By how much the starts of a machine got cheaper or dearer, as a logarithm."""
    before = [start.total for start in machine.before if start.left_out is None][:-HELD_BACK]
    after = [start.total for start in machine.after if start.left_out is None]
    if len(before) < LEAST_BASELINE or len(after) < LOOKS[0]:
        return None
    return shift(_logs(after), _logs(before[-BASELINE:]))[1]
