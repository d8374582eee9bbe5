"""What-if: what another rule would remove, by the last surveys and without touching a machine.

A `Profile` is what the last survey knows of one category on one volume. Spans of whole days up to
800 are answered exactly; limits of size and count are, where the survey kept the items one by one.
Everything is as of the survey: what came or went since is not in it.
"""

from __future__ import annotations

import struct
import sys
from bisect import bisect_left
from collections.abc import Iterable, Sequence
from datetime import timedelta
from typing import NamedTuple

from pydantic import Field

from phylax.core.ground.tally import Tally
from phylax.core.ground.values import Demand, Moment, Value, from_seconds, within
from phylax.core.retention import Caution, Judge, Ranking, Rule, RuleInForce, Scope
from phylax.core.retention.verdicts import percent_free
from phylax.core.survey import AGE_DAYS, SurveyLine

STALE_AFTER = timedelta(days=35)
"""A survey older than this says little about what lies there now: it missed a monthly round."""
MOST_NAMED = 50


class WhatIfQuestion(Demand):
    """What if a scope said this of a category?"""

    category: str
    scope: Scope = Scope.SHOP
    subject_id: int = Field(0, description="Number of the client or machine; 0 for the shop")
    rule: Rule


class WhatIfMachine(Value):
    """One machine's part of the answer."""

    machine_id: int
    machine_tag: str
    client_name: str
    removable_now: Tally = Field(description="By the rule in force, in its last survey")
    removable_then: Tally
    rule_in_words: str = Field(description="What would be in force")
    surveyed_at: Moment
    stale: bool = Field(description="Too old a survey to count on")
    exact: bool = Field(description="False: the survey cannot say it to the item")


class WhatIf(Value):
    """What another rule would let go over all machines that it concerns."""

    category: str
    removable_now: Tally
    removable_then: Tally
    exact: bool
    machines: int = Field(description="Machines concerned that have a survey of it")
    stale: int = Field(description="Of these, machines whose survey is too old to count on")
    never_surveyed: int = Field(description="Machines concerned without a survey")
    most: tuple[WhatIfMachine, ...] = Field(
        description=f"The machines on which it would change most, {MOST_NAMED} at most"
    )


class Profile(NamedTuple):
    """One category on one volume, as its machine's last survey found it; plain numbers, for there
    may be thousands."""

    machine_id: int
    looked_at: int
    capacity: int
    free: int
    rule_larger: int
    """The size floor of the rule it was surveyed by; smaller items are not in the profile."""
    ages: Sequence[int]
    """The days of age that hold something, youngest first; for each, how many items are as old or
    older; for each, their bytes: three rows in one."""
    items: bytes
    """What the survey kept one by one, packed; empty where it kept sums alone."""
    people: int = 1
    """Who have something of it: a limit on size counts for each of them by themselves."""

    @property
    def days(self) -> int:
        """How many days of age hold something."""
        return len(self.ages) // 3

    @property
    def size(self) -> int:
        """The bytes of everything in it."""
        return self.ages[2 * self.days] if self.ages else 0


def packed(line: SurveyLine) -> tuple[bytes, bytes]:
    """A survey line's ages and single items, as a profile keeps them."""
    counts: list[int] = []
    sizes: list[int] = []
    count = size = 0
    for age in reversed(line.ages):
        count, size = within(count + age.count), within(size + age.size)
        counts.append(count)
        sizes.append(size)
    ages = [*(age.day for age in line.ages), *reversed(counts), *reversed(sizes)]
    groups: dict[str, int] = {}
    ranked = [
        number
        for item in line.ranked
        for number in (groups.setdefault(item.group, len(groups)), item.aged_from, item.size)
    ]
    return struct.pack(f"<{len(ages)}q", *ages), struct.pack(f"<{len(ranked)}q", *ranked)


def _numbers(packed: bytes) -> Sequence[int]:
    """The numbers in a profile's bytes, read in place where the processor's order allows it."""
    if sys.byteorder == "little":
        return memoryview(packed).cast("q")
    return struct.unpack(f"<{len(packed) // 8}q", packed)


def unpacked(
    machine_id: int,
    looked_at: int,
    capacity: int,
    free: int,
    larger: int,
    ages: bytes,
    items: bytes,
    people: int = 1,
) -> Profile:
    """The profile behind what `packed` made."""
    return Profile(machine_id, looked_at, capacity, free, larger, _numbers(ages), items, people)


class PreparedRule:
    """A rule made ready to be asked of many profiles."""

    __slots__ = ("_caution", "_day", "_plain_day", "_rule")

    def __init__(self, rule: RuleInForce, caution: Caution) -> None:
        self._rule = rule
        self._caution = caution
        self._day = _whole_days(rule.keep_for)
        bounded = rule.keep_newest or rule.keep_under or rule.keep_under_percent
        self._plain_day = None if bounded or rule.pressure else self._day

    def would_go(self, profile: Profile) -> tuple[int, int, bool]:
        """(count, bytes, exact) that the rule lets go of a profile, as of its survey."""
        rule = self._rule
        if rule.off or self._caution is Caution.REPORT:
            return 0, 0, True
        if not profile.ages:
            # what the survey's size floor hid may be there all the same
            return 0, 0, rule.only_larger >= profile.rule_larger
        as_surveyed = rule.only_larger == profile.rule_larger
        if self._plain_day is not None and as_surveyed:
            return *_older(profile, self._plain_day), True
        limit = rule.limit_on(profile.capacity)
        span = rule.span_at(percent_free(profile.free, profile.capacity))
        day = _whole_days(span) if rule.pressure else self._day
        if day is not None and as_surveyed and not rule.keep_newest and limit is None:
            return *_older(profile, day), True
        if profile.items:
            each_ones = limit is not None and profile.people > 1
            is_exact = rule.only_larger >= profile.rule_larger and not each_ones
            return *_one_by_one(profile, rule, self._caution), is_exact
        nearest = day if day is not None else min(span.days + 1, AGE_DAYS - 1)
        return *_about(profile, nearest, limit), False


