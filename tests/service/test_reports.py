"""Reports for clients: made, printed, kept as they were, proved, sent."""

from __future__ import annotations

import base64
import io
import subprocess
from datetime import date, timedelta
from hashlib import sha256
from pathlib import Path

import pytest
from pypdf import PdfReader

from conftest import Service
from helpers import Clock, enrol, make_file, make_standin
from mail_box import running_box
from phylax.client import NotFoundError, Phylax, RefusedError
from phylax.core.attention.notices import MailServerEdit
from phylax.core.clients.shop import Machine
from phylax.core.desk.advice import AdviceEdit, AdviceKind, AdviceStatus
from phylax.core.desk.visits import HandOver, NewVisit, Visit
from phylax.core.record.records import RecordKind
from phylax.core.reporting.document import (
    Block,
    Bullets,
    Column,
    Document,
    Drawing,
    Heading,
    Paragraph,
    Point,
    Table,
)  # fmt: skip
from phylax.core.reporting.request import Letterhead, ReportRequest
from phylax.core.retention import Rule, Scope
from phylax.service.attention.notices.posting import post
from phylax.service.context.context import Context
from phylax.service.reporting.making import in_stretches
from phylax.service.reporting.printing import Paper, Proof, cleaned, printed

HOSTILE = (
    '#panic("x") $x^2$ [a] *b* _c_ <l> @r \\ // ~ #import "@preview/a:1.0.0" `raw` = heading\n'
    "- item\n+ item /term: x #(1 + 1) #read(\"/etc/passwd\") \x00\x1b[31m\ufeff\u202eevil\u202c "
    "\U0001f600 漢字 Привет مرحبا Ωμέγα \uffff é"
)  # fmt: skip


@pytest.fixture
def visit(owner: Phylax, machine: Machine, tmp_path: Path, clock: Clock) -> Visit:
    """A machine that was taken in and cleaned."""
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for="P3D"))
    home = make_standin(tmp_path / "m")
    for number in range(5):
        make_file(home / f".tmp/f{number}", 1_000_000, days_old=3)
    taken = owner.visits.open(NewVisit(machine_id=machine.id, reported_problem="It howls"))
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.survey(machine.tag)
    agent.once()
    run = owner.runs.clean(machine.tag, ["user-temp"])
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.held is not None and ended.held.count == 5, ended
    return taken


def lines_of(pdf: bytes) -> str:
    return "\n".join(page.extract_text() for page in PdfReader(io.BytesIO(pdf)).pages)


def test_a_report_of_a_visit_is_made_and_stays_as_it_was(
    owner: Phylax, machine: Machine, visit: Visit, clock: Clock, context: Context
) -> None:
    note = owner.records.add_note(machine.tag, "Dust in the fan.")
    asked = ReportRequest(visit=visit.id, cover="It was the fan.", notes=(note.id,))
    shown = owner.reports.preview(asked)
    made = owner.reports.make(asked)
    assert made.document == shown
    assert (made.visit, made.client_name, made.machine_tags) == (
        visit.id, machine.client_name, (machine.tag,),
    )  # fmt: skip
    text = lines_of(owner.reports.pdf(made.id))
    for sentence in (
        "It was the fan.",
        "Dust in the fan.",
        "“It howls”",
        "What we deleted",
        "can be put back until",
    ):
        assert sentence in " ".join(text.split()), text
    of_visit = list(owner.records.list(visit=visit.id))
    numbers = {entry.id for entry in of_visit if entry.kind is not RecordKind.MACHINE}
    assert set(made.entries) == numbers and len(numbers) > 3
    assert all(word in text for word in made.seal.split() if word != "—"), "can be copied out"
    owner.visits.hand_over(visit, HandOver(outcome="mended"))
    # a machine's clock is ahead: what it did belongs to the visit all the same
    with context.db.write() as conn:
        conn.execute("UPDATE runs SET ended_at = ended_at + 600")
    clock.pass_(timedelta(days=9))
    assert owner.reports.get(made.id) == made
    assert [report.id for report in owner.reports.list(machine=machine.tag)] == [made.id]
    assert [report.id for report in owner.reports.list(visit=visit.id + 1)] == []
    later = owner.reports.make(ReportRequest(visit=visit.id, language="de"))
    words = " ".join(lines_of(owner.reports.pdf(later.id)).split())
    assert "repariert" in words and "endgültig gelöscht" in words


