"""The machines that are in hand at the made-up shop."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from sqlite3 import Connection

from phylax.core.desk.orders import NewPart
from phylax.core.desk.visits import NewVisit, NextTurn, Turn, moved_in_words, opened_in_words
from phylax.core.ground.values import to_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.core.reporting.request import LetterheadEdit
from phylax.store.desk import parts as desk
from phylax.store.desk import visits
from phylax.store.people import people
from phylax.store.record import records
from phylax.store.reporting import reports


def take_in(conn: Connection, machine_ids: dict[str, int], now: datetime) -> None:
    """Three open visits: one ours, one a client's that is late, one a supplier's."""
    today = now.date()
    wren = people.by_login(conn, "wren")
    assert wren is not None
    for new, move, hours_ago in (
        (
            NewVisit(
                machine_id=machine_ids["museum-desk"],
                reported_problem="It takes ten minutes to start, and the visitors wait.",
                condition="old, clean", accessories="power cable", shelf="A1", approval_limit=150,
            ),
            NextTurn(turn=Turn.CLIENT, todo="approve an SSD in place of the spinning disk",
                 follow_up_on=today - timedelta(days=1)),
            100,
        ),
        (
            NewVisit(
                machine_id=machine_ids["library-3"],
                reported_problem="The children say that it clicks.", accessories="nothing",
                shelf="A2",
            ),
            NextTurn(turn=Turn.SUPPLIER, todo="send the new disk",
            follow_up_on=today + timedelta(days=3)),
            50,
        ),
        (
            NewVisit(
                machine_id=machine_ids["oakes-laptop"],
                reported_problem="It is full again, and the fan howls when my granddaughter plays.",
                condition="a dent at the hinge", accessories="charger, bag, two sticks",
                due_on=today + timedelta(days=2), approval_limit=60, shelf="B3",
                loaner="the grey loan laptop",
            ),
            NextTurn(turn=Turn.US, assignee_id=wren[0].id, todo="clean the fan, then the caches",
                 place="bench"),
            3,
        ),
    ):  # fmt: skip
        number = _open(conn, new, move, now - timedelta(hours=hours_ago), today)
        if move.turn is Turn.SUPPLIER:
            part = NewPart(
                item="a solid-state disk, 500 GB",
                supplier="Kittiwake Parts",
                expected=move.follow_up_on,
            )
            desk.add_part(conn, number, part, who="Petra Lund", at=to_seconds(now))


_MARK = b"""<svg xmlns="http://www.w3.org/2000/svg" width="64" height="40" viewBox="0 0 64 40">
<path d="M4 30 L32 8 L60 30 Z" fill="none" stroke="#0b5c63" stroke-width="4"/>
<path d="M4 36 Q18 30 32 36 T60 36" fill="none" stroke="#0b5c63" stroke-width="3"/></svg>
"""


def print_papers(conn: Connection, now: datetime) -> None:
    """The head, terms and mark of the shop's papers."""
    at = to_seconds(now)
    edit = LetterheadEdit(
        head="Quayside Computer Repair\nNorth Quay 4, Tarn Skerry\ndesk@quayside.example",
        foot="Monday to Friday 9 to 17, Saturday 10 to 13",
        terms="What is not fetched within three months we may dispose of, after three letters. "
        "We look after what lies on a machine as well as we can; keep a copy of what you cannot "
        "lose. Above the amount agreed we ask before we go on.",
    )
    reports.put_letterhead(conn, edit, who="Ines Marrow", at=at)
    reports.put_mark(conn, "svg", _MARK, who="Ines Marrow", at=at)


def _open(conn: Connection, new: NewVisit, move: NextTurn, at: datetime, today: date) -> int:
    number = visits.add(conn, new, who="Petra Lund", at=to_seconds(at))
    opened = visits.visit(conn, number, today=today)
    assert opened is not None
    _write(conn, new.machine_id, opened_in_words(opened), "Petra Lund", at)
    later = at + timedelta(hours=1)
    visits.set_turn(conn, number, move, who="Wren Halloran", at=to_seconds(later))
    moved = visits.visit(conn, number, today=today)
    assert moved is not None
    _write(conn, new.machine_id, moved_in_words(moved), "Wren Halloran", later)
    return number


def _write(conn: Connection, machine_id: int, text: str, who: str, at: datetime) -> None:
    records.append(
        conn, Entry(machine_id=machine_id, at=at, who=who, kind=RecordKind.VISIT, text=text)
    )
