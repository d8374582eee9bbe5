"""A stand-in with updates, programs and disks, and asking it over the service."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from phylax.agent.machines.standin_upkeep import (
    PretendedUpkeep,
    write_upkeep,
)
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.actions import (
    Action,
)
from phylax.core.clients.shop import Machine
from phylax.core.inventory.disks import DiskFacts
from phylax.core.inventory.programs import InstalledProgram, Removal
from phylax.core.inventory.updates import Update
from phylax.core.runs.runs import RunDetail, RunState

CHAT = InstalledProgram(
    key="chat", name="Harbour Chat", version="4.1", size=400, removal=Removal.BY_AGENT
)
FONTS = InstalledProgram(key="fonts", name="Fonts", version="1.0", removal=Removal.BY_AGENT)
SCREEN = InstalledProgram(key="screen", name="Screen", version="1", removal=Removal.NEVER)
WALL = Update(name="wall", now="1.0", version="1.1", security=True, restart=True)
NEWER_CHAT = Update(name="Harbour Chat", now="4.1", version="4.2", size=2**20)
SPINS = DiskFacts(spins=True, gives_back=False, turns=7200)

BROKEN = '[volumes."/"]\nfindings = [{severity = "warning", what = "It has errors"}]\n'
FAILING = '[disks."disk 0"]\nfailing = 1\n'


def has(tmp_path: Path, **what: object) -> None:
    """What the machine has and lacks."""
    write_upkeep(tmp_path / "m", PretendedUpkeep.model_validate(what))


def act(owner: Phylax, machine: Machine, agent: Agent, action: Action, word: str = "") -> RunDetail:
    run = owner.upkeep.act(machine.tag, action, comment=word)
    agent.once()
    return owner.runs.get(run.id)


def check(owner: Phylax, machine: Machine, agent: Agent, *keys: str) -> None:
    run = owner.runs.check(machine.tag, keys)
    agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE


def comes_back_alone(owner: Phylax, machine: Machine, answer: Literal["yes", "no"] = "yes") -> None:
    owner.questions.answer("machine", machine.id, "comes-back-alone", answer)