def test_what_was_put_back_was_not_deleted(owner: Phylax, visit: Visit, context: Context) -> None:
    def deleted() -> list[tuple[str, str]]:
        blocks = owner.reports.preview(ReportRequest(visit=visit.id)).blocks
        (table,) = [b for b in blocks if isinstance(b, Table) and b.columns[2].name == "Files"]
        return [(row[2], row[3]) for row in table.rows]

    assert deleted() == [("5", "4.8 MiB")]
    with context.db.write() as conn:
        conn.execute(
            "UPDATE holds SET held_count = 3, held_size = 3000000, back_count = 2,"
            " back_size = 2000000"
        )
    assert deleted() == [("3", "2.9 MiB")]


def test_its_proofs_show_that_its_entries_are_in_the_record(
    owner: Phylax, visit: Visit, machine: Machine
) -> None:
    made = owner.reports.make(ReportRequest(visit=visit.id))
    owner.records.add_note(machine.tag, "later")
    proofs = owner.reports.proofs(made.id).split("c2sp.org/tlog-proof@v1\n")[1:]
    assert len(proofs) == len(made.entries)
    for proof in proofs:
        assert made.seal in proof
        assert owner.records.check_proof(f"c2sp.org/tlog-proof@v1\n{proof.strip(chr(10))}\n").valid


def test_a_span_of_a_machine_and_of_a_client(
    owner: Phylax, machine: Machine, visit: Visit, clock: Clock
) -> None:
    before = ReportRequest(machine_id=machine.id, first=date(2020, 1, 1), last=date(2020, 2, 1))
    made = owner.reports.make(before)
    assert made.entries == () and made.seal == ""
    assert "No work was done on it in this time." in lines_of(owner.reports.pdf(made.id))
    assert owner.reports.proofs(made.id) == ""
    month = owner.reports.make(ReportRequest(client_id=machine.client_id))
    assert (month.last - month.first).days == 30 and month.machine_tags == (machine.tag,)
    today = clock.now.date()
    for asked, why in (
        ({"visit": 99}, "no visit 99"),
        ({"machine_id": 99}, "no machine 99"),
        ({"client_id": 99}, "no machine that is looked after"),
        ({"machine_id": machine.id, "first": "2036-01-01"}, "not after"),
        (
            {"machine_id": machine.id, "first": today + timedelta(1), "last": today + timedelta(9)},
            "ahead",
        ),
        ({"machine_id": machine.id, "first": "0001-01-01"}, "between 1971"),
        ({"machine_id": machine.id, "last": "0001-01-05"}, "between 1971"),
        ({"machine_id": machine.id, "last": "9999-12-31"}, "ahead"),
        ({"machine_id": machine.id, "first": "2020-01-01", "last": "9999-12-31"}, "between 1971"),
        ({"visit": visit.id, "notes": [1]}, "entry 1 is no note"),
        ({"visit": visit.id, "notes": [99]}, "entry 99 is no note"),
    ):
        with pytest.raises(RefusedError, match=why):
            owner.reports.make(ReportRequest.model_validate(asked))
    for call in (owner.reports.get, owner.reports.pdf, owner.reports.proofs):
        with pytest.raises(NotFoundError):
            call(99)


def blocks(text: str) -> tuple[Block, ...]:
    return (
        Heading(level=2, text=text),
        Paragraph(text=text),
        Paragraph(text=text, quoted=True),
        Bullets(lines=(text, text)),
        Table(columns=(Column(name=text), Column(name=text, is_number=True)), rows=((text, text),)),
        Drawing(caption=text, alt_text=text, points=(Point(across=0, up=0), Point(across=1, up=1))),
    )


def paper(text: str = "Quayside") -> Paper:
    return Paper(text, Letterhead(head=text, foot=text), b"")


def document(text: str, many: int = 1) -> Document:
    return Document(
        language="en", title=text, day=date(2026, 11, 29), lines=(text,), blocks=blocks(text) * many
    )


@pytest.mark.parametrize(
    "text", [HOSTILE, "", " ", "\x00", "\U0001f600" * 50, "x" * 20_000, "a\n" * 10_000, "‮", "\t"]
)
def test_whatever_is_written_is_printed_as_it_is_and_costs_no_report(text: str) -> None:
    pdf = printed(document(text or "-"), paper(text), text, Proof("x", text))
    assert pdf.startswith(b"%PDF-")
    if text == HOSTILE:
        words = "".join(lines_of(pdf).split())
        for literal in ('#panic("x")', "$x^2$", "*b*", "_c_", "<l>", "@r", '#read("/etc/passwd")',
                        '#import"@preview/a:1.0.0"', "#(1+1)", "Привет"):  # fmt: skip
            assert literal in words
        assert "\x1b" not in words and "root:" not in words


