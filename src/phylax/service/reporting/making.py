"""Reports: made, kept as they were, proved."""

from __future__ import annotations

from itertools import groupby
from sqlite3 import Connection

from phylax.core.reporting.composing import compose
from phylax.core.reporting.document import Document
from phylax.core.reporting.request import Report, ReportRequest
from phylax.service.context.context import Context, the_shop
from phylax.service.record import sealing
from phylax.service.reporting.gathering import gather
from phylax.service.reporting.printing import Paper, Proof, printed
from phylax.store.reporting import reports
from phylax.store.reporting.reports import NewReport


def preview(context: Context, asked: ReportRequest) -> Document:
    """How a report would read; nothing is kept of it."""
    with context.db.read() as conn:
        gathered = gather(conn, asked, context.now())
    return compose(gathered.facts, asked.language, asked.leave_out)


def prepare(context: Context, asked: ReportRequest, who: str) -> NewReport:
    """A report as it is to be kept, sealed and printed. It takes its time: not under the lock."""
    now = context.now()
    with context.db.read() as conn:
        gathered = gather(conn, asked, now)
        paper = paper_of(conn)
    document = compose(gathered.facts, asked.language, asked.leave_out)
    seal = sealing.make(context).note if gathered.entries else ""
    proof = Proof(seal, in_stretches(gathered.entries)) if seal else None
    return NewReport(
        client_id=gathered.machines[0].client_id,
        machine_ids=[machine.id for machine in gathered.machines],
        entries=gathered.entries,
        asked=asked,
        first=gathered.facts.first,
        last=gathered.facts.last,
        document=document,
        seal=seal,
        pdf=printed(document, paper, who, proof),
    )


def paper_of(conn: Connection) -> Paper:
    _, mark = reports.mark(conn)
    return Paper(the_shop(conn).name, reports.letterhead(conn), mark)


def proofs_of(context: Context, report: Report, seal: str) -> list[str]:
    """A proof for each entry that a report stands on, by the seal that it carries."""
    return sealing.prove_all(context, report.entries, seal)


def in_stretches(numbers: tuple[int, ...]) -> str:
    """Ascending numbers as people write them: ``12–15, 18``."""
    stretches = []
    for _, group in groupby(enumerate(numbers), lambda pair: pair[1] - pair[0]):
        stretch = [number for _, number in group]
        is_long = len(stretch) > 2
        stretches += [f"{stretch[0]}–{stretch[-1]}"] if is_long else [str(n) for n in stretch]
    return ", ".join(stretches)
