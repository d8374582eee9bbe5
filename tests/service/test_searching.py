"""Looking something up in the record: by words, tags, clients, other spellings, fields."""

from __future__ import annotations

from datetime import date

import pytest

from helpers import Clock
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.values import edit_of
from phylax.core.record.records import RecordKind
from phylax.core.record.searching import Search, other_spellings, read_search, spelled_out
from phylax.service.context.context import Context


@pytest.fixture
def two(owner: Phylax) -> tuple[Machine, Machine]:
    made = []
    for client, tag in (("Tidewrack Pottery", "pottery-mac"), ("Kelpie Boatyard", "boatyard-cad")):
        new = owner.clients.add(ClientEdit(name=client))
        made.append(owner.machines.add(MachineEdit(tag=tag, client_id=new.id, system="macos")))
    first, second = made
    owner.records.add_note(first.id, "Told Jörg Müller that tickets-2024.xlsx was kept.")
    owner.records.add_note(second.id, "The fan of the tower was full of dust.")
    return first, second


def texts(owner: Phylax, words: str) -> list[str]:
    return [entry.text for entry in owner.records.list(words=words)]


@pytest.mark.parametrize(
    ("words", "hits"),
    [
        ("pottery-mac", 2), ("pottery", 2), ("tidewrack", 2), ("kelpie fan", 1), ("fan", 1),
        ("tick", 1), ("tickets-2024.xlsx", 1), ("muller", 1), ("mueller", 1), ("Müller", 1),
        ("MUELLER joerg", 1), ("muell", 1), ("fan dust tower", 1), ("fan pottery", 0),
        ("fa tower", 0), ("ines", 4), ("C:", 0), ('"full of dust"', 1), ('"dust of"', 0),
        ("* ( OR", 0), ("'", 0), ("machine:pottery-mac kept", 1), ("machine:pottery-mac fan", 0),
        ("client:kelpie", 2), ('client:"Kelpie Boatyard" kind:note', 1), ("by:marrow kind:note", 2),
        ("by:wren", 0), ("kind:note kind:machine", 4), ("from:2026-03-02 to:2026-03-02", 4),
        ("to:2026-03-01", 0), ("other:thing", 0), ("by:%", 0), ("by:ines_marrow", 0),
    ],
)  # fmt: skip
def test_entries_are_found(
    owner: Phylax, two: tuple[Machine, Machine], words: str, hits: int
) -> None:
    assert len(texts(owner, words)) == hits, texts(owner, words)


@pytest.mark.parametrize(
    ("words", "why"),
    [
        ("kind:joke", "there are run, note, call, machine"), ("from:yesterday", "write it as"),
        ("from:2026-03-02 to:2026-03-01", "is later than"), ("machine: fan", "without a space"),
        ("machine:nobody", "no machine"), ("client:nobody", "has to be one client"),
        ("by:a by:b", "there twice"), ("client:o", "there are: "),
    ],
)  # fmt: skip
def test_what_cannot_be_asked_is_said(
    owner: Phylax, two: tuple[Machine, Machine], words: str, why: str
) -> None:
    with pytest.raises(RefusedError, match=why):
        texts(owner, words)


def test_entries_follow_the_names_of_their_machine_and_client(
    owner: Phylax, two: tuple[Machine, Machine], context: Context
) -> None:
    first, second = two
    now = owner.machines.get(first.id)
    owner.machines.change(now, edit_of(MachineEdit, now, tag="kiln-mac"))
    client = owner.clients.get(second.client_id)
    owner.clients.change(client, edit_of(ClientEdit, client, name="Selkie Boatyard"))
    assert len(texts(owner, "kiln")) == 2 and not texts(owner, "pottery-mac")
    assert len(texts(owner, "selkie")) == 2 and not texts(owner, "kelpie")
    now = owner.machines.get(first.id)
    owner.machines.change(now, edit_of(MachineEdit, now, client_id=second.client_id))
    assert len(texts(owner, "selkie")) == 4 and not texts(owner, "tidewrack")
    with context.db.write() as conn:
        conn.execute("INSERT INTO records_text (records_text) VALUES ('integrity-check')")


def test_days_are_the_shops(owner: Phylax, two: tuple[Machine, Machine], clock: Clock) -> None:
    clock.now = clock.now.replace(month=6, hour=23, minute=30)
    owner.records.add_note(two[0].id, "Late in June.")
    # half past midnight in Dublin
    assert texts(owner, "from:2026-06-03 to:2026-06-03") == ["Late in June."]
    assert not texts(owner, "from:2026-06-02 to:2026-06-02")


def test_questions_are_read() -> None:
    asked = read_search('machine:a by:"Ines M" kind:NOTE from:2026-01-01 C:\\Temp x "y z')
    assert asked == Search(
        ("C:\\Temp", "x", "y z"), "a", "", "Ines M", (RecordKind.NOTE,), date(2026, 1, 1)
    )
    assert read_search("") == Search()
    assert read_search("\0\0") == Search()


def test_letters_are_spelled_out() -> None:
    assert spelled_out("Straße ÆØÅ Çédille Łódź") == "strasse aeoeaa cedille lodz"
    assert other_spellings("Jörg grüßt Ørsted, café") == "joerg gruesst oersted"
