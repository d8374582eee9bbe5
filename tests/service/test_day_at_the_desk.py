"""A machine from the desk to the bench and back: two technicians, a call, advice, a report, and a
return three weeks later; and what was done, answered by one search."""

from __future__ import annotations

import io
from datetime import timedelta
from pathlib import Path

from pypdf import PdfReader

from conftest import Service
from helpers import Clock, enrol, make_file, make_standin
from mail_box import running_box
from phylax.client import Phylax
from phylax.core.attention.notices import MailServerEdit
from phylax.core.clients.shop import ClientEdit, MachineEdit
from phylax.core.desk.advice import AdviceEdit, AdviceKind, AdviceStatus
from phylax.core.desk.orders import NewPart, PartState, ReadyToFetch
from phylax.core.desk.visits import HandOver, NewVisit, NextTurn, Turn
from phylax.core.record.searching import HitKind
from phylax.core.reporting.request import ReportRequest
from phylax.service.attention.notices.posting import post
from phylax.service.context.context import Context


def test_a_machine_is_taken_in_worked_on_reported_handed_over_and_comes_back(
    owner: Phylax, service: Service, context: Context, clock: Clock, tmp_path: Path
) -> None:
    client = owner.clients.add(
        ClientEdit(name="Bram Oakes, at home", phone="555 0187", mail="bram@oakes.example")
    )
    machine = owner.machines.add(
        MachineEdit(tag="oakes-laptop", client_id=client.id, system="linux")
    )
    home = make_standin(tmp_path / "m")
    for number in range(4):
        make_file(home / f".tmp/f{number}", 3_000_000, days_old=9)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    wren_id = next(p.id for p in owner.people.list() if p.login == "wren")
    with (
        service.as_("petra") as desk, service.as_("wren") as wren, running_box() as (box, server)
    ):  # fmt: skip
        owner.notices.set_mail_server(
            MailServerEdit(
                host="127.0.0.1", port=server.port, security="none", sender="desk@quayside.example"
            ),
            None,
        )
        # the desk takes it in
        (hit,) = desk.search("0187", only=[HitKind.CLIENT]).groups[0].hits
        assert hit.title == "Bram Oakes, at home"
        visit = desk.visits.open(
            NewVisit(
                machine_id=machine.id, reported_problem="It is full, and the fan howls",
                accessories="charger",
                approval_limit=60, shelf="B3",
            )
        )  # fmt: skip
        note = desk.visits.seal_note(visit.id, "sign-in", "gull-1987")
        # one technician begins, another goes on with what was begun
        visit = wren.visits.set_turn(
            visit, NextTurn(turn=Turn.US, assignee_id=wren_id, todo="look", place="bench")
        )
        assert wren.visits.open_note(note.id).text == "gull-1987"
        wren.runs.survey(machine.tag)
        agent.once()
        part = wren.visits.order_part(visit.id, NewPart(item="a fan", supplier="Kittiwake"))
        owner.visits.set_part(part.id, PartState.ARRIVED)
        owner.runs.clean(machine.tag, ["user-temp"])
        agent.once()
        call = desk.records.add_note(
            machine.tag, "A fan for 80 is agreed to by phone.", is_call=True
        )
        advised = wren.upkeep.advise(
            machine.tag, AdviceEdit(kind=AdviceKind.OTHER, text="A larger disk.")
        )
        wren.upkeep.set_status(advised.id, AdviceStatus.DECLINED, "not now")
        clock.pass_(timedelta(days=1))
        visit = wren.visits.ready(
            wren.visits.get(visit.id), ReadyToFetch(mail="bram@oakes.example", comment="80 in all.")
        )
        report = desk.reports.make(ReportRequest(visit=visit.id, notes=(call.id,)))
        desk.reports.mail(report.id, "bram@oakes.example")
        post(context)
        assert [mail["Subject"].split()[0] for mail in box.mails] == ["Your", "Report:"]
        desk.visits.hand_over(
            desk.visits.get(visit.id), HandOver(outcome="mended", comment="A new fan.")
        )
    words = " ".join(
        page.extract_text() for page in PdfReader(io.BytesIO(owner.reports.pdf(report.id))).pages
    )
    for line in ("It is full, and the fan howls", "A fan for 80 is agreed to by phone.",
                 "Cleaned up", "A larger disk. You decided against it."):  # fmt: skip
        assert line in " ".join(words.split()), line
    assert "gull-1987" not in words

    # three weeks later it comes back
    clock.pass_(timedelta(weeks=3))
    back = owner.visits.open(
        NewVisit(
            machine_id=machine.id, reported_problem="It howls again", earlier_visit_id=visit.id
        )
    )
    assert back.earlier_visit_id == visit.id
    span = "machine:oakes-laptop from:2026-03-01 to:2026-03-10"
    groups = {group.kind: group for group in owner.search(span, limit=50).groups}
    lines = [hit.line for hit in groups[HitKind.ENTRY].hits]
    for words in ("the fan howls", "Removed", "agreed to by phone", "a fan from Kittiwake",
                 "ready to collect", "Report 1 sent to bram@oakes.example",
                 "A new fan"):  # fmt: skip
        assert any(words in text for text in lines), (words, lines)
    assert [hit.title for hit in groups[HitKind.VISIT].hits] == [f"Visit {visit.id}"]
    everything = list(owner.records.list(visit=visit.id))
    assert len(everything) >= 10 and {entry.visit_id for entry in everything} == {visit.id}
    assert owner.records.verify().intact