def _whole_days(span: timedelta) -> int | None:
    """The first day of age that a span lets go; None where a profile cannot tell it exactly."""
    days, rest = divmod(span, timedelta(days=1))
    return None if rest or days >= AGE_DAYS else days


def _about(profile: Profile, day: int, limit: int | None) -> tuple[int, int]:
    """About what goes by a span and a size limit, where only days are known."""
    count, size = _older(profile, day)
    over = profile.size - limit if limit is not None else 0
    if over <= size:
        return count, size
    # the oldest days until the rest fits; within a day the profile knows no more
    n = profile.days
    older = sum(1 for older_size in profile.ages[2 * n :] if older_size >= over) - 1
    return profile.ages[n + older], over


def _older(profile: Profile, day: int) -> tuple[int, int]:
    n = len(profile.ages) // 3
    at = bisect_left(profile.ages, day, 0, n)
    if at == n:
        return 0, 0
    return profile.ages[n + at], profile.ages[2 * n + at]


def _one_by_one(profile: Profile, rule: RuleInForce, caution: Caution) -> tuple[int, int]:
    """Judge every single item, as a survey does."""
    numbers = _numbers(profile.items)
    items = [(str(numbers[n]), numbers[n + 1], numbers[n + 2]) for n in range(0, len(numbers), 3)]
    ranking = Ranking(rule, profile.capacity, profile.looked_at)
    while ranking.wants_pass:
        for group, aged_from, size in items:
            if size > (rule.only_larger or -1):
                ranking.see(group, aged_from, size)
        ranking.pass_done()
    free = percent_free(profile.free, profile.capacity)
    judge = Judge.by(ranking, rule, caution, from_seconds(profile.looked_at), free)
    goes = [s for g, at, s in items if judge.why_stays(at, size=s, group=g) is None]
    return len(goes), sum(goes)


class Concerned(NamedTuple):
    """A machine that a question concerns."""

    machine_id: int
    tag: str
    client_name: str
    looked_at: int | None
    now: RuleInForce
    then: RuleInForce


def answer(
    category: str,
    caution: Caution,
    machines: Sequence[Concerned],
    profiles: Iterable[Profile],
    *,
    now: int,
) -> WhatIf:
    """What would be removed over all machines. Each profile is read once, so it grows linearly."""
    by_machine: dict[int, list[Profile]] = {}
    for profile in profiles:
        by_machine.setdefault(profile.machine_id, []).append(profile)
    known: dict[int, PreparedRule] = {}

    def ready(rule: RuleInForce) -> PreparedRule:
        # one rule is in force on many machines, as one object
        if id(rule) not in known:
            known[id(rule)] = PreparedRule(rule, caution)
        return known[id(rule)]

    stale_before = now - int(STALE_AFTER.total_seconds())
    answers: list[tuple[int, Concerned, list[int], bool, int]] = []
    sums = [0, 0, 0, 0]
    all_exact, stale, never = True, 0, 0
    for machine in machines:
        if machine.looked_at is None:
            never += 1
            continue
        numbers, exact = [0, 0, 0, 0], True
        for profile in by_machine.get(machine.machine_id, ()):
            goes, goes_size, _ = ready(machine.now).would_go(profile)
            then, then_size, is_exact = ready(machine.then).would_go(profile)
            for n, value in enumerate((goes, goes_size, then, then_size)):
                numbers[n] += value
                sums[n] += value
            exact &= is_exact
        all_exact &= exact
        stale += machine.looked_at < stale_before
        change = abs(numbers[3] - numbers[1])
        answers.append((change, machine, numbers, exact, machine.looked_at))
    answers.sort(key=lambda answer_line: (-answer_line[0], -answer_line[2][3], answer_line[1].tag))
    return WhatIf(
        category=category,
        removable_now=Tally(count=sums[0], size=sums[1]),
        removable_then=Tally(count=sums[2], size=sums[3]),
        exact=all_exact,
        machines=len(answers),
        stale=stale,
        never_surveyed=never,
        most=tuple(
            WhatIfMachine(
                machine_id=machine.machine_id,
                machine_tag=machine.tag,
                client_name=machine.client_name,
                removable_now=Tally(count=numbers[0], size=numbers[1]),
                removable_then=Tally(count=numbers[2], size=numbers[3]),
                rule_in_words=machine.then.in_words(),
                surveyed_at=from_seconds(looked_at),
                stale=looked_at < stale_before,
                exact=exact,
            )
            for _, machine, numbers, exact, looked_at in answers[:MOST_NAMED]
        ),
    )
