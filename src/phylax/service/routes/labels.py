"""Labels to print and stick on machines."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from phylax.core.clients.labels import MOST, Label
from phylax.core.clients.shop import Machine
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.pictures import ConsoleAddress, picture_of
from phylax.service.problems import documented
from phylax.store.clients import machine_list

router = APIRouter(tags=["labels"])


@router.get("/labels", responses=documented(422))
def get_labels(
    context: TheContext,
    actor: Signed,
    machine_id: Annotated[list[int], Query(max_length=MOST, description="In this order")],
    console: ConsoleAddress,
) -> list[Label]:
    """A label for each of some machines."""
    with context.db.read() as conn:
        machines = machine_list.by_numbers(conn, machine_id)
    return [_label(machine, console) for machine in machines]


def _label(machine: Machine, console: str) -> Label:
    address = f"{console}/machines/{machine.tag}"
    return Label(
        machine_id=machine.id,
        tag=machine.tag,
        client_name=machine.client_name,
        make_and_model=f"{machine.make} {machine.model}".strip(),
        address=address,
        picture=picture_of(address),
    )
