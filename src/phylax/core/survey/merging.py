"""Survey lines of several people's workers as one line each."""

from __future__ import annotations

from collections.abc import Iterable

from phylax.core.ground.tally import Tally
from phylax.core.retention import Reason
from phylax.core.survey.line_count import DIGEST_BYTES, MOST_RANKED
from phylax.core.survey.lines import (
    LARGEST,
    NAMED_UNREAD,
    AgeDay,
    SkippedSum,
    SurveyLine,
    add_kept,
    most_held,
)


def merged(lines: Iterable[SurveyLine]) -> list[SurveyLine]:
    """Lines of the same categories on the same volumes, looked at by several, as one line each.

    Files with names in the places of two of them are counted by both.
    """
    by_key: dict[tuple[str, str], SurveyLine] = {}
    for line in lines:
        key = (line.category, line.mount)
        by_key[key] = _both(by_key[key], line) if key in by_key else line
    return list(by_key.values())


def _both(first: SurveyLine, other: SurveyLine) -> SurveyLine:
    stays: dict[Reason, Tally] = {}
    for stay in (*first.kept, *other.kept):
        tally = Tally(count=stay.count, size=stay.size)
        stays[stay.reason] = stays.get(stay.reason, Tally()) + tally
    ages: dict[int, Tally] = {}
    for age in (*first.ages, *other.ages):
        ages[age.day] = ages.get(age.day, Tally()) + Tally(count=age.count, size=age.size)
    # where one of them has more than it could keep one by one, so has the sum
    keeps_all = all(line.ranked or not line.ages for line in (first, other))
    ranked = (*first.ranked, *other.ranked) if keeps_all else ()
    digest = (int(first.digest, 16) + int(other.digest, 16)) % (1 << 8 * DIGEST_BYTES)
    return first.model_copy(
        update={
            "total": first.total + other.total,
            "removable": first.removable + other.removable,
            "kept": tuple(
                SkippedSum(reason=reason, count=tally.count, size=tally.size)
                for reason, tally in stays.items()
            ),
            "ages": tuple(
                AgeDay(day=day, count=ages[day].count, size=ages[day].size) for day in sorted(ages)
            ),
            "ranked": ranked if len(ranked) <= MOST_RANKED else (),
            "largest": tuple(
                sorted((*first.largest, *other.largest), key=lambda item: -item.size)[:LARGEST]
            ),
            "young_by_attributes": first.young_by_attributes + other.young_by_attributes,
            "kept_sites": first.kept_sites + other.kept_sites,
            "people": first.people * bool(first.total.count)
            + other.people * bool(other.total.count)
            or 1,
            "kept_by": add_kept((*first.kept_by, *other.kept_by)),
            "digest": digest.to_bytes(DIGEST_BYTES, "big").hex(),
            "programs_open": tuple(sorted({*first.programs_open, *other.programs_open})),
            "places": most_held((*first.places, *other.places)),
            "unread": (*first.unread, *other.unread)[:NAMED_UNREAD],
            "unread_count": first.unread_count + other.unread_count,
        }
    )
