"""Wrong words: what was most likely meant is said, and nothing is done."""

from __future__ import annotations

import shlex
from datetime import date

import pytest

from helpers import Run
from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.erasing.forgetting.request import Forget
from phylax.core.ground.suggestions import nearest

WRONG = {
    # nouns
    "mashine list": "'machine'",
    "machines list": "'machine'",
    "clinet list": "'client'",
    "roud list": "'round'",
    "rutine list": "'routine'",
    "tody": "'today'",
    "reccord list": "'record'",
    "atention list": "'attention'",
    "serch x": "'search'",
    "setings list ferry-desk": "'setting'",
    "signin": "'sign-in'",
    "closing list": "'closing-days'",
    # verbs, also by what they were called once
    "run claen ferry-desk trash": "'clean'",
    "machine lits": "'list'",
    "run missed": "'list-missed'",
    "run steps 1": "'show-steps'",
    "trend soon": "'list-soon'",
    "program changes ferry-desk": "'list-changes'",
    "machine code ferry-desk": "'make-code'",
    "visit handover 1": "'hand-over'",
    # tags
    "machine show fery-desk": "'ferry-desk'",
    "machine show ferrydesk": "'ferry-desk'",
    "machine show ferry": "'ferry-desk'",
    "rule show FERY-DESK": "'ferry-desk'",
    "survey show pottery-pv": "'pottery-pc'",
    "run list --machine potery": "'pottery-pc'",
    "trend show pc": "'pottery-pc'",
    # clients
    "client show 'Skerry Fery Office'": "'Skerry Ferry Office'",
    "client show Skerry": "'Skerry Ferry Office'",
    "machine add x-1 --client tidewrak --system linux": "'Tidewrack Pottery'",
    # categories
    "catalogue show user-tmp": "'user-temp'",
    "rule set user-tmp --keep-for '3 days' --yes": "'user-temp'",
    "rule clear downlods": "'downloads'",
    "survey list ferry-desk downlods": "'downloads'",
    "survey list-folders ferry-desk download": "'downloads'",
    # routines, questions, people, columns, options
    "routine show 'light wekly'": "'Light weekly'",
    "routine run thorough ferry-desk --yes": "'Thorough monthly'",
    "question answer scan no --machine ferry-desk": "'scans'",
    "person set-role wrenn desk": "'wren'",
    "client list --columns nmae": "'name'",
    "client list --sort contct": "'contact'",
    "client list --format tabel": "table",
    "machine list --clint x": "--client",
}


@pytest.fixture
def shop(owner: Phylax, machine: Machine) -> Phylax:
    client = owner.clients.add(ClientEdit(name="Tidewrack Pottery"))
    owner.machines.add(MachineEdit(tag="pottery-pc", client_id=client.id, system="linux"))
    return owner


def test_wrong_words_are_answered_with_the_right_one(shop: Phylax, phylax: Run) -> None:
    assert len(WRONG) >= 40
    silent = []
    for line, meant in WRONG.items():
        ended = phylax(*shlex.split(line))
        if ended.returncode not in (2, 4) or meant not in ended.stderr:
            silent.append(f"{line}: {ended.returncode} {ended.stderr.strip()[-200:]}")
    assert not silent, "\n".join(silent)


def test_what_is_like_nothing_gets_no_suggestion(phylax: Run, machine: Machine) -> None:
    assert "did you mean" not in phylax("machine", "show", "zzzzzz").stderr
    assert nearest("x" * 10_000, ["x" * 9_999]) == []


def test_the_tags_of_restricted_clients_are_suggested_to_nobody(
    shop: Phylax, phylax: Run, machine: Machine
) -> None:
    client = shop.clients.retire(shop.clients.get(machine.client_id), "moved")
    assert "'ferry-desk'" in phylax("machine", "show", "fery-desk").stderr
    shop.clients.forget(client, Forget(why="asked", postponed_until=date(2026, 5, 1)))
    assert "'ferry-desk'" not in phylax("machine", "show", "fery-desk").stderr
