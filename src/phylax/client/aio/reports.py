# Written by tools/aio.py from client/families/reports.py; change that one.
# ruff: noqa
"""Reports for clients, and the head of the shop's papers."""

from __future__ import annotations
import base64
from collections.abc import AsyncIterator
from phylax.client.aio.family import Family, Which
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
    ) -> AsyncIterator[Report]:
        """Reports that were made, the newest first."""
        return self._http.pages(
            Report, "/reports", client_id=client_id, machine=machine, visit=visit
        )

    async def preview(self, asked: ReportRequest) -> Document:
        """How a report would read; nothing is kept."""
        return await self._http.post(Document, "/reports/preview", asked)

    async def make(self, asked: ReportRequest) -> ReportWhole:
        """Make a report and keep it as it is."""
        return await self._http.post(ReportWhole, "/reports", asked)

    async def get(self, number: int) -> ReportWhole:
        """One, by number. NotFoundError."""
        return await self._http.get(ReportWhole, f"/reports/{number}")

    async def pdf(self, number: int) -> bytes:
        """The report as it was made."""
        return (await self._http.send("GET", f"/reports/{number}/pdf")).content

    async def proofs(self, number: int) -> str:
        """A proof for each entry that the report stands on."""
        return (await self._http.send("GET", f"/reports/{number}/proofs")).text

    async def mail(self, number: int, to: str) -> Report:
        """Send a report to its client."""
        return await self._http.post(Report, f"/reports/{number}/mail", ReportMail(to=to))

    async def letterhead(self) -> Letterhead:
        """What stands over and under reports."""
        return await self._http.get(Letterhead, "/letterhead")

    async def change_letterhead(self, letterhead: Letterhead, **changes: object) -> Letterhead:
        """As it was read; ChangedMeanwhileError."""
        edit = edit_of(LetterheadEdit, letterhead, **changes)
        return await self._http.put(Letterhead, "/letterhead", edit, letterhead.version)

    async def put_mark(self, letterhead: Letterhead, content: bytes) -> Letterhead:
        """The shop's mark: an SVG, PNG or JPEG."""
        body = NewMark(content=base64.b64encode(content))
        return await self._http.put(Letterhead, "/letterhead/mark", body, letterhead.version)

    async def take_mark_away(self, letterhead: Letterhead) -> None:
        """Reports carry no mark any more."""
        await self._http.delete("/letterhead/mark", letterhead.version)
