"""What is old by its contents and kept young by changes of attributes alone.

A nightly change of owner, or a backup that sets times back, moves the change time of all it
touches: nothing there is ever old enough to go. Where that is most of a place, look after look, it
needs a person.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta

from pydantic import Field

from phylax.core.ground.values import Moment, Value
from phylax.core.survey import Survey

APART = timedelta(days=1)
"""Two looks in one run say nothing more than one."""


class KeptYoung(Value):
    """Most of what one category holds on a volume."""

    category: str
    mount: str
    count: int
    size: int
    since: Moment = Field(description="Of the first look that found it so")
    last: Moment = Field(description="Of the newest")

    @property
    def again_and_again(self) -> bool:
        return self.last - self.since >= APART


def kept_young(survey: Survey, known: Iterable[KeptYoung] = ()) -> tuple[KeptYoung, ...]:
    """What a survey found; `known` is what the survey before did."""
    since = {(entry.category, entry.mount): entry.since for entry in known}
    at = survey.ended_at or survey.started_at
    return tuple(
        KeptYoung(
            category=line.category,
            mount=line.mount,
            count=line.young_by_attributes.count,
            size=line.young_by_attributes.size,
            since=since.get((line.category, line.mount), at),
            last=at,
        )
        for line in survey.lines
        if line.young_by_attributes.size * 2 > line.total.size
    )
