"""What became of everything that a cleaning looked at."""

from __future__ import annotations

from phylax.core.counting import spell
from phylax.core.orders import CategoryOutcome, LeftItem
from phylax.core.retention import Reason
from phylax.core.survey import Stay, Tally

NAMED = 200
"""So many left items are named, those first that should have gone; all are counted."""


class Outcomes:
    """What became of everything, added up while the cleaner works."""

    def __init__(self) -> None:
        self._left: dict[str, dict[Reason, list[int]]] = {}
        self._unread: dict[str, int] = {}
        self.named: list[LeftItem] = []
        self.problems: list[str] = []

    def leave(
        self, key: str, place: str, path: str, size: int, reason: Reason, detail: str = ""
    ) -> None:
        sums = self._left.setdefault(key, {}).setdefault(reason, [0, 0])
        sums[0] += 1
        sums[1] += size
        if reason.should_have_gone and len(self.named) < NAMED:
            shown, _ = spell(path)
            self.named.append(
                LeftItem(
                    category=key, place=place, path=shown, size=size, reason=reason, detail=detail
                )
            )

    def could_not_read(self, key: str) -> None:
        self._unread[key] = self._unread.get(key, 0) + 1

    def of(self, key: str, removed: Tally) -> CategoryOutcome:
        return CategoryOutcome(
            category=key,
            removed=removed,
            left=tuple(
                Stay(reason=reason, count=count, size=size)
                for reason, (count, size) in self._left.get(key, {}).items()
            ),
            unread_count=self._unread.get(key, 0),
        )
