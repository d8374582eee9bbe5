"""What the command line asks of the agent."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from phylax.agent.home import AgentConfig, AgentHome, NotEnrolledError, open_machine
from phylax.agent.loop import Agent
from phylax.client import enrol as enrol_at

__all__ = ["NotEnrolledError", "enrol", "home_at", "once", "start"]


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
    """Enrol this machine by a one-time code; the configuration and key are kept in the folder."""
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
        own_folders=own_folders,
        readings_every=readings_every,
    )
    home.save(config, enrolled.key)
    return config


def start(home: AgentHome) -> None:
    Agent(home).start()


def once(home: AgentHome) -> bool:
    return Agent(home).once()
