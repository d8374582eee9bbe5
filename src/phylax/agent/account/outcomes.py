"""What became of everything that a cleaning looked at."""

from __future__ import annotations

from collections.abc import Iterable

from phylax.core.ground.tally import Tally
from phylax.core.protocol import CategoryOutcome, LeftItem
from phylax.core.retention import Reason
from phylax.core.survey import SkippedSum, spell

NOTHING = Tally()
NAMED = 200
"""So many left items are named, those first that should have gone; all are counted."""


class Outcomes:
    """What became of everything, added up while the cleaner works."""

    def __init__(self) -> None:
        self._left: dict[str, dict[Reason, list[int]]] = {}
        self._unread: dict[str, int] = {}
        self._linked: dict[str, list[int]] = {}
        self.named: list[LeftItem] = []
        self.problems: list[str] = []

    def leave(
        self, key: str, place: str, path: str, size: int, reason: Reason, detail: str = ""
    ) -> None:
        sums = self._left.setdefault(key, {}).setdefault(reason, [0, 0])
        sums[0] += 1
        sums[1] += size
        if reason.should_have_gone and len(self.named) < NAMED:
            self.named.append(
                LeftItem(
                    category=key,
                    place=spell(place)[0],
                    path=spell(path)[0],
                    size=size,
                    reason=reason,
                    detail=spell(detail)[0],
                )
            )

    def could_not_read(self, key: str) -> None:
        self._unread[key] = self._unread.get(key, 0) + 1

    def link_went(self, key: str, names: int, size: int) -> None:
        """Names of files went that have other names still."""
        sums = self._linked.setdefault(key, [0, 0])
        sums[0] += names
        sums[1] += size

    def refused_size(self, key: str) -> int:
        """Bytes of a category that the machine would not let go of, though nothing was open."""
        left = self._left.get(key, {})
        return sum(
            size
            for reason, (_, size) in left.items()
            if reason.should_have_gone and reason not in (Reason.IN_USE, Reason.PROGRAM_OPEN)
        )

    def forget_open(self, key: str) -> None:
        """What was left of a category for being open is tried again."""
        for reason in (Reason.IN_USE, Reason.PROGRAM_OPEN):
            self._left.get(key, {}).pop(reason, None)
        self.named = [
            item
            for item in self.named
            if item.category != key or item.reason not in (Reason.IN_USE, Reason.PROGRAM_OPEN)
        ]

    def forget(self, key: str) -> None:
        """What was left of a category is looked at anew."""
        self._left.pop(key, None)
        self._unread.pop(key, None)
        self.named = [item for item in self.named if item.category != key]

    def absorb(self, outcome: CategoryOutcome) -> None:
        """Add what became of a category in somebody's places."""
        key = outcome.category
        for stay in outcome.left:
            sums = self._left.setdefault(key, {}).setdefault(stay.reason, [0, 0])
            sums[0] += stay.count
            sums[1] += stay.size
        if outcome.unread_count:
            self._unread[key] = self._unread.get(key, 0) + outcome.unread_count
        if outcome.linked.count or outcome.linked.size:
            self.link_went(key, outcome.linked.count, outcome.linked.size)

    def name(self, left: Iterable[LeftItem]) -> None:
        """Name what was left in somebody's places, as far as there is room."""
        self.named += list(left)[: NAMED - len(self.named)]

    def of(self, key: str, removed: Tally = NOTHING, held: Tally = NOTHING) -> CategoryOutcome:
        names, size = self._linked.get(key, (0, 0))
        return CategoryOutcome(
            category=key,
            removed=removed,
            held=held,
            linked=Tally(count=names, size=size),
            left=tuple(
                SkippedSum(reason=reason, count=count, size=size)
                for reason, (count, size) in self._left.get(key, {}).items()
            ),
            unread_count=self._unread.get(key, 0),
        )


def together(one: CategoryOutcome | None, other: CategoryOutcome) -> CategoryOutcome:
    """What became of one category by two parties: their sums."""
    if one is None:
        return other
    left: dict[Reason, Tally] = {}
    for stay in (*one.left, *other.left):
        so_far = left.get(stay.reason, Tally())
        left[stay.reason] = so_far + Tally(count=stay.count, size=stay.size)
    return CategoryOutcome(
        category=one.category,
        removed=one.removed + other.removed,
        held=one.held + other.held,
        put_back=one.put_back + other.put_back,
        linked=one.linked + other.linked,
        left=tuple(
            SkippedSum(reason=reason, count=tally.count, size=tally.size)
            for reason, tally in left.items()
        ),
        unread_count=one.unread_count + other.unread_count,
    )
