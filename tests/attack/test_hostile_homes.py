"""Whatever lies in people's homes: what is theirs to keep survives, what is old goes, and nothing
stops the machine."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest

from attack.living import PLACES, at_work
from attack.maker import Hostile, digests, wait_for_the_next_second
from engine import rule
from helpers import make_file
from people import ANNA, PeopleDesk, SetClock, give, mounted
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.retention import ProtectEntry

SEEDS = int(os.environ.get("PHYLAX_ATTACK_SEEDS", "60"))
FIRST = int(os.environ.get("PHYLAX_ATTACK_FIRST", "0"))
AT_ONCE = 10
AGE = timedelta(days=30)
KEYS = ("user-temp", "user-caches", "thumbnails", "trash", "downloads", "system-temp")
RULES = {key: rule(keep_for=AGE) for key in KEYS}
HELD = {key: rule(keep_for=AGE, hold_for="P3D") for key in KEYS}


@pytest.fixture
def volumes(tmp_path: Path, fork_server: ForkServer) -> Iterator[list[PeopleDesk]]:
    from contextlib import ExitStack

    with ExitStack() as stack:
        desks = []
        for number in range(AT_ONCE):
            volume = stack.enter_context(
                mounted("tmpfs", tmp_path / f"v{number}", "-o", "size=32m,mode=755")
            )
            desks.append(PeopleDesk(volume, tmp_path / f"own{number}", fork_server))
        yield desks


@pytest.mark.parametrize("begin", range(FIRST, FIRST + SEEDS, AT_ONCE))
def test_what_is_theirs_survives_and_what_is_old_goes(
    volumes: list[PeopleDesk], begin: int
) -> None:
    hostiles = [Hostile(desk, begin + number) for number, desk in enumerate(volumes)]
    try:
        for hostile in hostiles:
            hostile.lay_out()
        over = wait_for_the_next_second()
        for hostile in hostiles:
            hostile.make_young()
            hostile.desk.clock = SetClock(over + AGE.total_seconds())
        for number, hostile in enumerate(hostiles):
            seed = begin + number
            protect = [ProtectEntry(kind=kind, pattern=what) for kind, what in hostile.protect]
            by = HELD if seed % 3 == 0 else RULES
            hostile.desk.look(by, protect=protect)
            listing = [item for item in hostile.desk.listing() if item.reason is None]
            result = hostile.desk.clean(by, protect=protect, standing=("downloads",))
            assert not result.error, f"seed {seed}: {result.error}"
            assert not hostile.lost(), f"seed {seed} lost {hostile.lost()}"
            assert not hostile.stayed(), f"seed {seed}: {result} left {hostile.stayed()}"
            removed = sum(outcome.removed.count for outcome in result.outcomes)
            assert removed or by is HELD, listing
    finally:
        for hostile in hostiles:
            hostile.close()


@pytest.mark.parametrize("seed", range(FIRST, FIRST + max(4, SEEDS // 20)))
def test_who_goes_on_working_meanwhile_loses_nothing_they_wrote(
    volumes: list[PeopleDesk], seed: int, tmp_path: Path
) -> None:
    desk = volumes[0]
    home = desk.home("anna", ANNA)
    for folder in PLACES:
        for number in range(60):
            make_file(home / folder / f"old-{number}", 100)
    give(home, ANNA)
    log = tmp_path / "log"
    log.touch()
    os.chown(log, ANNA, ANNA)
    over = wait_for_the_next_second()
    desk.clock = SetClock(over)
    desk.look(RULES)
    desk.clock = SetClock(over + AGE.total_seconds())
    with at_work(home, log, seed, ANNA):
        for run_id in range(2, 6):
            by = HELD if (seed + run_id) % 2 else RULES
            result = desk.clean(by, run_id=run_id, standing=("downloads",))
            assert not result.error
    written = set(log.read_text().split())
    lost = written - digests(desk.volume)
    assert len(written) > 10 and not lost, f"{len(lost)} of {len(written)}"
    assert not list((home / ".cache").glob("*/old-*"))
