"""Parts on order, machines that can be fetched, sealed notes."""

from __future__ import annotations

from datetime import date, timedelta

import pytest

from conftest import Service
from helpers import Clock, needs_attention
from mail_box import running_box
from phylax.client import (
    ChangedMeanwhileError,
    NotAllowedError,
    NotFoundError,
    Phylax,
    RefusedError,
)
from phylax.core.attention import Cause, NextStep
from phylax.core.attention.notices import MailServerEdit
from phylax.core.clients.shop import Machine
from phylax.core.desk.orders import NewPart, PartState, ReadyToFetch
from phylax.core.desk.visits import HandOver, NewVisit, NextTurn, Turn, Visit
from phylax.core.people.accounts import Role
from phylax.service.attention.notices.posting import post
from phylax.service.context.context import Context
from phylax.service.reporting.fetching import remind

SECRET = "albatross-under-the-keyboard"


@pytest.fixture
def visit(owner: Phylax, machine: Machine) -> Visit:
    return owner.visits.open(NewVisit(machine_id=machine.id, reported_problem="It clicks"))


def texts(owner: Phylax, visit: Visit) -> list[str]:
    return [entry.text for entry in owner.records.list(visit=visit.id)]


def test_a_part_is_waited_for_and_comes(
    owner: Phylax, visit: Visit, clock: Clock, context: Context
) -> None:
    part = owner.visits.order_part(
        visit.id, NewPart(item="SSD, 1 TB", supplier="Kittiwake", expected=date(2026, 3, 4))
    )
    owner.visits.order_part(visit.id, NewPart(item="a screw"))
    assert [(p.item, p.overdue) for p in owner.visits.parts()] == [
        ("SSD, 1 TB", False), ("a screw", False),
    ]  # fmt: skip
    assert texts(owner, visit)[1] == (
        f"Visit {visit.id}: ordered SSD, 1 TB from Kittiwake, expected 2026-03-04."
    )
    assert not [item for item in needs_attention(context, owner) if item.cause is Cause.PART_LATE]
    clock.pass_(timedelta(days=3))
    assert owner.visits.parts()[0].overdue
    (late,) = [item for item in needs_attention(context, owner) if item.cause is Cause.PART_LATE]
    assert late.evidence == "1 part late: SSD, 1 TB from Kittiwake, expected 4 Mar"
    assert late.next_step is NextStep.SEE_VISIT
    arrived = owner.visits.set_part(part.id, PartState.ARRIVED)
    assert (arrived.state, arrived.overdue, arrived.ended_by) == ("arrived", False, "Ines Marrow")
    owner.visits.set_part(part.id, PartState.ARRIVED)
    assert texts(owner, visit).count(f"Visit {visit.id}: SSD, 1 TB arrived.") == 1
    assert [p.item for p in owner.visits.parts()] == ["a screw"]
    assert len(owner.visits.parts(visit.id)) == 2
    assert not [item for item in needs_attention(context, owner) if item.cause is Cause.PART_LATE]
    owner.visits.hand_over(owner.visits.get(visit.id), HandOver(outcome="mended"))
    assert [p.item for p in owner.visits.parts()] == ["a screw"], "it may come still"
    (screw,) = owner.visits.parts()
    owner.visits.set_part(screw.id, PartState.CALLED_OFF)
    assert not owner.visits.parts()
    with pytest.raises(RefusedError, match="has ended"):
        owner.visits.order_part(visit.id, NewPart(item="x"))
    with pytest.raises(NotFoundError):
        owner.visits.set_part(99, PartState.ARRIVED)


def test_an_overdue_visit_needs_somebody(
    owner: Phylax, visit: Visit, clock: Clock, context: Context
) -> None:
    owner.visits.set_turn(
        visit, NextTurn(turn=Turn.CLIENT, todo="say yes", follow_up_on=date(2026, 3, 3))
    )
    assert not [
        item for item in needs_attention(context, owner) if item.cause is Cause.VISIT_OVERDUE
    ]
    clock.pass_(timedelta(days=2))
    (late,) = [
        item for item in needs_attention(context, owner) if item.cause is Cause.VISIT_OVERDUE
    ]
    assert (late.reason, late.evidence) == (
        f"Visit {visit.id} is overdue", "Waiting for the client: say yes",
    )  # fmt: skip
    owner.visits.ready(owner.visits.get(visit.id), ReadyToFetch())
    assert not [
        item for item in needs_attention(context, owner) if item.cause is Cause.VISIT_OVERDUE
    ]


