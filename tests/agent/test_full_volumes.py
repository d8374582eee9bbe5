"""The normal case of this job: a volume with no byte, or no file number, left; and one that may not
be written to."""

from __future__ import annotations

import errno
import os
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from engine import Bench, Desk, NothingRuns, rule
from helpers import make_file
from phylax.core.protocol import CategoryRule, CleanOrder
from phylax.core.retention import Reason

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="mounting an image needs root")


@pytest.fixture
def home(volume: Path) -> Path:
    home = volume / "anna"
    for n in range(20):
        make_file(home / f".tmp/{n:02d}", 100_000, days_old=9)
        make_file(home / f".cache/drawing/{n:02d}", 100_000, days_old=99)
    return home


@pytest.fixture
def desk(volume: Path, home: Path) -> Desk:
    """An agent whose own folder is on the very volume."""
    desk = Desk(NothingRuns([str(home)]), volume / "own")
    desk.worker()  # it was here while there was room
    return desk


def fill(volume: Path) -> None:
    """To the last byte."""
    with (volume / "filler").open("wb", buffering=0) as file:
        for size in (2**20, 4096, 1):
            try:
                while True:
                    file.write(b"x" * size)
            except OSError as error:
                assert error.errno == errno.ENOSPC
    assert os.statvfs(volume).f_bavail == 0


def take_all_numbers(volume: Path) -> None:
    """To the last file number."""
    folder = volume / "many"
    folder.mkdir()
    number = 0
    try:
        while True:
            (folder / str(number)).touch()
            number += 1
    except OSError as error:
        assert error.errno == errno.ENOSPC
    assert os.statvfs(volume).f_ffree == 0


def order(**held: str) -> CleanOrder:
    """Temporary files for good, or held; other programs' caches always held."""
    look = (
        CategoryRule(category="user-caches", rule=rule(hold_for="P3D")),
        CategoryRule(category="user-temp", rule=rule(**held)),
    )
    keys = ("user-caches", "user-temp")
    return CleanOrder(run_id=1, lease="l", rules=look, clean=keys, survey_first=True)


@pytest.mark.parametrize("full_of", [fill, take_all_numbers], ids=["no byte", "no file number"])
def test_what_goes_for_good_makes_the_room_for_what_is_held(
    desk: Desk, volume: Path, home: Path, full_of
) -> None:
    full_of(volume)
    desk.carry_out(order())
    (result,) = desk.results()
    done = {outcome.category: outcome for outcome in result.outcomes}
    assert result.error == ""
    assert done["user-temp"].removed.count == 20
    assert done["user-caches"].held.count == 20 == len(desk.held())


@pytest.mark.parametrize("full_of", [fill, take_all_numbers], ids=["no byte", "no file number"])
def test_holding_alone_lives_on_the_reserve_or_says_there_is_no_room(
    desk: Desk, volume: Path, home: Path, full_of
) -> None:
    full_of(volume)
    desk.carry_out(order(hold_for="P3D"))
    (result,) = desk.results()
    assert result.error == ""
    for outcome, folder in zip(result.outcomes, (".cache/drawing", ".tmp"), strict=True):
        there = len(list((home / folder).iterdir()))
        assert outcome.held.count + there == 20
        stuck = {stay.reason: stay.count for stay in outcome.left}
        assert stuck == ({Reason.NO_ROOM: there} if there else {})


def test_held_things_are_put_back_on_a_full_volume(desk: Desk, volume: Path, home: Path) -> None:
    desk.carry_out(order(hold_for="P3D"))
    fill(volume)
    for batch in desk.hold.batches():
        for entry in batch.held():
            batch.put_back(entry, beside=False)
    assert len(list((home / ".tmp").iterdir())) == 20


@pytest.fixture
def read_only(volume: Path, home: Path) -> Iterator[Path]:
    subprocess.run(["mount", "-o", "remount,ro", str(volume)], check=True)
    yield home
    subprocess.run(["mount", "-o", "remount,rw", str(volume)], check=True)


@pytest.mark.parametrize("said", [{}, {"hold_for": "P3D"}], ids=["for good", "into the hold"])
def test_a_read_only_volume_is_said_once_and_not_tried_file_by_file(
    tmp_path: Path, read_only: Path, said: dict[str, str]
) -> None:
    it = Bench(NothingRuns([str(read_only)]), tmp_path)
    outcome, cleaner = it.clean("user-temp", **said)
    assert outcome.removed.count == outcome.held.count == 0
    assert {stay.reason: stay.count for stay in outcome.left} == {Reason.READ_ONLY: 20}
    assert len(cleaner.outcomes.named) <= 20
