"""Volumes chosen on the command line, and what is said of them before anything goes."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from helpers import Run, enrol, make_file, two_drives
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.ground.machines import System


@pytest.fixture
def drives(owner: Phylax, machine: Machine, tmp_path: Path) -> Path:
    """The drives of *cad*, which was looked at and whose agent is there to be called."""
    edit = MachineEdit(tag="cad", client_id=machine.client_id, system=System.WINDOWS)
    owner.machines.add(edit)
    two_drives(tmp_path / "m")
    for drive, size in (("C", 3000), ("D", 5000)):
        make_file(tmp_path / f"m/{drive}/$Recycle.Bin/S-1/$Rold", size, days_old=99)
    agent = enrol(owner, "cad", tmp_path / "agent", tmp_path / "m")
    owner.runs.survey("cad")
    agent.once()
    return tmp_path / "m"


def test_the_question_says_what_goes_on_each_volume(phylax: Run, drives: Path) -> None:
    told = phylax("run", "clean", "cad", "trash").stdout
    assert "By volume:\n  C: 1 item, 2.9 KiB\n  D: 1 item, 4.9 KiB" in told
    told = phylax("run", "clean", "cad", "trash", "--except-volume", "c").stdout
    assert "Deleted for good from cad (all but C:):\n  Trash: 1 item, 4.9 KiB" in told
    assert "C: not touched" in told
    run = phylax("run", "clean", "cad", "trash", "--volume", "D:\\", "--yes", "--no-wait")
    assert "waits for cad" in run.stdout
    assert "cad (D: only)" in phylax("run", "show", "2").stdout


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("--volume", "home"), "'home' is no volume; name it as the machine does"),
        (("--volume", "E:"), "there is no volume E:; there are C: and D:"),
        (("--volume", "C:", "--except-volume", "D:"), "not both"),
    ],
)
def test_wrong_volumes_are_refused_before_anything_is_asked(
    phylax: Run, owner: Phylax, drives: Path, words: tuple[str, ...], why: str
) -> None:
    refused = phylax("run", "clean", "cad", "trash", *words, "--yes")
    assert (refused.returncode, why in refused.stderr) == (2, True), refused.stderr
    assert [run.work for run in owner.runs.list()] == ["survey"]


def test_a_volume_of_which_nothing_is_left_can_still_be_left_out(
    phylax: Run, owner: Phylax, drives: Path
) -> None:
    """The survey has no line for it."""
    shutil.rmtree(drives / "D/$Recycle.Bin")
    agent = Agent(AgentHome(drives.parent / "agent"))
    owner.runs.survey("cad")
    agent.once()
    assert "D:" not in {share.mount for share in owner.machines.ledger("cad").volumes}
    words = ("run", "clean", "cad", "trash", "--yes", "--no-wait")
    assert phylax(*words, "--except-volume", "D:").returncode == 0


def test_a_round_and_a_routine_name_volumes(phylax: Run, drives: Path) -> None:
    words = ("--routine", "1", "--machine", "cad", "--often", "daily", "--at", "19:00")
    phylax("round", "add", "Drawings", *words, "--volume", "D:")
    assert "D: only" in phylax("round", "list").stdout
    told = phylax("routine", "run", "1", "cad", "--except-volume", "D:", "--yes")
    assert "on cad, all but D:" in told.stdout
