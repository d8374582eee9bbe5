"""Names that were kept for their span go, and what they stood on stays; people leave and return."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import pytest

from conftest import Service
from forgotten_shop import bytes_below
from helpers import TUESDAY, Clock, enrol, make_file, make_standin
from phylax.client import NotAllowedError, Phylax, RefusedError
from phylax.core.clients.shop import Machine
from phylax.core.desk.visits import NewVisit, NextTurn, Turn
from phylax.core.people.accounts import NewPerson, Role
from phylax.core.record.records import RecordKind
from phylax.core.retention import Rule, Scope
from phylax.core.scheduling.rounds import RoundEdit
from phylax.service.backups import making
from phylax.service.context.context import Context
from phylax.service.erasing import forgetting
from phylax.store.erasing import data_retention
from phylax.store.erasing.spans import sweep_spans
from phylax.store.erasing.staff import forget_person
from phylax.store.record import audit

GO_ON = forgetting.go_on
FILM = "urlaubsfilm-jjqv.mkv"
NAME, LOGIN = "Quirin Zabelstolz", "quirinz"


@pytest.fixture(autouse=True)
def _by_hand(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(forgetting, "go_on", lambda context: None)


def below(context: Context) -> bytes:
    return bytes_below(context.db.path.parent, making.BESIDE, "m", "agent")


def test_names_of_files_go_after_their_span_and_figures_stay(
    owner: Phylax, context: Context, machine: Machine, clock: Clock, tmp_path: Path
) -> None:
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for="P3D"))
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp" / FILM, 1_000_000, days_old=3)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.survey(machine.tag)
    agent.once()
    run = owner.runs.clean(machine.tag, ["user-temp"])
    agent.once()
    with context.db.write() as conn:
        conn.execute(
            "UPDATE runs SET result = json_set(result, '$.left', json(?)) WHERE id = ?",
            (json.dumps([{"category": "user-temp", "place": "tmp", "path": f"left-{FILM}",
                          "size": 1, "reason": "in use"}]), run.id),
        )  # fmt: skip
        conn.execute(
            "INSERT INTO notices (uid, kind, receiver, subject, body, made_at, due_at, state)"
            " VALUES ('x', 'daily', 'a@b.example', 'Today', 'Qualmstab', ?, 1, 'delivered')",
            (context.now(),),
        )
    (hold,) = owner.holds.list(machine.tag)
    held = owner.runs.get(run.id)
    clock.pass_(timedelta(days=760))
    # what is still held keeps its name, however long
    sweep_spans(context.db, at=context.now())
    assert [item.path for item in owner.holds.items(hold.id)] == [FILM]
    assert f"left-{FILM}".encode() not in below(context) and b"Qualmstab" not in below(context)
    with context.db.write() as conn:
        gone_at = data_retention.before(24, context.now()) + 60
        conn.execute("UPDATE held_items SET status = 'gone', status_at = ?", (gone_at,))
    clock.pass_(timedelta(days=1))
    assert FILM.encode() in below(context)
    assert sweep_spans(context.db, at=context.now()) is True
    assert FILM.encode() not in below(context) and b"jjqv" not in below(context)
    after = owner.runs.get(run.id)
    assert (after.freed, after.removed, after.held) == (held.freed, held.removed, held.held)
    assert not owner.search(FILM).groups
    assert owner.records.verify().intact
    assert sweep_spans(context.db, at=context.now()) is False
    with context.db.write() as conn:
        conn.execute("INSERT INTO files_text (files_text, rank) VALUES ('integrity-check', 1)")
    agent.close()


def test_spans_are_the_owners_and_are_seen_to_once_a_day(
    owner: Phylax, service: Service, context: Context, clock: Clock, monkeypatch: pytest.MonkeyPatch
) -> None:
    swept: list[int] = []
    real: Callable[..., bool] = forgetting.sweep_spans

    def counted(*args: object, **more: int) -> bool:
        swept.append(more["at"])
        return real(*args, **more)

    monkeypatch.setattr(forgetting, "sweep_spans", counted)
    for _ in range(3):
        GO_ON(context)
        clock.pass_(timedelta(hours=11))
    assert len(swept) == 1
    clock.pass_(timedelta(hours=11))
    GO_ON(context)
    assert len(swept) == 2
    plan = owner.archives.keeping()
    assert (plan.file_names_months, plan.notices_months, plan.staff_months) == (24, 24, None)
    with service.as_("wren") as technician, pytest.raises(NotAllowedError):
        technician.archives.set_keeping(plan, staff_months=1)
    plan = owner.archives.set_keeping(plan, staff_months=36)
    assert plan.staff_months == 36 and plan.swept_at is None
    GO_ON(context)
    assert len(swept) == 3, "a span that was changed is dealt with at once"
    with context.db.read() as conn:
        assert data_retention.before(12, 10**9) == 10**9 - 31557600
        assert data_retention.files_until(conn) < context.now()


@pytest.fixture
def somebody(owner: Phylax, service: Service, context: Context, machine: Machine) -> int:
    """Who did all sorts of things."""
    password = "four plain words here"
    person = owner.people.add(
        NewPerson(login=LOGIN, name=NAME, role=Role.TECHNICIAN, password=password)
    )
    from phylax.client import sign_in

    with Phylax(service.url, sign_in(service.url, LOGIN, password)) as quirin:
        quirin.records.add_note(machine.id, "Müller's fan.")
        visit = quirin.visits.open(NewVisit(machine_id=machine.id, reported_problem="It is slow"))
        quirin.visits.set_turn(
            visit, NextTurn(place="bench", turn=Turn.US, assignee_id=person.id, todo="fan")
        )
        quirin.runs.survey(machine.tag)
    edit = TUESDAY.model_dump() | {"machine_ids": (machine.id,), "responsible_id": person.id}
    owner.rounds.add(RoundEdit.model_validate(edit))
    return person.id


def test_what_hangs_on_somebody_is_said_before_and_is_theirs_again(
    owner: Phylax, somebody: int
) -> None:
    meaning = owner.people.what_leaving_means(somebody)
    assert len(meaning.visits) == 1 and len(meaning.rounds) == 1
    said = " ".join(meaning.in_words)
    assert "assigned to them" in said and "They are responsible for" in said and "stays" in said
    owner.people.leave_for_good(somebody)
    assert "chose a password" in " ".join(owner.people.what_leaving_means(somebody).in_words)
    back = owner.people.bring_back(somebody)
    assert back.active and back.left_at is None and back.role is Role.TECHNICIAN
    assert owner.people.make_link(somebody).secret
    assert owner.people.what_leaving_means(somebody).rounds == meaning.rounds
    with pytest.raises(RefusedError, match="has not left"):
        owner.people.bring_back(somebody)


def test_the_name_of_who_left_goes_after_its_span_and_what_they_did_stays(
    owner: Phylax, context: Context, machine: Machine, somebody: int, clock: Clock
) -> None:
    owner.archives.set_keeping(owner.archives.keeping(), staff_months=12)
    owner.people.leave_for_good(somebody)
    clock.pass_(timedelta(days=300))
    GO_ON(context)
    assert NAME.encode() in below(context)
    clock.pass_(timedelta(days=100))
    GO_ON(context)
    texts = [entry.text for entry in owner.records.list(machine=machine.tag)]
    (note,) = [e for e in owner.records.list(machine=machine.tag) if e.kind is RecordKind.NOTE]
    assert (note.who, note.text, note.erased) == ("", "Müller's fan.", False)
    assert next(owner.records.list(words="mueller")).id == note.id
    checked = owner.records.verify()
    assert checked.intact and checked.erased >= 3
    with context.db.write() as conn:
        said = audit.verify(conn)
        assert said.intact and said.erased >= 3
        conn.execute("INSERT INTO records_text (records_text, rank) VALUES ('integrity-check', 1)")
    # their name as part of a text is what somebody wrote, and stays
    named = sum(text.count(NAME) for text in texts)
    assert named == 1
    with context.db.read() as conn:
        dump = [line for line in conn.iterdump() if "waiting for" not in line]
    assert [line[:80] for line in dump if NAME in line or LOGIN in line] == []
    assert owner.runs.get(1).made_by == f"Former technician {somebody}"
    with pytest.raises(RefusedError, match="add them anew"):
        owner.people.bring_back(somebody)


def test_of_two_with_one_name_nobody_can_say_who_did_what(
    owner: Phylax, context: Context, somebody: int
) -> None:
    owner.people.add(NewPerson(login="other", name=NAME, role=Role.DESK, password=None))
    owner.people.leave_for_good(somebody)
    forget_person(context.db, somebody, at=context.now())
    assert [e.who for e in owner.records.list() if e.kind is RecordKind.NOTE] == [NAME]
    assert owner.records.verify().erased == 0
