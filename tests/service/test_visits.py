"""Visits: taken in, moved, handed over; what is done meanwhile belongs to them."""

from __future__ import annotations

from datetime import date, timedelta

import pytest

from conftest import Service
from helpers import Clock
from phylax.client import ChangedMeanwhileError, Phylax, RefusedError
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.desk.visits import HandOver, NewVisit, NextTurn, Turn, Visit
from phylax.core.record.records import RecordKind
from phylax.core.runs.runs import RunState
from phylax.service.context.context import Context
from phylax.service.runs.finish import give_up
from phylax.store.runs import runs


@pytest.fixture
def visit(owner: Phylax, machine: Machine) -> Visit:
    return owner.visits.open(
        NewVisit(
            machine_id=machine.id, reported_problem="It stops in the middle of the mail",
            accessories="charger",
            condition="a dent", due_on=date(2026, 3, 6), approval_limit=60, shelf="B3",
        )
    )  # fmt: skip


def test_a_machine_is_taken_in_and_stands_in_its_record(owner: Phylax, visit: Visit) -> None:
    assert (visit.kind, visit.place, visit.shelf, visit.turn) == (
        "at the bench", "shelf", "B3", Turn.US,
    )  # fmt: skip
    assert visit.opened_by == "Ines Marrow" and not visit.overdue
    (entry,) = owner.records.list(kinds=[RecordKind.VISIT])
    assert entry.visit_id == visit.id
    assert entry.text == (
        f"Visit {visit.id} opened, at the bench. The client says: “It stops in the middle of the "
        "mail”. Condition: a dent. Accessories: charger. Due 2026-03-06. "
        "Call before spending more than 60."
    )
    with pytest.raises(RefusedError, match=f"Visit {visit.id} of ferry-desk is open"):
        owner.visits.open(NewVisit(machine_id=visit.machine_id))


def test_whose_move_it_is_and_where_the_machine_stands(
    owner: Phylax, visit: Visit, clock: Clock
) -> None:
    wren = next(person for person in owner.people.list() if person.login == "wren")
    now = owner.visits.set_turn(
        visit, NextTurn(turn=Turn.US, assignee_id=wren.id, todo="look at the disk", place="bench")
    )
    assert (now.assignee_name, now.place, now.shelf) == ("Wren Halloran", "bench", "B3")
    now = owner.visits.set_turn(
        now, NextTurn(turn=Turn.CLIENT, todo="say yes to a new disk", follow_up_on=date(2026, 3, 4))
    )
    assert now.assignee_id is None and now.place == "bench"
    texts = [entry.text for entry in owner.records.list(visit=visit.id)]
    assert texts[0] == (
        f"Visit {visit.id}: waiting for the client: say yes to a new disk, until 2026-03-04. "
        "The machine is on the bench."
    )
    assert "waiting for Wren Halloran: look at the disk" in texts[1]
    clock.pass_(timedelta(days=2))
    assert not owner.visits.get(visit.id).overdue, "on the day itself it is not"
    clock.pass_(timedelta(days=1))
    assert owner.visits.get(visit.id).overdue
    with pytest.raises(RefusedError, match="when the turn is us"):
        owner.visits.set_turn(now, NextTurn(turn=Turn.SUPPLIER, assignee_id=wren.id))
    with pytest.raises(RefusedError, match="nobody of the shop"):
        owner.visits.set_turn(now, NextTurn(turn=Turn.US, assignee_id=99))


def test_the_board_has_the_overdue_first(
    owner: Phylax, machine: Machine, visit: Visit, clock: Clock
) -> None:
    later, soon = (
        owner.visits.open(
            NewVisit(
                machine_id=owner.machines.add(
                    MachineEdit(tag=tag, client_id=machine.client_id, system="linux")
                ).id,
                due_on=wanted,
            )
        )
        for tag, wanted in (("never", None), ("soon", date(2026, 3, 4)))
    )
    assert [v.id for v in owner.visits.board()] == [soon.id, visit.id, later.id]
    owner.visits.set_turn(later, NextTurn(turn=Turn.SUPPLIER, follow_up_on=date(2026, 3, 3)))
    assert [v.id for v in owner.visits.board()] == [later.id, soon.id, visit.id]
    clock.now = clock.now + timedelta(days=3)
    board = owner.visits.board()
    assert [(v.id, v.overdue) for v in board] == [
        (later.id, True), (soon.id, True), (visit.id, False),
    ]  # fmt: skip


