"""A client with a life, to be forgotten step by step."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Service
from forgotten_shop import (
    FILM,
    MAIL,
    NAME,
    NOTE,
    TAG,
    left_in,
    live_through_much,
)
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Client, ClientEdit, Machine, MachineEdit
from phylax.service.context.context import Context
from phylax.service.erasing import forgetting


@pytest.fixture
def other(owner: Phylax) -> Machine:
    client = owner.clients.add(ClientEdit(name="Tidewrack Pottery", contact="Ottilie Vane"))
    edit = MachineEdit(tag="pottery-mac", client_id=client.id, system="macos")
    return owner.machines.add(edit)


@pytest.fixture
def by_hand(monkeypatch: pytest.MonkeyPatch) -> None:
    """The service carries nothing out by itself: the test does, step by step."""
    monkeypatch.setattr(forgetting, "go_on", lambda context: None)


@pytest.fixture
def lived(
    by_hand: None, owner: Phylax, service: Service, context: Context, other: Machine, tmp_path: Path
) -> Iterator[tuple[Client, Agent]]:
    client, agent = live_through_much(owner, service, context, other, tmp_path / "client")
    with context.db.read() as conn:
        content = b"\n".join(part.encode() for part in conn.iterdump() if part)
    assert {NAME, TAG, FILM, NOTE, MAIL} <= {*left_in(content)}, "else nothing is shown below"
    yield client, agent
    agent.close()
