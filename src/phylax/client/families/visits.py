"""Visits of machines."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from phylax.client.families.family import Family, Which
from phylax.core.desk.orders import (
    NewPart,
    NewSealedNote,
    OpenedNote,
    OrderedPart,
    PartState,
    PartStep,
    ReadyToFetch,
    SealedNote,
)
from phylax.core.desk.visits import HandOver, NewVisit, NextTurn, Slip, Visit, VisitEdit
from phylax.core.ground.values import edit_of

_VISITS: type[list[Visit]] = list[Visit]
_PARTS: type[list[OrderedPart]] = list[OrderedPart]
_NOTES: type[list[SealedNote]] = list[SealedNote]
"""`list` is a method's name below."""


class Visits(Family):
    """Machines in the shop's hands, from intake to hand-over.

    Example::

        for visit in shop.visits.board():
            print(visit.machine_tag, visit.state)
    """

    def board(self) -> Sequence[Visit]:
        """All that are open, the overdue first."""
        return self._http.get(_VISITS, "/visits", open=True)

    def list(self, *, machine: Which | None = None) -> Iterator[Visit]:
        """The newest first, of one machine or of all."""
        return self._http.pages(Visit, "/visits", machine=machine)

    def get(self, number: int) -> Visit:
        """One, by number. NotFoundError."""
        return self._http.get(Visit, f"/visits/{number}")

    def slip(self, number: int, console: str) -> Slip:
        """The claim slip; `console` is where people open it, as ``https://shop.example``."""
        return self._http.get(Slip, f"/visits/{number}/slip", console=console)

    def open(self, new: NewVisit) -> Visit:
        """Add a machine."""
        return self._http.post(Visit, "/visits", new)

    def change(self, visit: Visit, **changes: object) -> Visit:
        """Put right what was written down; ChangedMeanwhileError where somebody was faster."""
        edit = edit_of(VisitEdit, visit, **changes)
        return self._http.put(Visit, f"/visits/{visit.id}", edit, visit.version)

    def set_turn(self, visit: Visit, turn: NextTurn) -> Visit:
        """Say who acts next, what is to be done, and by when."""
        return self._http.post(Visit, f"/visits/{visit.id}/turn", turn, visit.version)

    def ready(self, visit: Visit, asked: ReadyToFetch) -> Visit:
        """The machine can be fetched; its client is told by mail where `asked` says so."""
        return self._http.post(Visit, f"/visits/{visit.id}/ready", asked, visit.version)

    def parts(self, number: int | None = None) -> Sequence[OrderedPart]:
        """Parts of a visit; or all of the shop that are waited for."""
        return self._http.get(_PARTS, "/ordered-parts", visit=number)

    def order_part(self, number: int, new: NewPart) -> OrderedPart:
        """Something that the visit waits for."""
        return self._http.post(OrderedPart, f"/visits/{number}/parts", new)

    def set_part(self, part: int, state: PartState) -> OrderedPart:
        """A part has arrived, is called off, or is waited for again."""
        return self._http.post(OrderedPart, f"/ordered-parts/{part}/state", PartStep(state=state))

    def sealed_notes(self, number: int) -> Sequence[SealedNote]:
        """Which sealed notes a visit has, and who has read them."""
        return self._http.get(_NOTES, f"/visits/{number}/sealed-notes")

    def seal_note(self, number: int, title: str, text: str) -> SealedNote:
        """Keep what a client left to sign in with."""
        new = NewSealedNote(title=title, text=text)
        return self._http.post(SealedNote, f"/visits/{number}/sealed-notes", new)

    def open_note(self, note: int) -> OpenedNote:
        """Read a sealed note; each reading is written down."""
        return self._http.post(OpenedNote, f"/sealed-notes/{note}/open")

    def destroy_note(self, note: int) -> None:
        """Its words are deleted for good."""
        self._http.delete(f"/sealed-notes/{note}")

    def hand_over(self, visit: Visit, asked: HandOver) -> Visit:
        """The machine goes back to its client; the visit ends."""
        return self._http.post(Visit, f"/visits/{visit.id}/hand-over", asked, visit.version)
