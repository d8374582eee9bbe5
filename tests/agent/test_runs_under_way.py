"""While a run goes on: it tells how far it is, stops within a second, and looks whether a further
pass is worth it."""

from __future__ import annotations

import threading
import time
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
import tomli_w

from helpers import enrol, make_file, make_standin
from phylax.agent.outbox import progress
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.runs.runs import RunDetail, RunState


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return make_standin(tmp_path / "m", items_per_second=150)


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, home: Path) -> Agent:
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


@contextmanager
def at_work(agent: Agent) -> Iterator[threading.Thread]:
    work = threading.Thread(target=agent.once)
    work.start()
    yield work
    work.join(timeout=60)
    assert not work.is_alive()


def watched(owner: Phylax, run_id: int, until: str, seconds: float = 30) -> RunDetail:
    """The run as soon as it has come to a step."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        run = owner.runs.get(run_id)
        if run.progress is not None and run.progress.step == until and run.progress.items:
            return run
        time.sleep(0.02)
    raise AssertionError(f"it never came to '{until}'")


def test_it_tells_items_bytes_rate_and_time_left(
    owner: Phylax, machine: Machine, agent: Agent, home: Path
) -> None:
    for n in range(900):
        make_file(home / f".tmp/{n % 9}/{n}", 1000, days_old=9)
    owner.runs.survey(machine.tag)
    agent.once()
    run = owner.runs.clean(machine.tag, ["user-temp"])
    with at_work(agent):
        deadline = time.monotonic() + 90
        told = None
        while told is None and time.monotonic() < deadline:
            progress = owner.runs.get(run.id).progress
            if progress and progress.step == "clean" and progress.seconds_left is not None:
                told = progress
            time.sleep(0.02)
    assert told is not None
    assert (told.total_items, told.total_size) == (900, 900_000)
    assert told.size == told.items * 1000
    # the pretended machine does no more than 150; how far it keeps up is its host's affair
    assert told.items_per_second is not None and 0 < told.items_per_second <= 160
    left = (900 - told.items) / told.items_per_second
    assert told.seconds_left == pytest.approx(left, abs=2)


@pytest.mark.parametrize("at", ["look", "clean"])
def test_called_off_it_stops_within_a_second_and_its_sum_is_true(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, at: str
) -> None:
    """One folder of very many files, in which nothing else would let it breathe."""
    paths = [make_file(home / f".tmp/{n}", 100, days_old=9) for n in range(1500)]
    if at == "look":
        run = owner.runs.survey(machine.tag)
    else:
        run = owner.runs.clean(machine.tag, ["user-temp"])
        # looked at first: that takes the pretended disk ten seconds
    with at_work(agent) as work:
        watched(owner, run.id, at)
        owner.runs.call_off(run.id)
        when_asked = sum(not path.exists() for path in paths)
        work.join(timeout=60)
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.CALLED_OFF
    gone = sum(not path.exists() for path in paths)
    if at == "clean":
        assert ended.removed is not None and ended.removed.count == gone
        # the pretended disk does 150 in a second: one portion more, and what is under way
        assert gone - when_asked <= 200
    else:
        assert gone == 0


def test_what_was_open_and_is_closed_by_then_goes_in_a_further_pass(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    """A program is ended while other things are cleaned: its cache goes in the same run."""
    cached = make_file(home / ".cache/chromium/Default/Cache/1", 5 * 2**20, days_old=1)
    for n in range(60):
        make_file(home / f".tmp/{n}", 1000, days_old=9)
    state = tmp_path / "m/machine.toml"
    open_now = tomllib.loads(state.read_text()) | {"programs_open": ["chromium"]}
    closed = state.read_text()
    state.write_text(tomli_w.dumps(open_now))
    real_watch = progress.ProgressReporter.watch

    def watch(teller: progress.ProgressReporter, category: str, items: int, size: int) -> None:
        if teller._step == "clean" and category == "user-temp" and items:
            state.write_text(closed)
        real_watch(teller, category, items, size)

    monkeypatch.setattr(progress.ProgressReporter, "watch", watch)
    run = owner.runs.clean(machine.tag, ["web-cache", "user-temp"])
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.passes == 2
    assert not cached.exists()
    assert ended.state is RunState.DONE, "what the first pass left is not counted any more"
    assert ended.removed is not None and ended.removed.count == 61


def test_no_further_pass_for_what_the_machine_refuses(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, tmp_path: Path
) -> None:
    state = tmp_path / "m/machine.toml"
    said = tomllib.loads(state.read_text()) | {"files_in_use": ["root/home/anna/.tmp/open"]}
    state.write_text(tomli_w.dumps(said))
    make_file(home / ".tmp/open", 5 * 2**20, days_old=9)
    make_file(home / ".tmp/free", 5 * 2**20, days_old=9)
    run = owner.runs.clean(machine.tag, ["user-temp"])
    agent.once()
    ended = owner.runs.get(run.id)
    assert (ended.passes, ended.state) == (1, RunState.PARTLY)
