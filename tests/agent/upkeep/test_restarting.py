"""A restart: people are warned and may put it off, what must not end is waited for, and only
another start proves that it happened. With a machine of the test's own, and with logind stood in
for on a bus of its own."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

import desktop_daemons
from phylax.agent.account.run_journal import RunJournal
from phylax.agent.machines.linux.actions.name_cache import clear_name_cache
from phylax.agent.machines.linux.actions.restarting import LogindRestart
from phylax.agent.machines.linux.system_manager import failed_parts, usable_after
from phylax.agent.runtime.restarting import restart
from phylax.agent.survey.task import Stopped
from phylax.core.actions import ActEnd, Restart
from phylax.core.protocol import ActOrder

QUICK = timedelta(seconds=1)
NOW = Restart(warn_minutes=0)
LATER = Restart(warn_minutes=5)


def watch(done: int = 0, of: int | None = None) -> None:
    """Nobody ends it."""


class Machine:
    """Does what the test says."""

    def __init__(self) -> None:
        self.name = "first"
        self.blocked: list[str] = []
        self.scheduled: list[tuple[datetime, str]] = []
        self.is_on = False
        self.put_off = 0
        self.never = False
        self.cancelled = 0

    def boot(self) -> str:
        return self.name

    def obstacles(self) -> Sequence[str]:
        return self.blocked

    def schedule(self, at: datetime, words: str) -> None:
        self.scheduled.append((at, words))
        self.is_on = True

    def is_scheduled(self) -> bool:
        if self.put_off:
            self.put_off -= 1
            self.is_on = False
        elif self.is_on and not self.never and self.scheduled[-1][0] <= datetime.now(UTC):
            self.name = "second"
        return self.is_on

    def cancel(self) -> None:
        self.cancelled += 1
        self.is_on = False


@pytest.fixture
def journal(tmp_path: Path) -> RunJournal:
    order = ActOrder(run_id=1, lease="lease", action=NOW)
    return RunJournal.begin(tmp_path / "1.jsonl", order, datetime.now(UTC).isoformat(), ())


def test_it_is_done_when_another_start_is_under_way(journal: RunJournal) -> None:
    machine = Machine()
    part = restart(NOW, machine, journal, watch)
    assert part.end is ActEnd.DONE and len(machine.scheduled) == 1
    assert "Save your work" in machine.scheduled[0][1]


def test_after_the_agents_own_end_the_journal_knows_that_it_was_asked_for(
    journal: RunJournal, tmp_path: Path
) -> None:
    machine = Machine()

    def end(done: int = 0, of: int | None = None) -> None:
        if machine.scheduled:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        restart(LATER, machine, journal, end)
    assert machine.cancelled == 0, "whoever is merely ended takes nothing back"
    journal.close()
    machine.name = "second"
    again = RunJournal.reopen(tmp_path / "1.jsonl")
    part = restart(LATER, machine, again, watch)
    assert part.end is ActEnd.DONE and len(machine.scheduled) == 1, "once, not twice"


def test_cut_off_before_it_happened_it_is_asked_for_again(
    journal: RunJournal, tmp_path: Path
) -> None:
    machine = Machine()
    journal.note("restart", {"boot": "first", "at": datetime.now(UTC).isoformat()})
    journal.close()
    part = restart(NOW, machine, RunJournal.reopen(tmp_path / "1.jsonl"), watch)
    assert part.end is ActEnd.DONE and len(machine.scheduled) == 1


def test_called_off_it_does_not_restart(journal: RunJournal) -> None:
    machine = Machine()

    def stop(done: int = 0, of: int | None = None) -> None:
        if machine.scheduled:
            raise Stopped

    with pytest.raises(Stopped):
        restart(LATER, machine, journal, stop)
    assert machine.cancelled == 1 and not machine.is_on


def test_what_must_not_end_is_waited_for(journal: RunJournal) -> None:
    machine = Machine()
    machine.blocked = ["Picture archive: writes a disc"]
    part = restart(NOW, machine, journal, watch, wait=QUICK)
    assert part.end is ActEnd.REFUSED and "writes a disc" in part.why
    assert machine.scheduled == []

    def over(done: int = 0, of: int | None = None) -> None:
        machine.blocked = []

    machine.blocked = ["Picture archive: writes a disc"]
    assert restart(NOW, machine, journal, over).end is ActEnd.DONE


def test_what_begins_meanwhile_goes_first(journal: RunJournal) -> None:
    machine = Machine()
    looks = []

    def begins(done: int = 0, of: int | None = None) -> None:
        looks.append(1)
        if machine.scheduled and not machine.cancelled:
            machine.blocked = ["An update"]

    part = restart(LATER, machine, journal, begins, wait=QUICK)
    assert part.end is ActEnd.REFUSED and "An update" in part.why
    assert machine.cancelled == 1 and not machine.is_on


def test_people_put_it_off_so_often_and_no_more(journal: RunJournal) -> None:
    machine = Machine()
    action = Restart.model_construct(warn_minutes=0, postponements=2, postpone_minutes=0)
    machine.put_off = 2
    assert restart(action, machine, journal, watch).end is ActEnd.DONE
    assert len(machine.scheduled) == 3
    journal.noted.clear()
    machine = Machine()
    machine.put_off = 3
    part = restart(action, machine, journal, watch)
    assert part.end is ActEnd.REFUSED and "put it off" in part.why and not machine.is_on


def test_one_that_does_not_restart_is_no_success(journal: RunJournal) -> None:
    machine = Machine()
    machine.never = True
    part = restart(NOW, machine, journal, watch, give_up=QUICK)
    assert part.end is ActEnd.FAILED and "did not" in part.why
    assert not machine.is_on, "nor does it restart hours later, when nobody expects it"


# --- logind, stood in for --------------------------------------------------------------------


@pytest.fixture
def bus(tmp_path: Path) -> Iterator[str]:
    with desktop_daemons.bus(tmp_path / "bus") as address:
        yield address


def call(address: str, name: str, path: str, method: str, *words: str) -> str:
    said = subprocess.run(
        ["gdbus", "call", "--address", address, "--dest", name, "--object-path", path,
         "--method", method, *words],
        check=True, capture_output=True, text=True,
        env={"PATH": os.environ["PATH"]},
    )  # fmt: skip
    return said.stdout


LOGIND = ("org.freedesktop.login1", "/org/freedesktop/login1")
MOCK = "org.freedesktop.DBus.Mock"


def test_logind_is_asked_what_blocks_to_warn_and_to_restart(bus: str) -> None:
    manager = "org.freedesktop.login1.Manager"
    with desktop_daemons.mock(bus, "logind"):
        call(bus, *LOGIND, f"{MOCK}.AddMethods", manager,
             "[('ScheduleShutdown', 'st', '', ''), ('SetWallMessage', 'sb', '', ''),"
             " ('CancelScheduledShutdown', '', 'b', 'ret = True')]")  # fmt: skip
        call(bus, *LOGIND, f"{MOCK}.AddProperty", manager, "ScheduledShutdown",
             "<('reboot', uint64 1)>")  # fmt: skip
        machine = LogindRestart(bus)
        assert list(machine.obstacles()) == []
        call(bus, *LOGIND, f"{MOCK}.AddMethod", manager, "ListInhibitors", "", "a(ssssuu)",
             "ret = [('shutdown:sleep', 'Disc writer', 'writes a disc', 'block', 1000, 4),"
             " ('sleep', 'Player', 'plays', 'block', 1000, 5),"
             " ('shutdown', 'Saver', 'saves', 'delay', 1000, 6)]")  # fmt: skip
        assert list(machine.obstacles()) == ["Disc writer: writes a disc"]
        at = datetime(2026, 3, 2, 18, 30, tzinfo=UTC)
        machine.schedule(at, "Save your work.")
        assert machine.is_scheduled()
        machine.cancel()
        calls = call(bus, *LOGIND, f"{MOCK}.GetCalls")
        assert "'SetWallMessage'" in calls and "Save your work." in calls
        assert "'ScheduleShutdown'" in calls and str(int(at.timestamp() * 1_000_000)) in calls
        assert "'CancelScheduledShutdown'" in calls
        assert len(machine.boot()) >= 32


def test_where_nobody_answers_that_is_an_error_and_nothing_restarts(tmp_path: Path) -> None:
    machine = LogindRestart(f"unix:path={tmp_path}/nobody")
    with pytest.raises(OSError):
        machine.obstacles()
    assert usable_after(f"unix:path={tmp_path}/nobody") is None
    assert failed_parts(f"unix:path={tmp_path}/nobody") is None


def test_the_system_says_when_it_could_be_used_and_what_failed(bus: str) -> None:
    manager, name, path = (
        "org.freedesktop.systemd1.Manager", "org.freedesktop.systemd1", "/org/freedesktop/systemd1"
    )  # fmt: skip
    with desktop_daemons.bare_mock(bus, name, path, manager):
        call(bus, name, path, f"{MOCK}.AddProperty", manager, "FinishTimestampMonotonic",
             "<uint64 41500000>")  # fmt: skip
        assert usable_after(bus) == 41.5
        call(bus, name, path, f"{MOCK}.AddMethod", manager, "ListUnitsFiltered", "as",
             "a(ssssssouso)", "ret = [('old-scanner.service', 'Old scanner', 'loaded', 'failed',"
             " 'failed', '', '/', 0, '', '/')]")  # fmt: skip
        assert failed_parts(bus) == ["old-scanner.service"]


def test_the_resolver_forgets_what_it_knew(bus: str) -> None:
    name, path, manager = (
        "org.freedesktop.resolve1", "/org/freedesktop/resolve1", "org.freedesktop.resolve1.Manager"
    )  # fmt: skip
    with pytest.raises(OSError):
        clear_name_cache(bus)
    with desktop_daemons.bare_mock(bus, name, path, manager):
        call(bus, name, path, f"{MOCK}.AddMethod", manager, "FlushCaches", "", "", "")
        assert clear_name_cache(bus).end is ActEnd.DONE
        assert "'FlushCaches'" in call(bus, name, path, f"{MOCK}.GetCalls")
