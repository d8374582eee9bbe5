"""The service killed with SIGKILL in the middle of a run: nothing twice, nothing lost."""

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import httpx
import pytest

from helpers import PASSWORD, enrol, free_port, make_file, make_standin, wait_until
from phylax.client import Phylax, PhylaxError, sign_in
from phylax.core.backups.backups import Backup
from phylax.core.clients.shop import ClientEdit, MachineEdit, ShopEdit
from phylax.core.people.accounts import NewPerson, Role
from phylax.core.runs.runs import RunState
from phylax.service.backups import restoring
from phylax.service.backups.making import MARK
from phylax.service.serving.serve import open_shop

KILLING = float(os.environ.get("PHYLAX_KILL_SECONDS", "0"))
"""Seconds for which it is killed again and again, at least three times; 180 by `make attack`."""


class Process:
    """The service as a process of its own, that can be killed and started again."""

    def __init__(self, data: Path) -> None:
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self._command = [sys.executable, "-m", "phylax", "serve", "--data", str(data), "--port",
                         str(self.port)]  # fmt: skip
        self.start()

    def start(self) -> None:
        self.process = subprocess.Popen(self._command, stdout=subprocess.DEVNULL)
        wait_until(self._answers, "the service to answer")

    def _answers(self) -> bool:
        try:
            return httpx.get(f"{self.url}/api/v2/health").is_success
        except httpx.TransportError:
            return False

    def end(self, how: signal.Signals) -> int:
        self.process.send_signal(how)
        return self.process.wait(timeout=60)


@pytest.fixture
def process(tmp_path: Path) -> Iterator[Process]:
    owner = NewPerson(login="ines", name="Ines Marrow", role=Role.OWNER, password=PASSWORD)
    open_shop(tmp_path / "shop", ShopEdit(name="Quayside", zone="Europe/Dublin"), owner)
    process = Process(tmp_path / "shop")
    yield process
    if process.process.poll() is None:
        process.end(signal.SIGTERM)


def test_a_run_outlives_its_service(process: Process, tmp_path: Path) -> None:
    home = make_standin(tmp_path / "m", items_per_second=120)
    for number in range(240):
        make_file(home / f".tmp/f{number}", 500, days_old=3)
    with Phylax(process.url, sign_in(process.url, "ines", PASSWORD)) as shop:
        client = shop.clients.add(ClientEdit(name="Kelpie Boatyard"))
        shop.machines.add(MachineEdit(tag="yard", client_id=client.id, system="linux"))
        enrol(shop, "yard", tmp_path / "agent", tmp_path / "m")
        run = shop.runs.clean("yard", ["user-temp"])
        agent = subprocess.Popen(
            [sys.executable, "-m", "phylax", "agent", "start", "--data", str(tmp_path / "agent")],
            stderr=subprocess.DEVNULL,
        )
        try:
            tree = home / ".tmp"
            wait_until(lambda: len(os.listdir(tree)) < 180, "the cleaning to be under way")
            process.end(signal.SIGKILL)
            assert len(os.listdir(tree)) > 0
            wait_until(lambda: not os.listdir(tree), "the machine to finish on its own")
            process.start()
            wait_until(lambda: shop.runs.get(run.id).state.has_ended, "the result to arrive")
        finally:
            agent.terminate()
            agent.wait(timeout=60)
        ended = shop.runs.get(run.id)
        assert ended.state is RunState.DONE
        assert ended.removed is not None and ended.removed.size == ended.freed == 240 * 500
        entries = [r for r in shop.records.list(machine="yard") if r.run_id == run.id]
        assert len(entries) == 1 and shop.records.verify().intact


def test_being_told_to_stop_ends_waiting_requests_and_closes_the_file(
    process: Process, tmp_path: Path
) -> None:
    headers = {"Authorization": f"Bearer {sign_in(process.url, 'ines', PASSWORD)}"}
    with httpx.stream("GET", f"{process.url}/api/v2/events", headers=headers, timeout=10) as line:
        next(line.iter_lines())
        assert process.end(signal.SIGTERM) == 0
    leftover = tmp_path / "shop/phylax.sqlite3-wal"
    assert not leftover.exists() or leftover.stat().st_size == 0


def test_killed_under_load_while_backups_are_made_nothing_acknowledged_is_lost(
    process: Process, tmp_path: Path
) -> None:
    """The last backup holds all that was acknowledged before it; the file holds all of it."""
    noted: list[str] = []
    stopped = threading.Event()
    token = sign_in(process.url, "ines", PASSWORD)
    with Phylax(process.url, token) as shop:
        client = shop.clients.add(ClientEdit(name="Kelpie Boatyard"))
        shop.machines.add(MachineEdit(tag="yard", client_id=client.id, system="linux"))

    def write(who: int) -> None:
        with Phylax(process.url, token) as shop:
            number = 0
            while not stopped.is_set():
                number += 1
                with suppress(PhylaxError):
                    shop.records.add_note("yard", f"note {who}-{number}")
                    noted.append(f"note {who}-{number}")

    before: list[str] = []
    made: list[Backup] = []
    writers = [threading.Thread(target=write, args=(who,)) for who in range(3)]
    for writer in writers:
        writer.start()
    try:
        end = time.monotonic() + KILLING
        while len(made) < 3 or time.monotonic() < end:
            with Phylax(process.url, token) as shop:
                so_far = len(noted)
                wait_until(lambda most=so_far + 20: len(noted) > most, "some notes")
                before = list(noted)
                made.append(shop.backups.make())
                backing_up = threading.Thread(target=lambda: suppressed(shop.backups.make))
                backing_up.start()
                time.sleep(0.02)
                process.end(signal.SIGKILL)
                backing_up.join()
            process.start()
    finally:
        stopped.set()
        for writer in writers:
            writer.join()
    with Phylax(process.url, token) as shop:
        there = {entry.text for entry in shop.records.list(machine="yard")}
        assert set(noted) <= there
        assert shop.records.verify().intact and shop.people.verify_audit().intact
        seal = Path(made[-1].place, f"{made[-1].name}.seal").read_text("utf-8")
        assert shop.records.check_seal(seal).valid
        made.append(shop.backups.make())
        newest = Path(made[-1].place, made[-1].name)
        left = {path.suffix for path in newest.parent.iterdir() if path.name != MARK}
        assert left == {".sqlite3", ".seal"}, "no halves"
    process.end(signal.SIGTERM)
    restoring.restore(tmp_path / "shop", newest)
    process.start()
    with Phylax(process.url, token) as shop:
        there = {entry.text for entry in shop.records.list(machine="yard")}
        assert set(before) <= there and shop.records.verify().intact
        assert shop.records.check_seal(seal).valid


def suppressed(act: Callable[[], object]) -> None:
    with suppress(PhylaxError):
        act()
