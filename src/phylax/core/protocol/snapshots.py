"""A machine at one moment, small enough to be set beside a later one: what a visit changed."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from phylax.core.ground.quantities import count, show_size
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.text import Text
from phylax.core.ground.values import Moment, Value
from phylax.core.tuning.programs import Intent

MOST_NAMED = 2000


class StartsByItself(Value):
    key: Text
    name: Text
    intent: Intent


class Snapshot(Value):
    """How a machine stood."""

    taken_at: Moment
    boot: Text = Field("", description="What the system calls the start under way")
    usable: float | None = Field(
        None, ge=0, description="Seconds from its start until it could be used, if the system says"
    )
    programs: Annotated[tuple[StartsByItself, ...], Field(max_length=MOST_NAMED)] = ()
    programs_unread: Text = ""
    failed: Annotated[tuple[Text, ...], Field(max_length=500)] | None = Field(
        None, description="Parts of the system that failed to start; None: nobody can say"
    )
    volumes: Annotated[tuple[ReadingIn, ...], Field(max_length=200)] = ()


class BeforeAfter(Value):
    """One thing that is otherwise afterwards."""

    what: str
    before: str
    after: str
    worse: bool = False


class Comparison(Value):
    """A machine before and after: the same things, in the same words."""

    run_id: int
    before: Snapshot
    after: Snapshot | None = Field(None, description="None: it was not looked at afterwards yet")
    differences: tuple[BeforeAfter, ...] = ()
    restarted: bool = False


def compared(run_id: int, before: Snapshot, after: Snapshot | None) -> Comparison:
    """What is otherwise afterwards; what is worse comes first."""
    if after is None:
        return Comparison(run_id=run_id, before=before)
    differences = [*_failed(before, after), *_usable(before, after), *_programs(before, after),
             *_space(before, after)]  # fmt: skip
    return Comparison(
        run_id=run_id,
        before=before,
        after=after,
        differences=tuple(sorted(differences, key=lambda difference: not difference.worse)),
        restarted=bool(before.boot) and bool(after.boot) and before.boot != after.boot,
    )


def comparison_in_words(comparison: Comparison) -> str:
    """One sentence for a step or the record."""
    if comparison.after is None:
        return "not looked at afterwards"
    if not comparison.differences:
        return "nothing is otherwise"
    return "; ".join(
        f"{difference.what}: {difference.before}, now {difference.after}"
        for difference in comparison.differences[:5]
    )


def _failed(before: Snapshot, after: Snapshot) -> list[BeforeAfter]:
    if after.failed is None:
        return []
    new = [part for part in after.failed if part not in (before.failed or ())]
    gone = [part for part in before.failed or () if part not in after.failed]
    differences = []
    if new and before.failed is not None:
        what = "Parts that failed to start"
        differences.append(
            BeforeAfter(what=what, before="none of these", after=_named(new), worse=True)
        )
    if gone:
        what = "Parts that failed to start before"
        differences.append(BeforeAfter(what=what, before=_named(gone), after="they start"))
    return differences


def _usable(before: Snapshot, after: Snapshot) -> list[BeforeAfter]:
    if before.usable is None or after.usable is None or before.boot == after.boot:
        return []
    # a start is seldom measured better than to a second
    if abs(after.usable - before.usable) < max(1.0, before.usable / 20):
        return []
    return [
        BeforeAfter(
            what="Until it can be used",
            before=f"{before.usable:.0f} s",
            after=f"{after.usable:.0f} s",
            worse=after.usable > before.usable * 1.2,
        )
    ]


def _programs(before: Snapshot, after: Snapshot) -> list[BeforeAfter]:
    if before.programs_unread or after.programs_unread:
        return []
    then = {program.key: program for program in before.programs}
    differences = []
    for program in after.programs:
        earlier = then.pop(program.key, None)
        if earlier is None and program.intent is not Intent.OFF:
            differences.append(
                BeforeAfter(
                    what=program.name, before="not there", after=f"runs {program.intent}",
                    worse=True,
                )
            )  # fmt: skip
        elif earlier is not None and earlier.intent is not program.intent:
            differences.append(
                BeforeAfter(what=program.name, before=earlier.intent, after=program.intent)
            )
    differences += [
        BeforeAfter(what=program.name, before=f"ran {program.intent}", after="not there")
        for program in then.values()
        if program.intent is not Intent.OFF
    ]
    return differences


def _space(before: Snapshot, after: Snapshot) -> list[BeforeAfter]:
    then = {volume.mount: volume for volume in before.volumes}
    return [
        BeforeAfter(
            what=f"Free on {volume.mount}",
            before=show_size(earlier.free),
            after=show_size(volume.free),
            worse=volume.free < earlier.free - volume.capacity // 100,
        )
        for volume in after.volumes
        if (earlier := then.get(volume.mount)) and show_size(earlier.free) != show_size(volume.free)
    ]


def _named(parts: list[str]) -> str:
    more = len(parts) - 3
    return ", ".join(parts[:3]) + (f" and {count(more, 'more')}" if more > 0 else "")
