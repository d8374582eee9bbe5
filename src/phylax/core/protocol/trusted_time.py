"""What time a machine may believe it is: by its own clock, the service's, and how long it has run.

Ages and holds are counted by this time. It is never later than the machine's clock, and never later
than what is *credited*: the last time on which machine and service agreed, and the running time
since. Neither of them can move it forward alone: a machine's clock that is a year ahead makes
nothing old, nor does a service that says so.
"""

from __future__ import annotations

from typing import NamedTuple

from pydantic import Field

from phylax.core.ground.values import Value

AGREE = 600.0
"""Seconds by which two clocks may differ."""
_LEAP = 7 * 86400.0
_PROBATION = 86400.0
"""After credit has leapt by more than a week, nothing expires for a day of running."""
_MOST_SPANS = 20


class Behind(Value):
    """A stretch in which the machine's clock was behind, as that clock had it; files dated in it
    are no older than its end."""

    since: float
    until: float
    ended_at: float = Field(description="The true time at which the clock was set right")


class TrustedTime(Value):
    """What is credited. Times are epoch seconds, `running` seconds since the machine's start."""

    time: float
    running: float
    boot: str = Field(description="Identifies one start of the machine")
    expires_from: float = Field(0, description="By this boot's running time; before, nothing does")
    wall: float = Field(0, description="The machine's clock when this was noted")
    behind: tuple[Behind, ...] = ()


class Believed(NamedTuple):
    """The time to count ages by, and whether it may be counted by at all."""

    now: float
    trusted: bool
    may_expire: bool
    why: str = ""
    behind: tuple[Behind, ...] = ()

    def since(self, second: int) -> int:
        """From when a file really counts that is dated at a second."""
        for span in self.behind:
            if span.since <= second <= span.until:
                return int(span.ended_at)
        return second


def by_clock_alone(now: float) -> Believed:
    """For a pretended machine, whose time is the service's own."""
    return Believed(now, True, True)


def credited(credit: TrustedTime, running: float, boot: str) -> float:
    """The credited time by now. What the machine did not run is not known, and adds nothing."""
    return credit.time + max(0.0, running - credit.running) if boot == credit.boot else credit.time


def believed(credit: TrustedTime | None, wall: float, running: float, boot: str) -> Believed:
    """What to believe now."""
    if credit is None:
        why = "this machine and its service have not yet agreed on the time"
        return Believed(wall, False, False, why)
    now = credited(credit, running, boot)
    if wall < now - AGREE:
        why = f"its clock is {now - wall:.0f} s behind what it was"
        return Believed(min(wall, now), False, False, why, credit.behind)
    waited = boot != credit.boot or running >= credit.expires_from
    return Believed(min(wall, now), True, waited, "", credit.behind)


def agreed(
    credit: TrustedTime | None, wall: float, running: float, boot: str, service: float
) -> TrustedTime | None:
    """The credit after the service said its time; unchanged where the two do not agree."""
    if abs(service - wall) > AGREE:
        return credit
    if credit is None:
        return TrustedTime(time=wall, running=running, boot=boot, wall=wall)
    before = credited(credit, running, boot)
    same_boot = boot == credit.boot
    expires_from = credit.expires_from if same_boot else 0.0
    if wall - before > _LEAP:
        # a wrong clock with a wrong service: time enough for somebody to notice
        expires_from = running + _PROBATION
    # a stretch that ended later than it is by now was none: the clock had leapt ahead for a while
    behind = tuple(span for span in credit.behind if span.ended_at <= wall + AGREE)
    return credit.model_copy(
        update={
            "behind": behind,
            "time": max(before, wall),
            "running": running,
            "boot": boot,
            "expires_from": expires_from,
            "wall": wall,
        }
    )


def stepped(credit: TrustedTime, wall: float, running: float, boot: str) -> TrustedTime:
    """The credit, where the clock was set since it was noted in this start of the machine.
    Set forward: it had been behind until then. Set back: it may be behind from now on, which
    shows when it is set forward again."""
    if boot != credit.boot or not credit.wall:
        return credit
    was = credit.wall + (running - credit.running)
    if abs(wall - was) <= AGREE:
        return credit
    noted = {"time": credited(credit, running, boot), "running": running, "wall": wall}
    if wall < was:
        return credit.model_copy(update=noted)
    began = credit.wall - credit.running
    span = Behind(since=began - AGREE, until=was + AGREE, ended_at=wall)
    return credit.model_copy(update={"behind": (*credit.behind, span)[-_MOST_SPANS:], **noted})
