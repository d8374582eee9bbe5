"""A real root agent in a process of its own, its service on loopback, a person's home on a real
volume: looked at, cleaned, held, put back; killed in the middle."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterable
from datetime import timedelta
from pathlib import Path

import pytest

from helpers import Clock, make_file, wait_until
from people import ANNA, give
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime import commands
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.hold.holds import HeldPick
from phylax.core.retention import Rule, Scope
from phylax.core.runs.runs import RunState

Age = Callable[[Iterable[Path], float], None]


@pytest.fixture
def home(real_volume: Path, age: Age) -> Path:
    home = real_volume / "home/anna"
    for number in range(40):
        make_file(home / f".tmp/{number % 4}/{number}", 1000, days_old=9)
    make_file(home / ".tmp/young")
    make_file(home / "Documents/letter", days_old=900)
    give(home, ANNA)
    age([path for path in (home / ".tmp").rglob("*") if path.name != "young"], 9)
    return home


@pytest.fixture
def own(owner: Phylax, machine: Machine, home: Path, tmp_path: Path) -> Path:
    code = owner.machines.enrolment_code(machine.tag).code
    commands.enrol(AgentHome(tmp_path / "agent"), owner.url, code, None, (str(home),))
    return tmp_path / "agent"


def once(own: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "phylax", "agent", "once", "--data", str(own)],
        capture_output=True, text=True, timeout=120,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr


def test_a_persons_things_are_looked_at_held_and_put_back(
    owner: Phylax, machine: Machine, home: Path, own: Path
) -> None:
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for=timedelta(days=3)))
    owner.runs.survey(machine.tag)
    once(own)
    (line,) = (o for o in owner.machines.ledger(machine.tag).lines if o.category == "user-temp")
    assert (line.removable.count, line.total.count) == (40, 41)
    run = owner.runs.clean(machine.tag, ["user-temp"])
    once(own)
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.DONE and ended.held is not None and ended.held.count == 40
    assert [path.name for path in (home / ".tmp").rglob("*") if path.is_file()] == ["young"]
    (hold,) = owner.holds.list(machine.tag)
    items = list(owner.holds.items(hold.id))
    assert len(items) == 40
    picks = [HeldPick(hold_id=hold.id, numbers=(items[0].number, items[1].number))]
    back = owner.runs.put_back(machine.tag, picks)
    once(own)
    assert owner.runs.get(back.id).state is RunState.DONE
    put_back = [path for path in (home / ".tmp").rglob("*") if path.name not in ("young",)]
    files = [path for path in put_back if path.is_file()]
    assert len(files) == 2 and all(path.stat().st_uid == ANNA for path in files)
    assert owner.holds.list(machine.tag)[0].put_back.count == 2


@pytest.mark.parametrize("said", [Rule(), Rule(hold_for=timedelta(days=3))], ids=["gone", "held"])
def test_an_agent_killed_at_any_moment_goes_on_and_its_account_is_true(
    owner: Phylax, machine: Machine, home: Path, own: Path, said: Rule, clock: Clock
) -> None:
    if said != Rule():
        owner.rules.put(Scope.MACHINE, machine.id, "user-temp", said)
    run = owner.runs.clean(machine.tag, ["user-temp"])
    start = [sys.executable, "-m", "phylax", "agent", "start", "--data", str(own)]
    moment = random.Random(1)

    def has_ended() -> bool:
        # an order that was on its way to an agent that was killed is given out again in time
        clock.pass_(timedelta(seconds=2))
        return owner.runs.get(run.id).state.has_ended

    for _ in range(4):
        process = subprocess.Popen(start, stderr=subprocess.DEVNULL)
        time.sleep(moment.uniform(0.5, 2.0))
        process.send_signal(signal.SIGKILL)
        process.wait(timeout=60)
    process = subprocess.Popen(start, stderr=subprocess.DEVNULL)
    try:
        wait_until(has_ended, "the run to end", 120)
    finally:
        process.terminate()
        process.wait(timeout=60)
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.DONE
    assert ended.removed is not None and ended.held is not None
    assert ended.removed.count + ended.held.count == 40
    assert (home / "Documents/letter").exists() and (home / ".tmp/young").exists()
    things = list((home.parents[1] / ".phylax-held").rglob("things/*/*"))
    assert len(things) == ended.held.count == (40 if said != Rule() else 0)
    assert os.listdir(home / ".tmp").count("young") == 1
