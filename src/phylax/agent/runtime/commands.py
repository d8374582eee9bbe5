"""What the command line asks of the agent."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from importlib import resources
from pathlib import Path
from xml.sax.saxutils import escape

import psutil

from phylax.agent.config.certificate import keep_certificate
from phylax.agent.config.guard import GUARD_FILE, GuardRules, LooseGuardError, write_rules
from phylax.agent.config.home import (
    AgentConfig,
    AgentHome,
    BusyError,
    Kind,
    NotEnrolledError,
    this_kind,
)
from phylax.agent.runtime.loop import Agent
from phylax.agent.runtime.opening import fork_server_for, open_machine, open_tuned
from phylax.agent.tuning.changer import AlteredError, Change, Changer
from phylax.client import enrol as enrol_at

__all__ = [
    "BusyError",
    "LooseGuardError",
    "NotEnrolledError",
    "enrol",
    "forget",
    "home_at",
    "once",
    "put_settings_back",
    "settings_in_force",
    "start",
    "unit",
]

_NICE, _LAST_OF_EIGHT = 10, 7
"""The client's own work goes first, on processor and disk."""


def home_at(folder: Path | None) -> AgentHome:
    return AgentHome(folder) if folder else AgentHome.default()


def enrol(
    home: AgentHome,
    url: str,
    code: str,
    standin: Path | None = None,
    homes: tuple[str, ...] = (),
    own_folders: tuple[str, ...] = (),
    readings_every: int = 900,
    drives: tuple[str, ...] = (),
    *,
    clear_http: bool = False,
    fingerprint: str = "",
) -> AgentConfig:
    """Enrol this machine by a one-time code; configuration, guard's rules and key are kept in the
    folder. FileExistsError where own folders are named though there are guard's rules already."""
    if own_folders and (home.folder / GUARD_FILE).exists():
        raise FileExistsError(
            f"{home.folder / GUARD_FILE} is there already; allow folders in it, by hand"
        )
    folder = str(standin.resolve()) if standin else None
    kind: Kind = "standin" if standin else this_kind()
    machine = open_machine(kind, folder, homes, drives, own_folders)
    certificate = keep_certificate(home.folder, url, fingerprint) if fingerprint else None
    enrolled = enrol_at(url, code, machine.facts(), clear=clear_http, certificate=certificate)
    config = AgentConfig(
        url=url,
        tag=enrolled.tag,
        machine_id=enrolled.machine_id,
        kind=kind,
        standin=folder,
        homes=homes,
        drives=drives,
        readings_every=readings_every,
        clear_http=clear_http,
        certificate=certificate,
    )
    home.save(config, enrolled.key)
    if not (home.folder / GUARD_FILE).exists():
        write_rules(home.folder, GuardRules(allow_folders=own_folders))
    return config


def unit(home: AgentHome) -> str:
    """What makes the system start the agent by itself: a unit file of systemd, or a task of the
    Windows task scheduler."""
    data = str(home.folder.resolve())
    if sys.platform == "win32":
        name, command = "windows-task.xml", escape(sys.executable)
        data = escape(data)
    else:
        name, command = "systemd.service", f"{sys.executable} -m phylax"
        if any(sign in sys.executable + data for sign in " %\"'\\"):
            raise ValueError(
                f"systemd takes no spaces, quotes or per cent signs in {sys.executable} and {data}"
            )
    text = resources.files("phylax.agent.units").joinpath(name).read_text("utf-8")
    return text.replace("{command}", command).replace("{data}", data)


def settings_in_force(home: AgentHome) -> list[Change]:
    """What was changed on this machine and is in force, oldest first."""
    with _changer(home) as changer:
        return [change for change in changer.changes() if change.stage.is_in_force]


def put_settings_back(home: AgentHome, ids: Sequence[str]) -> list[tuple[Change, str]]:
    """Make everything what it was before some changes, the newest first, without the service; it
    is told when it can be reached. Returns each with why it was left; empty where it was not.

    KeyError names what is no change in force.
    """
    outcomes = []
    with _changer(home) as changer:
        in_force = {c.id: c for c in changer.changes() if c.stage.is_in_force}
        wanted = [in_force[change_id] for change_id in ids]
        for change in sorted(wanted, key=lambda change: change.at, reverse=True):
            why = ""
            try:
                changer.put_back(change.id, untold="put back at the machine")
            except (AlteredError, OSError) as failure:
                why = str(failure)
            outcomes.append((change, why))
    return outcomes


@contextmanager
def _changer(home: AgentHome) -> Iterator[Changer]:
    """What makes changes here; what was cut off is undone first."""
    config = home.config()
    fork_server = fork_server_for(config.kind)
    try:
        machine = open_machine(
            config.kind, config.standin, config.homes, config.drives, apart=fork_server is not None
        )
        changer = Changer(open_tuned(machine, fork_server).hands(), home.changes)
        changer.recover()
        yield changer
    finally:
        if fork_server is not None:
            fork_server.close()


def start(home: AgentHome) -> None:
    """Work until told to stop, behind everything else that runs on the machine."""
    step_back()
    Agent(home).start()


def forget(home: AgentHome) -> bool:
    """Let go of all that is held and noted here; whether nothing is left."""
    agent = Agent(home)
    try:
        return agent.forget()
    finally:
        agent.close()


def step_back() -> None:
    """Give way to everything else on the machine, on processor and disk."""
    process = psutil.Process()
    if sys.platform == "win32":
        process.nice(psutil.BELOW_NORMAL_PRIORITY_CLASS)
        # not every Windows lets a process say so
        with suppress(OSError, psutil.Error):
            process.ionice(psutil.IOPRIO_LOW)
    else:
        os.nice(_NICE)
        process.ionice(psutil.IOPRIO_CLASS_BE, _LAST_OF_EIGHT)


def once(home: AgentHome) -> bool:
    agent = Agent(home)
    try:
        return agent.once()
    finally:
        agent.close()
