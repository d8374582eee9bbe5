"""Opening what an agent works with: its machine, its workers' fork server, who does the work."""

from __future__ import annotations

import os
import ssl
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import httpx

from phylax.agent.config.guard import Guard, GuardRules
from phylax.agent.config.home import Kind, this_kind
from phylax.agent.hold.hold import Hold
from phylax.agent.machines import MachineKind, TunedMachine
from phylax.agent.workers.crew import Crew
from phylax.client import trusted

if TYPE_CHECKING:
    from phylax.agent.machines.standin import StandInMachine
    from phylax.agent.workers.supervisor import ForkServer


def open_machine(
    kind: Kind,
    standin: str | None,
    homes: tuple[str, ...] = (),
    drives: tuple[str, ...] = (),
    own_folders: tuple[str, ...] = (),
    *,
    apart: bool = False,
) -> MachineKind:
    """The machine that an agent works on; `apart`: without its people, who have workers of their
    own. ValueError where the configuration does not fit."""
    if kind == "standin":
        if not standin:
            raise ValueError("a stand-in needs its folder: --stand-in DIR")
        from phylax.agent.machines.standin import StandInMachine

        return StandInMachine(Path(standin))
    if kind != this_kind():
        raise ValueError(f"this is not a {kind} machine")
    if sys.platform == "win32":
        from phylax.agent.machines.windows import WindowsMachine

        return WindowsMachine(drives, own_folders=own_folders)
    if apart:
        from phylax.agent.machines.linux.system import LinuxSystem
        from phylax.agent.privileged.system_unit import runs_as_unit

        if runs_as_unit():
            from phylax.agent.privileged.machine import ConfinedSystem

            return ConfinedSystem(homes, own_folders=own_folders)
        return LinuxSystem(homes, own_folders=own_folders)
    from phylax.agent.machines.linux import LinuxMachine

    return LinuxMachine(homes, own_folders=own_folders)


def network_of(
    machine: MachineKind, url: str, certificate: str | None = None
) -> httpx.BaseTransport | None:
    """How a machine reaches the service; None: as this one does. A stand-in may be cut off."""
    from phylax.agent.machines.standin import StandInMachine

    if not isinstance(machine, StandInMachine):
        return None
    return _PretendedNetwork(machine, verify=trusted(url, certificate))


class _PretendedNetwork(httpx.HTTPTransport):
    """The network of a stand-in, which is down where it was started without what it needs."""

    def __init__(self, machine: StandInMachine, *, verify: ssl.SSLContext | bool) -> None:
        super().__init__(verify=verify)
        self._machine = machine

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        if self._machine.upkeep.is_off:
            raise httpx.ConnectError("the stand-in did not come back from its restart")
        if self._machine.startup.is_cut_off:
            raise httpx.ConnectError("no network: the stand-in was started without what it needs")
        return super().handle_request(request)


def fork_server_for(kind: Kind) -> ForkServer | None:
    """What workers are forked from, where the agent has rights that no person has."""
    if kind != "linux" or sys.platform == "win32" or os.geteuid() != 0:
        return None
    from phylax.agent.workers.supervisor import ForkServer

    return ForkServer()


def open_tuned(machine: MachineKind, fork_server: ForkServer | None) -> TunedMachine:
    """Whose settings are looked at and changed."""
    if fork_server is None:
        return machine
    from phylax.agent.machines.linux.system import LinuxSystem
    from phylax.agent.workers.peoples_settings import PeoplesSettings

    assert isinstance(machine, LinuxSystem)
    return PeoplesSettings(machine, fork_server)


def open_crew(
    machine: MachineKind,
    guard: Guard,
    hold: Hold,
    fork_server: ForkServer | None,
    folder: Path,
    rules: GuardRules,
    own: Sequence[str],
) -> Crew:
    """Who does the work on a machine."""
    if fork_server is None:
        return Crew(machine, guard, hold)
    from phylax.agent.hold.index import HoldIndex
    from phylax.agent.machines.linux.system import LinuxSystem
    from phylax.agent.workers.people import CrewWithWorkers

    assert isinstance(machine, LinuxSystem)
    index = HoldIndex(folder / "held-index")
    return CrewWithWorkers(machine, guard, hold, fork_server, index, rules, own)
