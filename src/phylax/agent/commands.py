"""What the command line asks of the agent."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Literal

import psutil

from phylax.agent.guard import GUARD_FILE, GuardRules, LooseGuardError, write_rules
from phylax.agent.home import AgentConfig, AgentHome, BusyError, NotEnrolledError, open_machine
from phylax.agent.loop import Agent
from phylax.client import enrol as enrol_at

__all__ = ["BusyError", "LooseGuardError", "NotEnrolledError", "enrol", "home_at", "once", "start"]

_NICE, _LAST_OF_EIGHT = 10, 7
"""The client's own work goes first, on processor and disk."""


def home_at(folder: Path | None) -> AgentHome:
    return AgentHome(folder) if folder else AgentHome.default()


def enrol(
    home: AgentHome,
    url: str,
    code: str,
    kind: Literal["linux", "standin"],
    standin: Path | None,
    homes: tuple[str, ...],
    own_folders: tuple[str, ...],
    readings_every: int,
) -> AgentConfig:
    """Enrol this machine by a one-time code; configuration, guard's rules and key are kept in the
    folder. FileExistsError where own folders are named though there are guard's rules already."""
    if own_folders and (home.folder / GUARD_FILE).exists():
        raise FileExistsError(
            f"{home.folder / GUARD_FILE} is there already; allow folders in it, by hand"
        )
    folder = str(standin.resolve()) if standin else None
    machine = open_machine(kind, folder, homes, own_folders)
    enrolled = enrol_at(url, code, machine.facts())
    config = AgentConfig(
        url=url,
        tag=enrolled.tag,
        machine_id=enrolled.machine_id,
        kind=kind,
        standin=folder,
        homes=homes,
        readings_every=readings_every,
    )
    home.save(config, enrolled.key)
    if not (home.folder / GUARD_FILE).exists():
        write_rules(home.folder, GuardRules(allow_folders=own_folders))
    return config


def start(home: AgentHome) -> None:
    """Work until told to stop, behind everything else that runs on the machine."""
    os.nice(_NICE)
    psutil.Process().ionice(psutil.IOPRIO_CLASS_BE, _LAST_OF_EIGHT)
    Agent(home).start()


def once(home: AgentHome) -> bool:
    return Agent(home).once()
