"""Listings of machines and entries: chosen and sorted by the service; views that people keep."""

from __future__ import annotations

import csv
import random
from datetime import UTC, datetime, timedelta

import httpx
import pytest
from pydantic import ValidationError

from conftest import Service
from helpers import PASSWORD, Clock
from phylax.client import Phylax, PhylaxError, sign_in
from phylax.core.clients.machine_list import MachineSort
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.machines import System
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.ground.values import edit_of
from phylax.core.record.records import RecordKind
from phylax.service.context.context import Context
from phylax.store.trends import readings


@pytest.fixture
def many(owner: Phylax, context: Context) -> list[Machine]:
    """Forty machines of four clients, some never read, some with two volumes and a likely day."""
    dice = random.Random(15)
    clients = [
        owner.clients.add(ClientEdit(name=name, phone=f"01 555 {n}"))
        for n, name in enumerate(("Kelpie Boatyard", "skerry office", "100% Wool", "A_B Prints"))
    ]
    for number in range(40):
        owner.machines.add(
            MachineEdit(
                tag=f"{dice.choice('abcdef')}-{number}",
                client_id=dice.choice(clients).id,
                system=dice.choice(list(System)),
                make=dice.choice(["Corrin", "Vanto", ""]),
                serial=f"SN{number:03d}",
                threshold_percent=dice.choice([None, 50, 80]),
            )
        )
    with context.db.write() as conn:
        for machine in owner.machines.list():
            for mount in dice.choice([(), ("/",), ("/", "/data")]):
                reading = ReadingIn(
                    mount=mount, capacity=1000, free=dice.randrange(0, 1000), at=context.clock()
                )
                readings.add(conn, machine.id, by_volume([reading]))
            if dice.random() < 0.5:
                conn.execute(
                    "UPDATE machines SET cleaned_at = ?, seen_at = ? WHERE id = ?",
                    (dice.randrange(10**9), dice.randrange(10**9), machine.id),
                )
        for volume in conn.execute("SELECT id, machine_id FROM volumes").fetchall():
            if dice.random() < 0.5:
                at = dice.randrange(10**9)
                conn.execute(
                    "INSERT INTO outlooks (volume_id, machine_id, free, soonest_at, crosses_at,"
                    " outlook) VALUES (?, ?, 0, ?, ?, '{}')",
                    (volume[0], volume[1], at - 5, at),
                )
    return list(owner.machines.list())


def _used(machine: Machine) -> float | None:
    return max(((v.capacity - v.free) / v.capacity for v in machine.volumes), default=None)


def _is_over(machine: Machine) -> bool:
    return 100 * (_used(machine) or 0) > machine.limit_percent


def _crosses(machine: Machine) -> datetime | None:
    if _is_over(machine):
        return datetime.fromtimestamp(0, UTC)
    return min((v.crosses.likely for v in machine.volumes if v.crosses), default=None)


KEYS = {
    MachineSort.TAG: lambda m: m.tag,
    MachineSort.TIGHTEST: _used,
    MachineSort.CROSSING: _crosses,
    MachineSort.CLEANED: lambda m: m.cleaned_at,
    MachineSort.SEEN: lambda m: m.seen_at,
}


@pytest.mark.parametrize("descending", [False, True])
@pytest.mark.parametrize("sort", list(KEYS))
def test_each_order_is_as_it_says_and_the_unknown_comes_last(
    owner: Phylax, many: list[Machine], sort: MachineSort, descending: bool
) -> None:
    key = KEYS[sort]
    listed = list(owner.machines.list(sort=sort, descending=descending))
    values = [key(machine) for machine in listed]
    known = [value for value in values if value is not None]
    assert sorted(m.id for m in listed) == [m.id for m in many], "each once"
    assert known == sorted(known, reverse=descending)
    assert values[: len(known)] == known, "what is not known is last"
    assert len(known) > 5


