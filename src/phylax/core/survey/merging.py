"""Survey lines of several people's workers as one line each."""

from __future__ import annotations

from collections.abc import Iterable

from phylax.core.retention import Reason
from phylax.core.survey.line_count import DIGEST_BYTES, MOST_RANKED
from phylax.core.survey.lines import (
    LARGEST,
    NAMED_UNREAD,
    AgeDay,
    Stay,
    SurveyLine,
    Tally,
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


def _both(one: SurveyLine, other: SurveyLine) -> SurveyLine:
    stays: dict[Reason, Tally] = {}
    for stay in (*one.stays, *other.stays):
        tally = Tally(count=stay.count, size=stay.size)
        stays[stay.reason] = stays.get(stay.reason, Tally()) + tally
    ages: dict[int, Tally] = {}
    for age in (*one.ages, *other.ages):
        ages[age.day] = ages.get(age.day, Tally()) + Tally(count=age.count, size=age.size)
    # where one of them has more than it could keep one by one, so has the sum
    keeps_all = all(line.ranked or not line.ages for line in (one, other))
    ranked = (*one.ranked, *other.ranked) if keeps_all else ()
    digest = (int(one.digest, 16) + int(other.digest, 16)) % (1 << 8 * DIGEST_BYTES)
    return one.model_copy(
        update={
            "holds": one.holds + other.holds,
            "goes": one.goes + other.goes,
            "stays": tuple(
                Stay(reason=reason, count=tally.count, size=tally.size)
                for reason, tally in stays.items()
            ),
            "ages": tuple(
                AgeDay(day=day, count=ages[day].count, size=ages[day].size) for day in sorted(ages)
            ),
            "ranked": ranked if len(ranked) <= MOST_RANKED else (),
            "largest": tuple(
                sorted((*one.largest, *other.largest), key=lambda item: -item.size)[:LARGEST]
            ),
            "young_by_attributes": one.young_by_attributes + other.young_by_attributes,
            "kept_sites": one.kept_sites + other.kept_sites,
            "people": one.people * bool(one.holds.count) + other.people * bool(other.holds.count)
            or 1,
            "kept_by": add_kept((*one.kept_by, *other.kept_by)),
            "digest": digest.to_bytes(DIGEST_BYTES, "big").hex(),
            "programs_open": tuple(sorted({*one.programs_open, *other.programs_open})),
            "places": most_held((*one.places, *other.places)),
            "unread": (*one.unread, *other.unread)[:NAMED_UNREAD],
            "unread_count": one.unread_count + other.unread_count,
        }
    )
