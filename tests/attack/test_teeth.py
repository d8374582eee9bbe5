"""Promises of the hold and the spool that a weaker program would break unnoticed."""

from __future__ import annotations

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from engine import Bench, NothingRuns, rule
from helpers import Clock, enrol, make_file, make_standin
from people import ANNA, PeopleDesk, SetClock, give
from phylax.agent import files
from phylax.agent.hold.batch import MANIFEST, Batch
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.outbox.spool import Spool
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import Machine
from phylax.core.ground.readings import ReadingIn
from phylax.core.protocol import ReadingsMessage
from phylax.core.retention import Reason, Rule, Scope


def sparse(path: Path, size: int) -> Path:
    make_file(path)
    with path.open("wb") as file:
        file.truncate(size)
    old = datetime(2020, 1, 1, tzinfo=UTC).timestamp()
    os.utime(path, (old, old))
    return path


def test_what_earlier_runs_hold_counts_against_the_share_that_may_be_held(tmp_path: Path) -> None:
    home = make_standin(tmp_path / "m")
    for number, expected in ((1, 1), (2, 0)):
        # a tenth of 10^9 bytes may be held
        thing = sparse(home / f".tmp/{number}", 60_000_000)
        own = tmp_path / f"run{number}"
        own.mkdir()
        bench = Bench(StandInMachine(tmp_path / "m"), tmp_path)
        outcome, _ = bench.clean("user-temp", hold_for="P3D")
        assert thing.exists() is (expected == 0)
    assert {stay.reason: stay.count for stay in outcome.left} == {Reason.NO_ROOM: 1}


def test_after_a_torn_line_numbers_go_on_and_everything_comes_back(tmp_path: Path) -> None:
    home = tmp_path / "anna"
    (tmp_path / "runs").mkdir()
    bench = Bench(NothingRuns([str(home)]), tmp_path / "runs")
    paths = []
    for number in (1, 2):
        paths.append(make_file(home / f".tmp/{number}", 1000 * number, days_old=9))
        bench.clean("user-temp", hold_for="P3D")
        (folder,) = bench.hold.folders()
        (name,) = os.listdir(folder)
        with Path(folder, name, MANIFEST).open("ab") as manifest:
            # cut off while it was written: nothing of it had been moved
            manifest.write(b'{"first": 7, "root": "/", "things": [["x", 1')
    batch = Batch.open(folder, name)
    held = list(batch.held())
    assert len({one.number for one in held}) == len(held) == 2
    for one in held:
        batch.put_back(one, beside=False)
    batch.close()
    assert [path.stat().st_size for path in paths] == [1000, 2000]


def test_held_things_have_the_time_that_is_believed(desk: PeopleDesk, home: Path) -> None:
    believed = datetime(2027, 5, 1, tzinfo=UTC)
    desk.clock = SetClock(believed.timestamp())
    give(make_file(home / ".tmp/old", days_old=9), ANNA)
    give(home, ANNA)
    desk.clean({"user-temp": rule(keep_for="P0D", hold_for="P3D")})
    (entry,) = desk.index.entries()
    assert (entry.held_at, entry.until_at) == (believed, believed + timedelta(days=3))
    desk.expire(days=2.9)
    assert list(desk.index.entries())
    desk.expire(days=3.1)
    assert not list(desk.index.entries())


def test_a_kept_message_and_its_name_are_on_the_disk(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    spool = Spool(tmp_path)
    steps: list[str] = []
    monkeypatch.setattr(files, "step", steps.append)
    at = datetime(2026, 3, 2, tzinfo=UTC)
    reading = ReadingIn(mount="/", capacity=9, free=1, at=at)
    spool.put(ReadingsMessage(id="message-0001", readings=(reading,)))
    assert steps == ["write message", "sync", "keep message", "sync"]


def test_a_consent_that_has_expired_lets_nothing_go(
    owner: Phylax, machine: Machine, clock: Clock, tmp_path: Path
) -> None:
    clock.now = datetime.now(UTC)
    home = make_standin(tmp_path / "m")
    make_file(home / "Downloads/old", 1000, days_old=200)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=timedelta(days=90)))
    owner.runs.survey(machine.tag)
    agent.once()
    survey = owner.machines.ledger(machine.tag).survey_id
    consent = owner.surveys.consent(survey, "downloads", comment="asked by phone")
    clock.pass_(consent.expires_at - clock.now + timedelta(seconds=2))
    with pytest.raises(RefusedError, match="has expired"):
        owner.runs.clean(machine.tag, ["downloads"], consents=[consent.id])
    assert (home / "Downloads/old").exists()