def test_the_same_is_the_same_bytes() -> None:
    assert printed(document("x"), paper(), "Ines", None) == printed(
        document("x"), paper(), "Ines", None
    )


def test_a_seal_is_printed_as_it_is_whatever_its_letters_are() -> None:
    """Neither hyphens nor joined letters come into what somebody copies out of it."""
    for number in range(40):
        words = [base64.b64encode(sha256(f"{number} {n}".encode()).digest() * 2) for n in range(6)]
        seal = "\n".join(word.decode() for word in [*words, b"fifl ffi ffl --- //"])
        text = lines_of(printed(document("x"), paper(), "x", Proof(seal, "1")))
        assert all(line in text for line in seal.split())


def test_every_character_that_is_kept_can_be_printed() -> None:
    kept = cleaned("".join(map(chr, [*range(0x3000), 0xFB01, 0xFEFF, 0x1F600])))
    assert "\u202e" not in kept and "\x07" not in kept and "fi" not in kept[:5]
    assert printed(document(kept), paper(), "x", None)
    assert cleaned("e\u0301 a\tb\u00a0c\u2028d") == "é a b c d"
    assert cleaned("漢") == "?"


def test_readers_find_order_tags_and_fonts(tmp_path: Path) -> None:
    path = tmp_path / "report.pdf"
    path.write_bytes(printed(document("Good day"), paper(), "Ines", None))
    info = subprocess.run(["pdfinfo", "-struct", path], capture_output=True, text=True).stdout
    for tag in ("H1", "H2", "P", "Table", "TH", "Figure", "L "):
        assert tag in info
    assert (
        "Title:           Good day"
        in subprocess.run(["pdfinfo", path], capture_output=True, text=True).stdout
    )
    fonts = subprocess.run(["pdffonts", path], capture_output=True, text=True).stdout
    rows = [line.split() for line in fonts.splitlines()[2:]]
    assert rows and all(row[-5:-2] == ["yes", "yes", "yes"] for row in rows)
    marks = PdfReader(path).trailer["/Root"]["/MarkInfo"]  # type: ignore[index]
    assert marks["/Marked"]


def test_it_is_sent_with_a_yes_and_the_client_has_been_told(
    owner: Phylax, service: Service, visit: Visit, machine: Machine, context: Context
) -> None:
    advised = owner.upkeep.advise(machine.tag, AdviceEdit(kind=AdviceKind.OTHER, text="A new bag."))
    with context.db.write() as conn:
        conn.execute("UPDATE advice SET status = 'proposed'")
    made = owner.reports.make(ReportRequest(visit=visit.id))
    with pytest.raises(RefusedError, match="No mail server"):
        owner.reports.mail(made.id, "aoife@ferry.example")
    assert owner.reports.get(made.id).sent_at is None
    assert not list(owner.records.list(kinds=[RecordKind.REPORT]))
    with running_box() as (box, server):
        owner.notices.set_mail_server(
            MailServerEdit(
                host="127.0.0.1", port=server.port, security="none", sender="desk@quayside.example"
            ),
            None,
        )
        with service.as_("petra") as desk:
            assert desk.reports.mail(made.id, "aoife@ferry.example").sent_at is not None
        post(context)
        (mail,) = box.mails
    assert mail["To"] == "aoife@ferry.example" and "What we did" in mail["Subject"]
    assert "Auto-Submitted" not in mail
    (attached,) = mail.iter_attachments()
    assert attached.get_filename() == f"report-{made.id}.pdf"
    assert attached.get_content() == owner.reports.pdf(made.id)
    (entry,) = owner.records.list(kinds=[RecordKind.REPORT])
    assert entry.text == f"Report {made.id} sent to aoife@ferry.example."
    assert (entry.who, entry.visit_id) == ("Petra Lund", visit.id)
    (kept,) = owner.upkeep.advice(machine.tag)
    assert (kept.id, kept.status, kept.comment) == (
        advised.id, AdviceStatus.TOLD, f"in report {made.id}",
    )  # fmt: skip


def test_stretches() -> None:
    assert in_stretches((1, 2, 3, 5, 7, 8)) == "1–3, 5, 7, 8"
    assert in_stretches(()) == ""
