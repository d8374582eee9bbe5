"""An agent in the unit that ships, on a Debian machine with its own system manager."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

import pytest

from debian_machine import DATA, DebianMachine, debian
from helpers import wait_until
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.runs.runs import RunDetail
from phylax.service.context.context import system_clock


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if "tests/debian/" in item.nodeid and os.geteuid() != 0:
            item.add_marker(pytest.mark.skip(reason="booting a machine needs root"))


@pytest.fixture
def clock() -> Callable[[], datetime]:
    """The machine goes by the real clock, so the service does too."""
    return system_clock


@pytest.fixture
def linux(tmp_path: Path) -> Iterator[DebianMachine]:
    with debian(tmp_path / "machine") as machine:
        yield machine


class Installed:
    """The agent as a service of the machine, and its shop."""

    def __init__(self, linux: DebianMachine, owner: Phylax, machine: Machine) -> None:
        self.linux = linux
        self.owner = owner
        self.machine = machine

    def install(self, *options: str) -> None:
        """As docs/agent.md says it."""
        code = self.owner.machines.enrolment_code(self.machine.tag).code
        self.linux.phylax(
            "agent",
            "enrol",
            self.owner.url,
            code,
            "--data",
            DATA,
            "--readings-every",
            "5",
            *options,
        )
        unit = self.linux.phylax("agent", "write-unit", "--data", DATA)
        (self.linux.root / "etc/systemd/system/phylax-agent.service").write_text(unit)
        self.linux.run("systemctl", "daemon-reload")
        self.linux.run("systemctl", "enable", "--now", "phylax-agent.service")

    def done(self, run_id: int) -> RunDetail:
        """A run when it has ended."""
        wait_until(
            lambda: self.owner.runs.get(run_id).state.has_ended,
            f"run {run_id} to end", 300,
        )  # fmt: skip
        return self.owner.runs.get(run_id)


@pytest.fixture
def agent(linux: DebianMachine, owner: Phylax, machine: Machine) -> Installed:
    installed = Installed(linux, owner, machine)
    installed.install()
    return installed
