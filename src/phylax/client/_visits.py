"""Visits of machines."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from phylax.client._family import Family, Which
from phylax.core.values import edit_of
from phylax.core.visits import HandOver, Move, NewVisit, Slip, Visit, VisitEdit

_VISITS: type[list[Visit]] = list[Visit]
"""`list` is a method's name below."""


class Visits(Family):
    def board(self) -> Sequence[Visit]:
        """All that are open, the overdue first."""
        return self._http.get(_VISITS, "/visits", open=True)

    def list(self, *, machine: Which | None = None) -> Iterator[Visit]:
        """The newest first, of one machine or of all."""
        return self._http.pages(Visit, "/visits", machine=machine)

    def get(self, number: int) -> Visit:
        return self._http.get(Visit, f"/visits/{number}")

    def slip(self, number: int, console: str) -> Slip:
        """The claim slip; `console` is where people open it, as ``https://shop.example``."""
        return self._http.get(Slip, f"/visits/{number}/slip", console=console)

    def open(self, new: NewVisit) -> Visit:
        """Take a machine in."""
        return self._http.post(Visit, "/visits", new)

    def change(self, visit: Visit, **changes: object) -> Visit:
        """Put right what was written down; ChangedMeanwhileError where somebody was faster."""
        edit = edit_of(VisitEdit, visit, **changes)
        return self._http.put(Visit, f"/visits/{visit.id}", edit, visit.version)

    def move(self, visit: Visit, move: Move) -> Visit:
        """Say whose move it is, for what and until when."""
        return self._http.post(Visit, f"/visits/{visit.id}/move", move, visit.version)

    def hand_over(self, visit: Visit, asked: HandOver) -> Visit:
        """The machine goes back to its client; the visit ends."""
        return self._http.post(Visit, f"/visits/{visit.id}/hand-over", asked, visit.version)
