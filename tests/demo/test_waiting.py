"""The demo waits as long as something moves."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from click.testing import CliRunner

from phylax.cli.commands.demo import command
from phylax.demo.waiting import STILL, StillError, wait_for


class Hours:
    """A clock that goes on by being waited for."""

    def __init__(self) -> None:
        self.now = 0.0

    def pause(self, seconds: float) -> None:
        self.now += 60


def test_a_slow_start_is_waited_for_while_its_log_grows(tmp_path: Path) -> None:
    hours, log, said = Hours(), tmp_path / "service.log", list[str]()

    def is_there() -> bool:
        with log.open("a") as file:
            file.write("still reading\n")
        return hours.now > 4 * 3600

    wait_for(
        "the service", is_there, [], [log], say=said.append,
        clock=lambda: hours.now, pause=hours.pause,
    )  # fmt: skip
    assert hours.now > 10 * STILL
    assert said[0] == "Waiting for the service, 60 s so far; the machine is busy."


def test_what_does_not_move_is_given_up_and_named(tmp_path: Path) -> None:
    hours = Hours()
    with pytest.raises(StillError, match="the service: nothing has moved for 300 seconds"):
        wait_for(
            "the service", lambda: False, [2**22 + 1], [tmp_path / "none.log"],
            say=lambda word: None, clock=lambda: hours.now, pause=hours.pause,
        )  # fmt: skip


def test_a_process_that_works_moves(tmp_path: Path) -> None:
    hours = Hours()

    def is_there() -> bool:
        # this process uses its processor
        sum(range(2_000_000))
        return hours.now > 2 * STILL

    wait_for(
        "the service", is_there, [os.getpid()], [], say=lambda word: None,
        clock=lambda: hours.now, pause=hours.pause,
    )  # fmt: skip


def test_the_folder_named_before_restart_is_meant(tmp_path: Path) -> None:
    other = tmp_path / "other"
    result = CliRunner().invoke(command, ["--data", str(other), "restart", "oakes-laptop"])
    assert f"the demo in {other} has no machine" in result.output
    behind = ["--data", str(other), "restart", "x", "--data", str(tmp_path / "nearer")]
    assert f"the demo in {tmp_path / 'nearer'} has no" in CliRunner().invoke(command, behind).output
