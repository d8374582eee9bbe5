"""Verdicts: the one place where it is decided whether an item stays, and why."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from phylax.core.ground.values import to_seconds
from phylax.core.retention.rules import Caution, Reason, RuleInForce

_NEVER = 2**62
"""A time later than every other."""
DATED_AHEAD = 600
"""Seconds by which a clock may differ; what is dated later than that is not judged by its age."""


class Ranking:
    """What a rule needs to know of all items before it can judge one: the newest, the oldest.

    Fed with every item in as many passes as `wants_pass` asks for, so that memory stays flat:
    first by day, then by the second within the one day in which the size limit is crossed. Items
    of the same second are treated alike.
    """

    def __init__(self, rule: RuleInForce, capacity: int, now: int) -> None:
        """`capacity` is that of the volume in bytes, `now` the epoch second ages count from."""
        self._newest = rule.keep_newest
        self._limit = rule.limit_on(capacity)
        self._now = now
        self._seen: dict[str, dict[int, int]] = {}
        self._sizes: dict[int, int] = {}
        self._by_day = True
        self._day = 0
        self._newer = 0
        self.newest_from: dict[str, int] = {}
        """By group: what is aged from this second or later is among its newest."""
        self.over_before = -_NEVER
        """What is aged from before this second is over the size limit."""
        self.wants_pass = not rule.off and (self._newest > 0 or self._limit is not None)

    def see(self, group: str, aged_from: int, size: int) -> None:
        """One item of this pass."""
        if self._by_day and self._newest:
            self._note_newest(group, aged_from)
        if self._limit is None:
            return
        day = aged_from // 86400
        if self._by_day:
            self._sizes[day] = self._sizes.get(day, 0) + size
        elif day == self._day:
            self._sizes[aged_from] = self._sizes.get(aged_from, 0) + size

    def _note_newest(self, group: str, aged_from: int) -> None:
        """Keep how many items each of a group's newest seconds has, no more than are needed."""
        seconds = self._seen.setdefault(group, {})
        seconds[aged_from] = seconds.get(aged_from, 0) + 1
        if len(seconds) > self._newest:
            oldest = min(seconds)
            if sum(seconds.values()) - seconds[oldest] >= self._newest:
                del seconds[oldest]

    def pass_done(self) -> None:
        """All items have been seen once more."""
        if self._by_day:
            for group, seconds in self._seen.items():
                self.newest_from[group] = self._nth_newest(seconds)
        crossing = self._crossing()
        if crossing is None:
            self.wants_pass = False
        elif self._by_day:
            # within this day lies the second; the next pass finds it
            self._by_day, self._day, self._sizes = False, crossing, {}
        else:
            self.over_before = crossing + 1
            self.wants_pass = False

    def _nth_newest(self, seconds: dict[int, int]) -> int:
        left = self._newest
        for second in sorted(seconds, reverse=True):
            left -= seconds[second]
            if left <= 0:
                return second
        return min(seconds)

    def _crossing(self) -> int | None:
        """The newest bucket with which the sum of all newer ones passes the limit."""
        if self._limit is None:
            return None
        total = self._newer
        for bucket in sorted(self._sizes, reverse=True):
            if total + self._sizes[bucket] > self._limit:
                self._newer = total
                return bucket
            total += self._sizes[bucket]
        return None


class Judge:
    """Decides for the items of one category on one volume, under one rule, at one moment.

    Called for every file of a machine, so it compares integers and allocates nothing.
    """

    __slots__ = ("_ahead", "_cutoff", "_larger", "_newest_from", "_standing")

    def __init__(
        self,
        rule: RuleInForce,
        caution: Caution,
        now: datetime,
        *,
        free_percent: float | None = None,
        newest_from: Mapping[str, int] | None = None,
        over_before: int = -_NEVER,
    ) -> None:
        """`free_percent` is what is free of the volume, for pressure; the rest is a ranking's."""
        aged_out = int((now - rule.span_at(free_percent)).timestamp())
        # whatever else a rule says: what is dated ahead is not judged by its age
        self._ahead = to_seconds(now) + DATED_AHEAD
        self._cutoff = min(max(aged_out, over_before - 1), self._ahead)
        self._larger = rule.only_larger or -1
        self._newest_from = newest_from or {}
        self._standing: Reason | None = None
        if rule.off:
            self._standing = Reason.OFF
        elif caution is Caution.REPORT:
            self._standing = Reason.REPORT_ONLY

    @classmethod
    def by(
        cls,
        ranking: Ranking,
        rule: RuleInForce,
        caution: Caution,
        now: datetime,
        free_percent: float | None,
    ) -> Judge:
        """A judge who knows what a ranking found."""
        return cls(
            rule,
            caution,
            now,
            free_percent=free_percent,
            newest_from=ranking.newest_from,
            over_before=ranking.over_before,
        )

    def mistrusting(self) -> Judge:
        """The same judge on a machine whose clock is not trusted: nothing goes."""
        if self._standing is None:
            self._standing = Reason.CLOCK
        return self

    @property
    def cutoff(self) -> int:
        """Epoch seconds; what was last touched later is too young."""
        return self._cutoff

    @property
    def larger(self) -> int:
        """Bytes; what is not larger stays. -1 where the rule says nothing of size."""
        return self._larger

    def newest_from(self, group: str) -> int:
        """Epoch second from which items of a group are among its newest."""
        return self._newest_from.get(group, _NEVER)

    def standing(self, *, program_open: bool) -> Reason | None:
        """The reason for which everything stays, whatever its age."""
        if self._standing is None and program_open:
            return Reason.PROGRAM_OPEN
        return self._standing

    def why_stays(
        self,
        aged_from: int,
        *,
        size: int = _NEVER,
        group: str = "",
        in_use: bool = False,
        program_open: bool = False,
        protected: bool = False,
        foreign: bool = False,
    ) -> Reason | None:
        """The reason an item stays, or None: it goes (for `ask`: is proposed).

        `aged_from` is the epoch second from which the category measures age.
        """
        if protected:
            return Reason.PROTECTED
        if foreign:
            return Reason.FOREIGN
        if (standing := self.standing(program_open=program_open)) is not None:
            return standing
        if size <= self._larger:
            return Reason.NOT_LARGER
        if aged_from >= self.newest_from(group):
            return Reason.AMONG_NEWEST
        if aged_from > self._ahead:
            return Reason.DATED_AHEAD
        if aged_from > self._cutoff:
            return Reason.TOO_YOUNG
        if in_use:
            return Reason.IN_USE
        return None


def percent_free(free: int, capacity: int) -> float | None:
    """The free share of a volume in per cent; None for one of no capacity."""
    return 100 * free / capacity if capacity else None
