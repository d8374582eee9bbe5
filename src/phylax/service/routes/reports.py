"""Reports for clients: looked at, made and kept, sent."""

from __future__ import annotations

from sqlite3 import Connection
from typing import Any

from fastapi import APIRouter, Request, Response

from phylax.core.desk.advice import AdviceStatus
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.core.reporting.document import Document
from phylax.core.reporting.request import Part, Report, ReportMail, ReportRequest, ReportWhole
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.changes import Change, TheChange
from phylax.service.http.paging import NEWEST, Before, Limit, page
from phylax.service.problems import documented, not_found
from phylax.service.reporting import mailing, making
from phylax.service.routes.lookup import find_machine
from phylax.store.desk import advice
from phylax.store.record import records
from phylax.store.reporting import reports

router = APIRouter(prefix="/reports", tags=["reports"])
_PDF: dict[int | str, dict[str, Any]] = {
    200: {"content": {"application/pdf": {"schema": {"type": "string", "format": "binary"}}}}
}
_TEXT: dict[int | str, dict[str, Any]] = {
    200: {"content": {"text/plain": {"schema": {"type": "string"}}}}
}


@router.get("", responses=documented(404))
def list_reports(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    client_id: int | None = None,
    machine: str | None = None,
    visit: int | None = None,
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Report]:
    """Reports that were made, the newest first."""
    with context.db.read() as conn:
        listed = reports.listed(
            conn,
            client_id=client_id,
            machine_id=find_machine(conn, machine).id if machine else None,
            visit=visit,
            before=before,
            limit=limit + 1,
        )
    return page(listed, limit, request, response, "before")


@router.post("/preview", responses=documented(422))
def preview_report(asked: ReportRequest, context: TheContext, actor: Signed) -> Document:
    """How a report would read; nothing is kept."""
    return making.preview(context, asked)


@router.post("", status_code=201, response_model=ReportWhole, responses=documented(422))
def make_report(asked: ReportRequest, change: TheChange) -> Response:
    """Make a report and keep it as it is: its text, its PDF, and the seal of the record then."""
    prepared = making.prepare(change.context, asked, change.who)

    def act(conn: Connection) -> ReportWhole:
        made = _report(conn, reports.add(conn, prepared, who=change.who, at=change.now))
        change.audit(conn, "make report", made.title)
        return made

    return change.once(asked, act)


@router.get("/{number}", responses=documented(404))
def get_report(number: int, context: TheContext, actor: Signed) -> ReportWhole:
    with context.db.read() as conn:
        return _report(conn, number)


@router.get("/{number}/pdf", response_class=Response, responses=_PDF | documented(404))
def get_report_pdf(number: int, context: TheContext, actor: Signed) -> Response:
    """The report as it was made: tagged, with its fonts, for screen readers and for keeping."""
    with context.db.read() as conn:
        content = reports.pdf(conn, number)
    if content is None:
        raise not_found("report", number)
    headers = {
        "Content-Disposition": f'inline; filename="report-{number}.pdf"',
        "X-Content-Type-Options": "nosniff",
    }
    return Response(content, media_type="application/pdf", headers=headers)


@router.get("/{number}/proofs", response_class=Response, responses=_TEXT | documented(404))
def get_report_proofs(number: int, context: TheContext, actor: Signed) -> Response:
    """A proof for each entry that the report stands on, by the seal that it carries."""
    with context.db.read() as conn:
        report = _report(conn, number)
    proved = making.proofs_of(context, report, report.seal) if report.seal else []
    headers = {"Content-Disposition": f'attachment; filename="report-{number}-proofs.txt"'}
    return Response("\n".join(proved), media_type="text/plain; charset=utf-8", headers=headers)


@router.post("/{number}/mail", response_model=Report, responses=documented(404, 409, 422))
def mail_report(number: int, asked: ReportMail, change: TheChange) -> Response:
    """Send a report to its client. This is the yes to it: nothing goes without one."""

    def act(conn: Connection) -> Report:
        report = _report(conn, number)
        mailing.send_report(conn, report, asked.to, at=change.now)
        reports.note_sent(conn, number, asked.to, at=change.now)
        for machine_id in reports.machines_of(conn, number):
            _write(conn, change, machine_id, f"Report {number} sent to {asked.to}.")
        if Part.ADVISED not in reports.asked(conn, number).leave_out:
            _tell_advice(conn, change, report)
        change.audit(conn, "send report", report.title, after=asked)
        return Report.model_validate(_report(conn, number).model_dump())

    return change.once(asked, act, 200)


def _tell_advice(conn: Connection, change: Change, report: Report) -> None:
    """What was advised in a report that is sent, the client has been told."""
    for machine_id in reports.machines_of(conn, report.id):
        for kept in advice.of_machine(conn, machine_id):
            was_in_it = to_seconds(kept.made_at) <= to_seconds(report.made_at)
            if kept.status is AdviceStatus.PROPOSED and was_in_it:
                advice.set_status(
                    conn, kept.id, AdviceStatus.TOLD, who=change.who, at=change.now,
                    word=f"in report {report.id}",
                )  # fmt: skip


def _write(conn: Connection, change: Change, machine_id: int, text: str) -> None:
    records.append(
        conn,
        Entry(
            machine_id=machine_id,
            at=from_seconds(change.now),
            who=change.who,
            kind=RecordKind.REPORT,
            text=text,
        ),
    )
    change.tell(conn, EventKind.RECORD, machine_id)


def _report(conn: Connection, number: int) -> ReportWhole:
    report = reports.report(conn, number)
    if report is None:
        raise not_found("report", number)
    return report
