"""`phylax update`, `installed`, `upkeep` and `advice`: what machines have and lack, and what is
done about it."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from helpers import Run, enrol, make_standin
from phylax.agent.machines.standin_upkeep import (
    PretendedDisk,
    PretendedRestart,
    PretendedUpkeep,
    read_upkeep,
    write_upkeep,
)
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.checks.kind import kinds
from phylax.core.clients.shop import Machine
from phylax.core.inventory.disks import DiskFacts
from phylax.core.inventory.drivers import Driver
from phylax.core.inventory.hardware import MemorySlot
from phylax.core.inventory.programs import InstalledProgram, Removal
from phylax.core.inventory.updates import Update


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    make_standin(tmp_path / "m")
    spinning = DiskFacts(spins=True, gives_back=False, turns=5400)
    upkeep = PretendedUpkeep(
        updates=(Update(name="wall", now="1.0", version="1.1", security=True, restart=True),),
        programs=(
            InstalledProgram(key="chat", name="Harbour Chat", version="4.1", size=2**30,
                             removal=Removal.BY_AGENT),
            InstalledProgram(key="fonts", name="Fonts", version="1.0", removal=Removal.BY_AGENT),
        ),
        needs={"chat": ("fonts",)},
        gone_for_good=("chat",),
        drivers=(Driver(device="Screen", driver="screen"), Driver(device="Scanner")),
        slots=(MemorySlot(place="Slot 1", size=2**32), MemorySlot(place="Slot 2")),
        disks={"/": PretendedDisk(facts=spinning, files=100, pieces=400)},
        restart=PretendedRestart(after_seconds=0),
    )  # fmt: skip
    write_upkeep(tmp_path / "m", upkeep)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.check(machine.tag, [key for key, kind in kinds().items() if kind.in_step])
    agent.once()
    return agent


@pytest.fixture
def at_work(agent: Agent) -> Iterator[None]:
    """The agent works while commands wait for it."""
    over = threading.Event()

    def work() -> None:
        while not over.wait(0.1):
            agent.once()

    worker = threading.Thread(target=work)
    worker.start()
    yield
    over.set()
    worker.join()


@pytest.mark.usefixtures("at_work")
def test_updates_are_listed_and_installed(phylax: Run, machine: Machine) -> None:
    listed = phylax("update", "list", machine.tag).stdout
    assert "wall" in listed and "security" in listed
    done = phylax("update", "install", machine.tag)
    assert done.returncode == 0 and "wall: 1.0, now 1.1" in done.stdout
    assert f"phylax upkeep restart {machine.tag}" in done.stdout
    assert "lacks nothing" in phylax("update", "list", machine.tag).stdout


@pytest.mark.usefixtures("at_work")
def test_a_program_is_tried_and_removed(phylax: Run, machine: Machine, tmp_path: Path) -> None:
    assert "Harbour Chat" in phylax("installed", "list", "harbour").stdout
    assert "There is none" in phylax("installed", "list", "--trial").stdout
    tried = phylax("installed", "try", machine.tag, "chat").stdout
    assert "goes with it: fonts 1.0" in tried and "--gone-for-good" in tried
    words = ["installed", "remove", machine.tag, "chat", "--yes"]
    assert phylax(*words).returncode == 2, "the age of the last backup is asked for"
    refused = phylax(*words, "--backup-days", "2")
    assert refused.returncode == 4 and "cannot be had again" in refused.stderr
    assert len(read_upkeep(tmp_path / "m").programs) == 2
    done = phylax(*words, "--backup-days", "2", "--gone-for-good")
    assert done.returncode == 0 and "not installed" in done.stdout
    assert read_upkeep(tmp_path / "m").programs == ()
    nobody = phylax("installed", "try", machine.tag, "nobody")
    assert nobody.returncode == 2 and "has no program 'nobody'" in nobody.stderr


@pytest.mark.usefixtures("at_work")
def test_disks_parts_and_a_restart(phylax: Run, owner: Phylax, machine: Machine) -> None:
    assert "gather" in phylax("upkeep", "list-disks", machine.tag).stdout
    assert "Slot 2" in phylax("upkeep", "list-parts", machine.tag).stdout
    assert "none" in phylax("upkeep", "list-drivers", machine.tag).stdout
    arranged = phylax("upkeep", "arrange", machine.tag).stdout
    assert "400 pieces of 100 files, now 100 pieces" in arranged
    repaired = phylax("upkeep", "repair", machine.tag, "/", "--backup-days", "1", "--yes")
    assert "repaired at the next start" in repaired.stdout
    assert "names are asked anew" in phylax("upkeep", "clear-names", machine.tag).stdout
    asked = phylax("upkeep", "restart", machine.tag)
    assert asked.returncode == 4 and "come back alone" in asked.stderr
    owner.questions.answer("machine", machine.id, "comes-back-alone", "yes")
    assert "restarted" in phylax("upkeep", "restart", machine.tag, "--warn", "0").stdout
    compared = phylax("upkeep", "compare", "1")
    assert compared.returncode == 4, "nobody looked before that run"


def test_advice_is_given_and_its_fate_written_down(
    phylax: Run, machine: Machine, agent: Agent
) -> None:
    assert phylax("advice", "give", machine.tag, "more memory", "Twice as much.").returncode == 0
    listed = phylax("advice", "list", machine.tag).stdout
    assert "Twice as much." in listed and "told" in listed
    number = next(line.split()[0] for line in listed.splitlines() if "told" in line)
    assert (
        "accepted" in phylax("advice", "set-status", number, "accepted", "--comment", "soon").stdout
    )
    assert phylax("advice", "give", machine.tag, "a new house", "x").returncode == 2


def test_how_a_check_is_done_is_said(phylax: Run, machine: Machine, agent: Agent) -> None:
    asked = phylax("check", "run", machine.tag, "--how", "malware=full", "--no-wait")
    assert asked.returncode == 0
    agent.once()
    assert "Malware full" in phylax("check", "list", machine.tag).stdout
    for how in ("malware=half", "malware", "nothing=full"):
        refused = phylax("check", "run", machine.tag, "--how", how, "--no-wait")
        assert refused.returncode == 2, how
