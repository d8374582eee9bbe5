"""Whatever ends or hinders the work, at whatever step: every thing is in exactly one place, and
what is said of it is true."""

from __future__ import annotations

import errno
import os
import random
import shutil
import signal
import time
from pathlib import Path

import pytest

from engine import Desk, NothingRuns, rule
from helpers import make_file, make_standin, trashed
from phylax.agent import files
from phylax.agent.account.run_journal import JournalError
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.outbox.spool import Spool
from phylax.core.hold.holds import BatchPick
from phylax.core.protocol import (
    CategoryRule,
    CleanOrder,
    HeldOrder,
    UnheldMessage,
)
from phylax.core.retention import RuleInForce

FOR_GOOD, HELD = rule(), rule(hold_for="P3D")
KEYS = ("user-temp", "trash")
ROUNDS = int(os.environ.get("PHYLAX_KILL_ROUNDS", "1"))
"""Cleanings that are killed again and again."""


def clean_order(by: RuleInForce, run_id: int = 1) -> CleanOrder:
    look = tuple(CategoryRule(category=key, rule=by) for key in KEYS)
    return CleanOrder(run_id=run_id, lease="l", rules=look, clean=KEYS, survey_first=False)


def lay_out(home: Path) -> set[str]:
    """Things that are to go, by path."""
    found = {str(make_file(home / f".tmp/{n}/{m}", 2000, days_old=9)) for n in "ab" for m in "12"}
    found.add(str(make_file(home / ".tmp/alone", 2000, days_old=9)))
    found |= {str(trashed(home, name, 2000, days_ago=40)) for name in ("film", "letter")}
    return found


@pytest.fixture
def desk(tmp_path: Path) -> Desk:
    make_standin(tmp_path / "m")
    return Desk(StandInMachine(tmp_path / "m"), tmp_path / "own")


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return tmp_path / "m/root/home/anna"


def afresh(desk: Desk, home: Path) -> set[str]:
    """Everything as it was before."""
    for folder in (home, desk.own, *desk.hold.folders()):
        shutil.rmtree(folder, ignore_errors=True)
    desk.own.mkdir()
    home.mkdir()
    return lay_out(home)


@pytest.mark.parametrize("by", [FOR_GOOD, HELD], ids=["for good", "into the hold"])
def test_killed_at_each_step_of_a_cleaning(desk: Desk, home: Path, by: RuleInForce) -> None:
    step, killed = 0, True
    while killed:
        step += 1
        things = afresh(desk, home)
        killed = desk.in_a_child(lambda: desk.carry_out(clean_order(by)), killed_at=step)
        there, held = {path for path in things if os.path.lexists(path)}, desk.held()
        assert max(held.values(), default=1) == 1
        assert not there & held.keys(), f"killed at step {step}: in two places"
        if by is HELD:
            assert there | held.keys() == things, f"killed at step {step}: lost"
        desk.take_up()
        if not (results := desk.results()):
            # nothing had begun: the service offers the order again
            desk.carry_out(clean_order(by))
            results = desk.results()
        (result,) = results
        assert not any(os.path.lexists(path) for path in things)
        removed = sum(outcome.removed.count for outcome in result.outcomes)
        assert removed == (0 if by is HELD else len(things)), f"killed at step {step}"
        assert sum(outcome.held.count for outcome in result.outcomes) == len(desk.held())
        assert len(desk.held()) == (len(things) if by is HELD else 0)
        # what the trash wrote down about a thing is never left behind
        info = home / ".local/share/Trash/info"
        assert by is HELD or not any(info.iterdir())
    assert step > 20, "the seam must be where the work is"


def held_order(desk: Desk, kind: str) -> HeldOrder:
    picks = tuple(BatchPick(batch=batch.name) for batch in desk.hold.batches())
    return HeldOrder(kind=kind, run_id=2, lease="l", picks=picks)  # type: ignore[arg-type]


