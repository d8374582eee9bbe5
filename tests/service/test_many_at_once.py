"""Many people and programs at the same time: nothing twice, nothing lost, one chain."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from conftest import Service
from helpers import TUESDAY
from phylax.client import ChangedMeanwhileError, Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler


def at_once(action: Callable[[int], object], times: int = 8) -> list[object]:
    """The action by several threads at the same time; what each returned or raised."""

    def tried(number: int) -> object:
        try:
            return action(number)
        except RefusedError as error:
            return error

    with ThreadPoolExecutor(times) as threads:
        return list(threads.map(tried, range(times)))


def test_the_same_request_sent_eight_times_at_once_is_done_once(owner: Phylax) -> None:
    def ask(number: int) -> httpx.Response:
        key = {"Idempotency-Key": "the-same"}
        return owner.send("POST", "/clients", body=ClientEdit(name="Once"), headers=key)

    answers = at_once(ask)
    assert {answer.text for answer in answers if isinstance(answer, httpx.Response)} == {
        answers[0].text  # type: ignore[attr-defined]
    }
    assert [client.name for client in owner.clients.list()] == ["Once"]


def test_notes_written_at_once_make_one_chain(owner: Phylax, machine: Machine) -> None:
    at_once(lambda n: [owner.records.add_note(machine.id, f"{n}-{k}") for k in range(6)])
    check = owner.records.verify()
    assert (check.intact, check.entries) == (True, 49)
    said = {r.text for r in owner.records.list(machine=machine.id)}
    assert {f"{n}-{k}" for n in range(8) for k in range(6)} <= said


def test_of_eight_edits_of_one_version_one_wins_and_the_others_are_told(owner: Phylax) -> None:
    made = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
    ended = at_once(lambda n: owner.clients.change(made, ClientEdit(name=made.name, phone=str(n))))
    won = [e for e in ended if not isinstance(e, RefusedError)]
    assert len(won) == 1
    assert sum(isinstance(e, ChangedMeanwhileError) for e in ended) == 7
    assert owner.clients.get(made.id).phone == won[0].phone  # type: ignore[attr-defined]


def test_a_tick_taken_by_many_makes_each_occurrence_once(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    owner.rounds.add(TUESDAY)
    context.clock.now = owner.rounds.get(1).next_at  # type: ignore[attr-defined]
    woken = at_once(lambda n: scheduler.tick(context))
    assert len(list(owner.runs.list())) == 1
    assert sorted(map(len, woken)) == [0] * 7 + [1]  # type: ignore[arg-type]


@pytest.mark.parametrize("tag", ["ferry-desk", "new-one"])
def test_a_tag_is_given_once(owner: Phylax, machine: Machine, tag: str) -> None:
    edit = MachineEdit(tag=tag, client_id=machine.client_id, system="linux")
    at_once(lambda n: owner.machines.add(edit))
    assert [m.tag for m in owner.machines.list(words=tag)] == [tag]


def test_searching_for_machines_takes_signs_as_they_are(owner: Phylax, service: Service) -> None:
    client = owner.clients.add(ClientEdit(name="100% Pottery_Ltd"))
    owner.machines.add(MachineEdit(tag="kiln", client_id=client.id, system="macos", make="Orrery"))
    for words, hits in [("kiln", 1), ("orrery", 1), ("Pottery", 1), ("'; --", 0), ("kilns", 0)]:
        assert len(list(owner.machines.list(words=words))) == hits, words
    assert [m.tag for m in owner.machines.list(client_id=client.id)] == ["kiln"]