def test_a_client_is_told_by_mail_and_reminded_three_times_and_then_somebody_rings(
    owner: Phylax, visit: Visit, clock: Clock, context: Context
) -> None:
    with pytest.raises(RefusedError, match="No mail server"):
        owner.visits.ready(visit, ReadyToFetch(mail="aoife@ferry.example"))
    assert owner.visits.get(visit.id).ready_at is None
    with running_box() as (box, server):
        owner.notices.set_mail_server(
            MailServerEdit(
                host="127.0.0.1", port=server.port, security="none", sender="desk@quayside.example"
            ),
            None,
        )
        ready = owner.visits.ready(
            visit, ReadyToFetch(mail="aoife@ferry.example", comment="It costs 60.")
        )
        assert (ready.turn, ready.todo, ready.ready_mail) == (
            "client", "fetch it", "aoife@ferry.example",
        )  # fmt: skip
        with pytest.raises(ChangedMeanwhileError):
            owner.visits.ready(visit, ReadyToFetch())
        mails = []
        for day in range(40):
            remind(context)
            remind(context)
            post(context)
            mails += [(day, mail) for mail in box.mails]
            box.mails.clear()
            rings = [
                item for item in needs_attention(context, owner) if item.cause is Cause.NOT_FETCHED
            ]
            assert bool(rings) == (day >= 30)
            clock.pass_(timedelta(days=1))
        assert [(day, mail["To"]) for day, mail in mails] == [
            (day, "aoife@ferry.example") for day in (0, 7, 14, 30)
        ]
        assert "ready to collect" in mails[0][1]["Subject"]
        first = mails[0][1].get_content()
        assert "It costs 60." in first and f"number {visit.id}" in first
        assert "ready for 7 days" in mails[1][1].get_content()
        assert rings[0].evidence == f"Visit {visit.id}; reminded 3 times by mail"
        owner.visits.hand_over(owner.visits.get(visit.id), HandOver(outcome="mended"))
        clock.pass_(timedelta(days=30))
        remind(context)
        assert post(context) == 0


def test_who_was_told_otherwise_is_rung_after_a_week_and_a_move_ends_it(
    owner: Phylax, visit: Visit, clock: Clock, context: Context
) -> None:
    owner.visits.ready(visit, ReadyToFetch())
    clock.pass_(timedelta(days=7))
    (ring,) = [item for item in needs_attention(context, owner) if item.cause is Cause.NOT_FETCHED]
    assert "nobody was told by mail" in ring.evidence
    back = owner.visits.set_turn(owner.visits.get(visit.id), NextTurn(turn=Turn.US))
    assert back.ready_at is None
    assert not [item for item in needs_attention(context, owner) if item.cause is Cause.NOT_FETCHED]


def test_a_sealed_note_is_read_by_who_works_on_it_and_gone_at_hand_over(
    owner: Phylax, service: Service, visit: Visit, context: Context
) -> None:
    with service.as_("petra") as desk, service.as_("wren") as wren:
        note = desk.visits.seal_note(visit.id, "Bram's sign-in", SECRET)
        assert desk.visits.open_note(note.id).text == SECRET
        with pytest.raises(NotAllowedError, match="take the move first"):
            wren.visits.open_note(note.id)
        me = next(person for person in owner.people.list() if person.role is Role.TECHNICIAN)
        wren.visits.set_turn(wren.visits.get(visit.id), NextTurn(turn=Turn.US, assignee_id=me.id))
        assert wren.visits.open_note(note.id).text == SECRET
        (shown,) = wren.visits.sealed_notes(visit.id)
        assert [reading.who for reading in shown.readings] == ["Petra Lund", "Wren Halloran"]
        owner.visits.hand_over(owner.visits.get(visit.id), HandOver(outcome="mended"))
        (shown,) = wren.visits.sealed_notes(visit.id)
        assert shown.destroyed_at is not None
        for shop in (wren, owner, desk):
            with pytest.raises(RefusedError, match="has ended"):
                shop.visits.open_note(note.id)
    assert not any(SECRET in text for text in texts(owner, visit))
    with context.db.write() as conn:
        kept = conn.execute("SELECT sealed FROM sealed_notes").fetchall()
        everything = "\n".join(conn.iterdump())
    assert [row[0] for row in kept] == [""]
    assert SECRET not in everything
    files = b"".join(path.read_bytes() for path in context.db.path.parent.glob("*.sqlite3*"))
    assert SECRET.encode() not in files


def test_a_desk_or_another_technician_reads_no_note_of_others_and_all_may_destroy(
    owner: Phylax, service: Service, visit: Visit
) -> None:
    note = owner.visits.seal_note(visit.id, "sign-in", SECRET)
    with service.as_("petra") as desk:
        with pytest.raises(NotAllowedError):
            desk.visits.open_note(note.id)
        desk.visits.destroy_note(note.id)
    with pytest.raises(RefusedError, match="destroyed"):
        owner.visits.open_note(note.id)
    with pytest.raises(NotFoundError):
        owner.visits.open_note(99)
    with pytest.raises(NotFoundError):
        owner.visits.sealed_notes(99)