def test_clients_are_sorted_whatever_their_capitals(owner: Phylax, many: list[Machine]) -> None:
    names = [m.client_name for m in owner.machines.list(sort=MachineSort.CLIENT)]
    assert names == sorted(names, key=str.lower)


@pytest.mark.parametrize(
    "words", ["kelpie", "corrin a-", "SN017", "%", "_", "100%", "\\", "a_b vanto", "no such"]
)
def test_words_are_all_looked_for_and_are_no_patterns(
    owner: Phylax, many: list[Machine], words: str
) -> None:
    def holds(machine: Machine) -> bool:
        fields = (machine.tag, machine.client_name, machine.make, machine.model, machine.serial)
        return all(any(w in f.lower() for f in fields) for w in words.lower().split())

    expected = [m.id for m in many if holds(m)]
    assert [m.id for m in owner.machines.list(words=words)] == expected
    by_tag = owner.machines.list(words=words, sort=MachineSort.TAG)
    assert sorted(m.id for m in by_tag) == expected


def test_chips_choose(owner: Phylax, many: list[Machine]) -> None:
    full = [m.id for m in many if _is_over(m)]
    assert full
    assert [m.id for m in owner.machines.list(nearly_full=True)] == full
    two = [System.LINUX, System.MACOS]
    assert [m.id for m in owner.machines.list(systems=two)] == [
        m.id for m in many if m.system in two
    ]
    both = owner.machines.list(systems=[System.LINUX], nearly_full=True, sort=MachineSort.TIGHTEST)
    assert {m.id for m in both} == {m.id for m in many if m.system == "linux" and m.id in full}
    assert [m.id for m in owner.machines.list(without_round=True)] == [m.id for m in many]
    assert [m.id for m in owner.machines.list(not_enrolled=True)] == [m.id for m in many]
    of_client = many[0].client_id
    assert [m.id for m in owner.machines.list(client_id=of_client)] == [
        m.id for m in many if m.client_id == of_client
    ]


def _as(service: Service, login: str) -> httpx.Client:
    token = sign_in(service.url, login, PASSWORD)
    return httpx.Client(
        base_url=f"{service.url}/api/v2", headers={"Authorization": f"Bearer {token}"}
    )


def _get(service: Service, path: str, **headers: str) -> httpx.Response:
    with _as(service, "ines") as http:
        return http.get(path, headers=headers)


def test_a_listing_as_csv_has_a_line_for_each_volume(service: Service, many: list[Machine]) -> None:
    answer = _get(service, "/machines?sort=tag&nearly_full=true", Accept="text/csv")
    rows = list(csv.DictReader(answer.text.splitlines()))
    expected = [(m.tag, v.mount) for m in many if _is_over(m) for v in m.volumes]
    assert sorted((row["machine"], row["volume"]) for row in rows) == sorted(expected)
    assert [row["machine"] for row in rows] == sorted(row["machine"] for row in rows)
    chosen = _get(service, f"/machines?machine_id={many[3].id}", Accept="text/csv")
    assert {row["machine"] for row in csv.DictReader(chosen.text.splitlines())} == {many[3].tag}


def test_a_page_of_chosen_rows_leaves_out_who_is_not_there(
    service: Service, many: list[Machine]
) -> None:
    answer = _get(
        service, f"/machines?machine_id={many[9].id}&machine_id=999&machine_id={many[2].id}"
    )
    assert [row["id"] for row in answer.json()] == [many[9].id, many[2].id]


def test_an_order_that_there_is_not_is_refused(service: Service) -> None:
    answer = _get(service, "/machines/numbers?sort=luck")
    assert answer.status_code == 422
    assert "tightest" in answer.text


