"""Reports for clients, and the head of the shop's papers."""

from __future__ import annotations

import base64
from collections.abc import Iterator

from phylax.client.families.family import Family, Which
from phylax.core.ground.values import edit_of
from phylax.core.reporting.document import Document
from phylax.core.reporting.request import (
    Letterhead,
    LetterheadEdit,
    NewMark,
    Report,
    ReportMail,
    ReportRequest,
    ReportWhole,
)


class Reports(Family):
    """What a client gets to read, as PDF.

    Example::

        for report in shop.reports.list():
            print(report.title)
    """

    def list(
        self,
        *,
        client_id: int | None = None,
        machine: Which | None = None,
        visit: int | None = None,
    ) -> Iterator[Report]:
        """Reports that were made, the newest first."""
        return self._http.pages(
            Report, "/reports", client_id=client_id, machine=machine, visit=visit
        )

    def preview(self, asked: ReportRequest) -> Document:
        """How a report would read; nothing is kept."""
        return self._http.post(Document, "/reports/preview", asked)

    def make(self, asked: ReportRequest) -> ReportWhole:
        """Make a report and keep it as it is."""
        return self._http.post(ReportWhole, "/reports", asked)

    def get(self, number: int) -> ReportWhole:
        """One, by number. NotFoundError."""
        return self._http.get(ReportWhole, f"/reports/{number}")

    def pdf(self, number: int) -> bytes:
        """The report as it was made."""
        return self._http.send("GET", f"/reports/{number}/pdf").content

    def proofs(self, number: int) -> str:
        """A proof for each entry that the report stands on."""
        return self._http.send("GET", f"/reports/{number}/proofs").text

    def mail(self, number: int, to: str) -> Report:
        """Send a report to its client."""
        return self._http.post(Report, f"/reports/{number}/mail", ReportMail(to=to))

    def letterhead(self) -> Letterhead:
        """What stands over and under reports."""
        return self._http.get(Letterhead, "/letterhead")

    def change_letterhead(self, letterhead: Letterhead, **changes: object) -> Letterhead:
        """As it was read; ChangedMeanwhileError."""
        edit = edit_of(LetterheadEdit, letterhead, **changes)
        return self._http.put(Letterhead, "/letterhead", edit, letterhead.version)

    def put_mark(self, letterhead: Letterhead, content: bytes) -> Letterhead:
        """The shop's mark: an SVG, PNG or JPEG."""
        body = NewMark(content=base64.b64encode(content))
        return self._http.put(Letterhead, "/letterhead/mark", body, letterhead.version)

    def take_mark_away(self, letterhead: Letterhead) -> None:
        """Reports carry no mark any more."""
        self._http.delete("/letterhead/mark", letterhead.version)
