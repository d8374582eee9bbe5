"""One search over everything: machines, clients, visits, entries, advice, programs, files."""

from __future__ import annotations

import csv
import io
import json
from datetime import UTC, datetime, timedelta

import pytest

from helpers import Clock
from phylax.client import NotFoundError, Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.desk.advice import AdviceEdit, AdviceKind
from phylax.core.desk.visits import HandOver, NewVisit
from phylax.core.ground.tally import Tally
from phylax.core.hold.holds import HeldItem
from phylax.core.inventory.programs import InstalledProgram, ProgramsListed
from phylax.core.protocol import (
    CategoryOutcome,
    HeldMessage,
    LeftItem,
    ResultMessage,
    UnheldMessage,
)
from phylax.core.record.searching import HitKind
from phylax.core.retention.rules import Reason
from phylax.core.survey import SkippedSum
from phylax.service.context.context import Context
from phylax.service.runs import ingest
from phylax.store.checks import inventories


@pytest.fixture
def shop(owner: Phylax, machine: Machine, context: Context, clock: Clock) -> Phylax:
    """A shop that knows something of each kind."""
    muller = owner.clients.add(
        ClientEdit(name="Jörg Müller", phone="0555 / 01-87", contact="his daughter Aoife")
    )
    laptop = owner.machines.add(
        MachineEdit(tag="muller-laptop", client_id=muller.id, system="windows", serial="CO-913")
    )
    visit = owner.visits.open(
        NewVisit(machine_id=laptop.id, reported_problem="It howls like a wolf")
    )
    owner.visits.hand_over(visit, HandOver(outcome="mended", comment="Dust in the fan"))
    owner.records.add_note(machine.tag, "The tide table printer is at Straße 9.")
    owner.upkeep.advise(machine.tag, AdviceEdit(kind=AdviceKind.OTHER, text="A new printer cable"))
    run = owner.runs.clean(machine.tag, ["trash"])
    at = clock.now
    items = tuple(
        HeldItem(number=number, place="C:\\Users\\Maren\\Downloads", path=path, size=1024)
        for number, path in enumerate(("old/tickets-2024.xlsx", "old/film.iso", "gone.txt"), 1)
    )
    held = HeldMessage(
        id="held-1-aaaa", run_id=run.id, batch="9.trash.0a1b2c3d", category="trash", mount="C:",
        held_at=at, expires_at=at + timedelta(days=7), items=items,
    )  # fmt: skip
    unheld = UnheldMessage(
        id="unheld-1-aaaa", batch=held.batch, status="gone", at=at, numbers=((3, 3),)
    )
    left = LeftItem(
        category="trash", place="C:\\", path="locked.docx", size=5, reason=Reason.IN_USE
    )
    result = ResultMessage(
        id="result-1-aaaa", run_id=run.id, started_at=at, ended_at=at, passes=1, left=(left,),
        outcomes=(CategoryOutcome(
            category="trash", removed=Tally(count=1, size=1),
            left=(SkippedSum(reason=Reason.IN_USE, count=1, size=5),)),),
    )  # fmt: skip
    with context.db.write() as conn:
        for message in (held, unheld, result):
            ingest.apply(conn, machine.id, message, at=context.now())
        listed = ProgramsListed(
            programs=(InstalledProgram(key="tunebox", name="Tunebox Player", version="4.2"),),
            taken_at=at,
        )
        inventories.put(conn, machine.id, listed)
    return owner


def titles(shop: Phylax, words: str) -> dict[str, list[str]]:
    results = shop.search(words)
    return {group.kind: [hit.title for hit in group.hits] for group in results.groups}


def line(shop: Phylax, words: str, kind: HitKind) -> str:
    (group,) = shop.search(words, only=[kind]).groups
    return group.hits[0].line


def test_what_became_of_this_file(shop: Phylax) -> None:
    assert titles(shop, "tickets-2024.xlsx") == {"file": ["tickets-2024.xlsx"]}
    assert titles(shop, "tickets-2024.xlsx machine:ferry-desk") == {"file": ["tickets-2024.xlsx"]}
    assert titles(shop, "tickets-2024.xlsx machine:muller-laptop") == {}
    assert titles(shop, "tickets-2024.xlsx to:2020-01-01") == {}
    assert line(shop, "film.iso", HitKind.FILE) == (
        "held until 9 Mar, 1.0 KiB: C:\\Users\\Maren\\Downloads/old/film.iso"
    )
    assert line(shop, "gone.txt", HitKind.FILE).startswith("deleted for good, 1.0 KiB")
    assert line(shop, "locked.docx", HitKind.FILE) == "left, in use, 5 B: C:\\/locked.docx"
    assert "tickets-2024.xlsx" in titles(shop, "tick")["file"]
    assert "locked.docx" in titles(shop, '"locked.docx"')["file"]


def test_each_kind_is_found_by_what_people_remember(shop: Phylax) -> None:
    assert titles(shop, "CO-913") == {"machine": ["muller-laptop"]}
    for words in ("mueller", "Müller", "muller", "Aoife", "055501", "0187"):
        assert titles(shop, words)["client"] == ["Jörg Müller"], words
    assert titles(shop, "wolf")["visit"] == ["Visit 1"]
    assert titles(shop, "dust")["visit"] == ["Visit 1"]
    assert titles(shop, "1 machine:muller-laptop")["visit"] == ["Visit 1"]
    assert titles(shop, "printer") == {"advice": ["told"], "entry": ["Ines Marrow"] * 2}
    assert titles(shop, "strasse")["entry"] == ["Ines Marrow"]
    assert titles(shop, "tunebox") == {"program": ["Tunebox Player"]}
    assert titles(shop, "tunebox client:Müller") == {}
    assert set(titles(shop, "machine:ferry-desk")) == {"advice", "entry"}
    assert set(titles(shop, "kind:visit")) == {"entry"}
    assert titles(shop, "") == {} and titles(shop, "nothing-like-it") == {}


def test_what_cannot_be_is_said(shop: Phylax) -> None:
    for words, why in (("kind:nothing", "no entry is of the kind"), ("from:x", "is no day"),
                       ("client:nobody", "has to be one client")):  # fmt: skip
        with pytest.raises(RefusedError, match=why):
            shop.search(words)
    with pytest.raises(NotFoundError):
        shop.search("machine:none")
    for words in ('"', "''", "a OR b", "NEAR(", "*", "x*y", "-", "%", "_", "\\", "tag:x",
                  "(" * 90, "🙂", "ß" * 200, "AND", "col : x"):  # fmt: skip
        shop.search(words)


def test_as_lines_for_other_programs(shop: Phylax) -> None:
    rows = list(csv.DictReader(io.StringIO(shop.search_as("tickets-2024.xlsx", "csv"))))
    assert [(row["kind"], row["title"], row["machine"]) for row in rows] == [
        ("file", "tickets-2024.xlsx", "ferry-desk")
    ]
    lines = shop.search_as("printer", "jsonl").splitlines()
    assert [json.loads(row)["kind"] for row in lines] == ["advice", "entry", "entry"]


def test_more_is_said_and_shown(shop: Phylax, machine: Machine) -> None:
    for number in range(4):
        shop.records.add_note(machine.tag, f"gull {number}")
    (group,) = shop.search("gull", limit=3).groups
    assert len(group.hits) == 3 and group.more
    assert group.hits[0].line == "gull 3" and group.hits[0].at == datetime(
        2026, 3, 2, 9, tzinfo=UTC
    )
    (group,) = shop.search("gull", limit=4).groups
    assert not group.more
