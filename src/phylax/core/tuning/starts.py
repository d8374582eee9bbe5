"""What starts of a machine cost, and the trial that they are for what was changed together."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Annotated

from pydantic import Field

from phylax.core.ground.text import Text
from phylax.core.ground.values import Moment, Value
from phylax.core.tuning.changes import Change, ChangeState
from phylax.core.tuning.trials import Judged, LeftOut, Start, judge

Seconds = Annotated[float, Field(ge=0, le=10_000_000, allow_inf_nan=False)]
MOST_NAMED = 300
SHOWN = 40
"""So many starts before and after a change are drawn."""
MOST_TOLD = 400
"""So many starts are told at once, and kept of a machine."""


class BootCost(Value):
    """What one start of a machine cost, by its own account: processor seconds of its first
    minutes."""

    boot: Annotated[str, Field(min_length=1, max_length=80)] = Field(
        description="What the system calls this start"
    )
    at: Moment = Field(description="When the machine started")
    programs: Annotated[dict[Text, Seconds], Field(max_length=MOST_NAMED)] | None = Field(
        None, description="By the program's key; none: nothing can be attributed here"
    )
    unattributed: Seconds = Field(description="What belongs to none of them")
    left_out: LeftOut | None = None


class Trial(Value):
    """Whether what was changed together on one machine has helped."""

    run_id: int
    machine_id: int
    programs: tuple[str, ...] = Field(description="Names of what was changed")
    changed_at: Moment
    ended_at: Moment | None = Field(None, description="When some of it was put back or altered")
    judged: Judged
    before: tuple[Start, ...] = Field(description="Starts that it is compared with, oldest first")
    after: tuple[Start, ...] = ()


def trial(
    together: Sequence[Change], others: Iterable[Change], starts: Sequence[BootCost]
) -> Trial:
    """The trial of the changes of one run, from the starts of the machine, oldest first.

    `others` are the machine's other changes: what their programs cost is left out on both sides, or
    one change would be judged by another. ValueError where nothing was changed.
    """
    if not together:
        raise ValueError("a trial is of something that was changed")
    own = {change.program for change in together if change.program}
    foreign = {change.program for change in others if change.program} - own
    began = max(change.at for change in together)
    ended = min(
        (change.ended_at for change in together if change.state is not ChangeState.MADE
         and change.ended_at is not None),
        default=None,
    )  # fmt: skip
    before = [_split(start, own, foreign) for start in starts if start.at < began]
    after = [
        _split(start, own, foreign)
        for start in starts
        if start.at >= began and (ended is None or start.at < ended)
    ]
    return Trial(
        run_id=together[0].run_id,
        machine_id=together[0].machine_id,
        programs=tuple(dict.fromkeys(change.name for change in together)),
        changed_at=began,
        ended_at=ended,
        judged=judge(before, after),
        before=tuple(map(_shown, before[-SHOWN:])),
        after=tuple(map(_shown, after[:SHOWN])),
    )


def _shown(start: Start) -> Start:
    """A start as it is drawn: without each of the other programs."""
    return start.model_copy(update={"others": {}})


def _split(start: BootCost, own: set[str], foreign: set[str]) -> Start:
    """A start with what the changed programs took of it apart from all else."""
    if start.programs is None or not own:
        # what a setting costs shows in all that runs
        rest = start.unattributed + sum(
            cost for key, cost in (start.programs or {}).items() if key not in foreign
        )
        return Start(boot=start.boot, at=start.at, rest=rest, left_out=start.left_out)
    others = {
        key: cost for key, cost in start.programs.items() if key not in own and key not in foreign
    }
    return Start(
        boot=start.boot,
        at=start.at,
        own=sum(start.programs.get(key, 0.0) for key in own),
        rest=start.unattributed + sum(others.values()),
        others=others,
        left_out=start.left_out,
    )


def in_words(trial: Trial) -> str:
    """What a trial came to, as a sentence without its full stop."""
    what = ", ".join(trial.programs)
    judged = trial.judged
    if judged.judged_after == 0 or judged.likely is None:
        return f"{what}: cannot be told yet"
    return f"{what}: {judged.outcome} after {judged.judged_after} starts; {cost(judged)}"


def cost(judged: Judged) -> str:
    """How the cost of a start moved, by what was changed and as a whole with its range: "what was
    changed took 5.2 s of a start, now 0.0 s; a start as a whole takes 8 % less (between ...)"."""
    likely, least, most = (
        round(100 * (share or 0.0)) for share in (judged.likely, judged.least, judged.most)
    )
    own = ""
    if judged.own_before is not None and judged.own_after is not None:
        own = (
            f"what was changed took {judged.own_before:.1f} s of a start, "
            f"now {judged.own_after:.1f} s; "
        )
    return (
        f"{own}a start as a whole takes {_less(likely)} (between {_less(least)} and {_less(most)})"
    )


def _less(percent: int) -> str:
    if percent == 0:
        return "the same"
    return f"{abs(percent)} % {'less' if percent < 0 else 'more'}"