@pytest.mark.parametrize("kind", ["put back", "let go"])
def test_killed_at_each_step_of_ending_a_hold(desk: Desk, home: Path, kind: str) -> None:
    step, killed = 0, True
    while killed:
        step += 1
        things = afresh(desk, home)
        desk.carry_out(clean_order(HELD))
        shutil.rmtree(desk.own / "spool")
        order = held_order(desk, kind)
        killed = desk.in_a_child(lambda order=order: desk.carry_out(order), killed_at=step)
        there, held = {path for path in things if os.path.lexists(path)}, desk.held()
        assert not there & held.keys(), f"killed at step {step}: in two places"
        if kind == "put back":
            assert there | held.keys() == things, f"killed at step {step}: lost"
        desk.take_up()
        if not desk.results():
            desk.carry_out(order)
        (result,) = desk.results()
        assert not desk.held()
        done = [one.put_back if kind == "put back" else one.removed for one in result.outcomes]
        assert sum(one.count for one in done) == len(things), f"killed at step {step}"
        there = {path for path in things if os.path.lexists(path)}
        assert there == (things if kind == "put back" else set())
        unheld = [
            m for _, m, _ in Spool(desk.own / "spool").waiting() if isinstance(m, UnheldMessage)
        ]
        numbers = {
            (m.batch, n)
            for m in unheld
            for first, last in m.numbers
            for n in range(first, last + 1)
        }
        assert len(numbers) == len(things), f"killed at step {step}: the service is not told all"
    assert step > 10


@pytest.mark.parametrize("code", [errno.EIO, errno.ENOSPC, errno.EACCES, errno.EBUSY, errno.EROFS])
@pytest.mark.parametrize("by", [FOR_GOOD, HELD], ids=["for good", "into the hold"])
def test_an_error_at_each_call_is_survived_and_said(
    desk: Desk, home: Path, by: RuleInForce, code: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    failing_at = 0
    while True:
        failing_at += 1
        things = afresh(desk, home)
        steps, failed = 0, ""

        def step(name: str, at: int = failing_at) -> None:
            nonlocal steps, failed
            steps += 1
            if steps == at:
                failed = name
                raise OSError(code, os.strerror(code))

        monkeypatch.setattr(files, "step", step)
        try:
            desk.carry_out(clean_order(by))
        except (OSError, JournalError):
            # the agent's own folder refuses: it tries again later
            assert failed in ("append", "sync", "write message", "keep message"), failed
        monkeypatch.undo()
        if not failed:
            break
        there, held = {path for path in things if os.path.lexists(path)}, desk.held()
        assert not there & held.keys(), f"{failed}, step {failing_at}: in two places"
        if by is HELD:
            assert there | held.keys() == things, f"{failed}, step {failing_at}: lost"
        desk.take_up()
        for result in desk.results():
            gone = sum(one.removed.count + one.held.count for one in result.outcomes)
            left = [one for one in things if os.path.lexists(one)]
            assert gone == len(things) - len(left), f"{failed}, step {failing_at}"
            told = sum(stay.count for one in result.outcomes for stay in one.left)
            assert result.error or told >= len(left), f"{failed}, step {failing_at}: not said"
    assert failing_at > 20


@pytest.mark.parametrize("seed", range(20261123, 20261123 + ROUNDS))
def test_killed_at_random_times_on_a_real_volume(volume: Path, seed: int) -> None:
    """With `kill -9`, again and again in the same cleaning, half of it into the hold."""
    dice = random.Random(seed)
    home = volume / "anna"
    desk = Desk(NothingRuns([str(home)]), volume / "own")
    things = {
        str(make_file(home / f".tmp/{n // 20}/{n}", 1000, days_old=9)) for n in range(3000)
    } | {str(trashed(home, f"t{n}", 1000, days_ago=40)) for n in range(300)}
    look = (
        CategoryRule(category="user-temp", rule=HELD),
        CategoryRule(category="trash", rule=FOR_GOOD),
    )
    order = CleanOrder(run_id=1, lease="l", rules=look, clean=KEYS, survey_first=False)
    kills = 0
    while not desk.results():
        child = os.fork()
        if child == 0:
            try:
                desk.take_up()
                if not desk.results():
                    desk.carry_out(order)
            finally:
                os._exit(0)
        # ever longer, so that it comes to an end however slow the machine is
        time.sleep(dice.uniform(0.02, 0.08 + 0.01 * kills))
        os.kill(child, signal.SIGKILL)
        kills += os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == -signal.SIGKILL
        there, held = {path for path in things if os.path.lexists(path)}, desk.held()
        assert not there & held.keys()
        assert all("Trash" in path for path in things - there - held.keys()), "lost"
    desk.take_up()
    (result,) = desk.results()
    by_key = {outcome.category: outcome for outcome in result.outcomes}
    assert by_key["user-temp"].held.count == len(desk.held()) == 3000
    assert by_key["trash"].removed.count == 300
    assert 1 <= result.resumed <= kills
    assert kills >= 3