def test_entries_are_chosen_by_kind_person_client_and_span(
    service: Service, owner: Phylax, many: list[Machine], clock: Clock
) -> None:
    first, other = many[0], next(m for m in many if m.client_id != many[0].client_id)
    with service.as_("wren") as wren:
        wren.records.add_note(first.tag, "by wren")
    clock.pass_(timedelta(days=2))
    owner.records.add_note(other.tag, "by ines")
    now = clock()

    def texts(**chosen: object) -> list[str]:
        return [
            r.text
            for r in owner.records.list(kinds=[RecordKind.NOTE], **chosen)  # type: ignore
        ]

    assert texts() == ["by ines", "by wren"]
    assert texts(who="Wren Halloran") == ["by wren"]
    assert texts(client_id=other.client_id) == ["by ines"]
    assert texts(machine=first.tag) == ["by wren"]
    assert texts(since=now - timedelta(days=1)) == ["by ines"]
    assert texts(until=now - timedelta(days=1)) == ["by wren"]
    assert texts(words="wren", client_id=other.client_id) == []
    assert len(list(owner.records.list(kinds=[RecordKind.MACHINE]))) == len(many)
    authors = _get(service, "/records/authors").json()
    assert authors == ["Ines Marrow", "Wren Halloran"]


def test_views_are_ones_own_and_replaced_by_name(service: Service) -> None:
    with _as(service, "wren") as wren, _as(service, "petra") as petra:
        view = {"page": "machines", "name": "Full Linux", "query": "system=linux&nearly=yes"}
        made = wren.post("/views", json=view).json()
        assert wren.post("/views", json=view | {"query": "system=linux"}).json()["id"] == made["id"]
        assert [v["query"] for v in wren.get("/views?page=machines").json()] == ["system=linux"]
        assert wren.get("/views?page=records").json() == []
        assert petra.get("/views").json() == []
        assert petra.delete(f"/views/{made['id']}").status_code == 404
        for number in range(49):
            assert wren.post("/views", json=view | {"name": f"v{number}"}).status_code == 201
        refused = wren.post("/views", json=view | {"name": "one more"})
        assert refused.status_code == 409 and "50" in refused.json()["detail"]
        assert wren.post("/views", json=view).status_code == 201, "a name that is there"
        assert wren.delete(f"/views/{made['id']}").status_code == 204
        assert len(wren.get("/views").json()) == 49


def test_clients_are_found_by_words(owner: Phylax, many: list[Machine]) -> None:
    assert [c.name for c in owner.clients.list(words="kelpie")] == ["Kelpie Boatyard"]
    assert [c.name for c in owner.clients.list(words="555 2")] == ["100% Wool"]
    assert [c.name for c in owner.clients.list(words="%")] == ["100% Wool"]


def test_an_unknown_client_is_said(owner: Phylax) -> None:
    with pytest.raises(PhylaxError, match="no client"):
        owner.clients.find("nobody")


@pytest.mark.parametrize("tag", ["7", "0012", "new", "numbers", "free-lines", "labels"])
def test_a_tag_that_means_something_else_is_refused(owner: Phylax, tag: str) -> None:
    """All digits are a machine's number: `phylax run clean 7` would clean machine 7."""
    with pytest.raises(ValidationError, match="tag"):
        MachineEdit(tag=tag, client_id=1, system="linux")


def test_a_tag_of_digits_from_before_never_leads_to_another_machine(
    owner: Phylax, many: list[Machine], context: Context
) -> None:
    tagged, other, third = many[0], many[1], many[2]
    with context.db.write() as conn:
        conn.execute("UPDATE machines SET tag = ? WHERE id = ?", (str(other.id), tagged.id))
        conn.execute("UPDATE machines SET tag = '987654' WHERE id = ?", (third.id,))
    with pytest.raises(PhylaxError, match="give machine 1 another tag"):
        owner.machines.get(str(other.id))
    assert owner.machines.get(str(tagged.id)).id == tagged.id
    assert owner.machines.get("987654").id == third.id
    before = owner.machines.get(tagged.id)
    owner.machines.change(before, edit_of(MachineEdit, before, tag="back-again"))
    assert owner.machines.get(other.id).id == other.id