def test_what_is_done_meanwhile_belongs_to_it_and_nothing_after(
    owner: Phylax, machine: Machine, visit: Visit, context: Context
) -> None:
    inside = owner.records.add_note(machine.id, "Called: she agrees.")
    run = owner.runs.survey(machine.tag)
    with context.db.write() as conn:
        waiting = runs.run(conn, run.id)
        assert waiting is not None
        give_up(conn, waiting, RunState.CALLED_OFF, "called off", at=context.now())
    ended = owner.visits.hand_over(
        visit, HandOver(outcome="mended", comment="A new disk", guaranteed_until=date(2027, 3, 2))
    )
    assert (ended.outcome, ended.place, ended.guaranteed_until) == (
        "mended", "client", date(2027, 3, 2),
    )  # fmt: skip
    after = owner.records.add_note(machine.id, "Called again.")
    assert inside.visit_id == visit.id and after.visit_id is None
    texts = [entry.text for entry in owner.records.list(visit=visit.id)]
    assert texts[0] == (
        f"Visit {visit.id} ended: handed over mended. A new disk. Guaranteed until 2027-03-02."
    )
    assert len(texts) == 4 and owner.records.verify().intact
    assert owner.visits.board() == []
    for late in (
        lambda: owner.visits.set_turn(ended, NextTurn(turn=Turn.US)),
        lambda: owner.visits.hand_over(ended, HandOver(outcome="mended")),
        lambda: owner.visits.change(ended, loaner="x"),
    ):
        with pytest.raises(RefusedError, match="has ended"):
            late()


def test_it_comes_back_from_an_earlier_visit_of_the_same_machine(
    owner: Phylax, machine: Machine, visit: Visit
) -> None:
    other = owner.machines.add(
        MachineEdit(tag="other", client_id=machine.client_id, system="linux")
    )
    with pytest.raises(RefusedError, match="had no visit"):
        owner.visits.open(NewVisit(machine_id=other.id, earlier_visit_id=visit.id))
    owner.visits.hand_over(visit, HandOver(outcome="not mended"))
    again = owner.visits.open(NewVisit(machine_id=machine.id, earlier_visit_id=visit.id))
    assert again.earlier_visit_id == visit.id
    with pytest.raises(RefusedError, match="had no visit"):
        owner.visits.change(again, earlier_visit_id=again.id)
    assert [v.id for v in owner.visits.list(machine=machine.tag)] == [again.id, visit.id]


def test_the_desk_takes_in_and_two_at_once_see_each_other(
    service: Service, owner: Phylax, machine: Machine
) -> None:
    with service.as_("petra") as desk:
        taken = desk.visits.open(NewVisit(machine_id=machine.id))
        changed = desk.visits.change(taken, accessories="bag", condition="wet")
        assert (changed.accessories, changed.opened_by) == ("bag", "Petra Lund")
        with pytest.raises(ChangedMeanwhileError):
            owner.visits.set_turn(taken, NextTurn(turn=Turn.US))
        owner.visits.set_turn(changed, NextTurn(turn=Turn.US))


def test_a_machine_with_an_open_visit_does_not_retire_and_a_retired_one_is_not_taken_in(
    owner: Phylax, machine: Machine, visit: Visit
) -> None:
    with pytest.raises(RefusedError, match=f"Visit {visit.id} of ferry-desk is open"):
        owner.machines.retire(owner.machines.get(machine.id))
    owner.visits.hand_over(visit, HandOver(outcome="not mended"))
    owner.machines.retire(owner.machines.get(machine.id))
    with pytest.raises(RefusedError, match="retired"):
        owner.visits.open(NewVisit(machine_id=machine.id))
