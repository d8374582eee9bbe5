"""Confirmed or undone: a change that could keep a machine from the service stays only if it does
not; and what a person at the machine puts back."""

from __future__ import annotations

import errno
import json
import ssl
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import httpx
import pytest

from helpers import free_port
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.runtime.settings_run import SettingsRun
from phylax.agent.tuning.changer import Change, Changer, Stage
from phylax.agent.tuning.confirmation import WITHIN, Confirming
from phylax.agent.tuning.setting_backend import LocalSettingBackend
from phylax.client import UnreachableError
from phylax.client.transport.http import Http
from phylax.core.protocol import ChangeSettingsOrder
from phylax.core.tuning.changes import Wanted
from phylax.core.tuning.programs import Intent
from startup_trees import add_file, add_service, entry, picture

CLOUD = "path:/opt/cloud/run --quiet"


@dataclass
class Running:
    """A machine that is started again, and whose time goes on as told."""

    boot: str = "first"
    uptime: float = 1000.0

    def start_anew(self) -> None:
        self.boot, self.uptime = self.boot + " again", 5.0


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "root"
    add_service(root, "cloud")
    return root


@pytest.fixture
def running(monkeypatch: pytest.MonkeyPatch) -> Running:
    running = Running()
    monkeypatch.setattr(LinuxMachine, "boot", lambda self: running.boot)
    monkeypatch.setattr("phylax.agent.runtime.settings_run.time.monotonic", lambda: running.uptime)
    return running


@pytest.fixture
def changed(root: Path, tmp_path: Path, running: Running) -> Changer:
    """The service is off, by a change made just now."""
    run = SettingsRun(LinuxMachine(root=str(root)), tmp_path / "journal", frozenset())
    wanted = Wanted(program=CLOUD, was=Intent.AT_START, intent=Intent.OFF)
    (made,) = run.change(ChangeSettingsOrder(run_id=1, lease="l", wanted=(wanted,)))
    assert made.refused == ""
    return Changer(LocalSettingBackend(str(root)), tmp_path / "journal")


@pytest.fixture
def agent(changed: Changer, running: Running, tmp_path: Path) -> Callable[[], Confirming]:
    """An agent that was just started."""
    tries = tmp_path / "unreached.json"
    return lambda: Confirming(changed, lambda: running.boot, tries, lambda: running.uptime)


def is_off(root: Path) -> bool:
    return (root / "etc/systemd/system/cloud.service").is_symlink()


def stage(changer: Changer) -> Stage:
    (change,) = changer.changes()
    return change.stage


def wait(watch: Confirming, running: Running, seconds: float) -> None:
    """The service cannot be reached for so long."""
    for _ in range(10):
        watch.not_reached()
        running.uptime += seconds / 10
    watch.not_reached()


def test_what_is_not_reached_in_time_is_undone(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running
) -> None:
    watch = agent()
    wait(watch, running, WITHIN - 1)
    assert is_off(root), "there is time yet"
    running.uptime += 2
    (undone,) = watch.not_reached()
    assert not is_off(root) and stage(changed) is Stage.UNDONE
    assert undone.untold == "the service could not be reached with it"
    assert watch.not_reached() == []


def test_reached_once_it_stays_until_the_next_start(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running
) -> None:
    watch = agent()
    watch.reached()
    wait(watch, running, 5 * WITHIN)
    assert is_off(root) and stage(changed) is Stage.REACHED
    running.start_anew()
    watch = agent()
    wait(watch, running, WITHIN - 1)
    assert is_off(root)
    wait(watch, running, 2)
    assert not is_off(root) and stage(changed) is Stage.UNDONE


def test_reached_after_a_start_it_stays_for_good(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running
) -> None:
    agent().reached()
    running.start_anew()
    watch = agent()
    wait(watch, running, WITHIN / 2)
    watch.reached()
    assert stage(changed) is Stage.CONFIRMED
    running.start_anew()
    wait(agent(), running, 3 * WITHIN)
    assert is_off(root)


def test_an_agent_that_is_started_again_and_again_does_not_put_it_off(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running
) -> None:
    for _ in range(6):
        assert agent().not_reached() == []
        running.uptime += WITHIN / 6 + 1
    assert agent().not_reached(), "tried in vain for the whole time, by one agent or another"
    assert not is_off(root)


@pytest.mark.parametrize(
    "kept", ["{ torn", "[]", '{"boot": "first"}', '{"boot": "first", "since": "x"}',
             '{"boot": "first", "since": 9e99}', '{"boot": "another", "since": 0}'],
)  # fmt: skip
def test_a_torn_note_of_earlier_tries_undoes_nothing_early(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running,
    tmp_path: Path, kept: str,
) -> None:  # fmt: skip
    (tmp_path / "unreached.json").write_text(kept)
    assert agent().not_reached() == []
    running.uptime += WITHIN - 1
    assert agent().not_reached() == [] and is_off(root)


def test_a_service_that_was_away_only_while_nobody_tried_undoes_nothing(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running
) -> None:
    """The agent slept for an hour: one failed try is not ten minutes of them."""
    running.uptime += 6 * WITHIN
    assert agent().not_reached() == []
    assert is_off(root)


def test_a_disk_that_refuses_is_tried_again_and_forgets_no_time(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running,
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    (tmp_path / "unreached.json").mkdir()
    put_back, refusals = Changer.put_back, [OSError(errno.ENOSPC, "full")] * 2

    def refuse(self: Changer, *args: object) -> Change:
        if refusals:
            raise refusals.pop()
        return put_back(self, *args)  # type: ignore[arg-type]

    monkeypatch.setattr(Changer, "put_back", refuse)
    watch = agent()
    wait(watch, running, WITHIN + 1)
    assert is_off(root), "it could not be undone yet"
    watch.not_reached()
    assert watch.not_reached() or not is_off(root)
    assert stage(changed) is Stage.UNDONE


def test_entries_of_a_session_do_not_hang(
    root: Path, tmp_path: Path, running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    home = root / "home/anna"
    add_file(root, "home/anna/.config/autostart/chat.desktop", entry("Chat", "/opt/cloud/run"))
    machine = LinuxMachine(root=str(root))
    monkeypatch.setattr(
        LinuxMachine, "people", lambda self: iter([("anna", 0, str(root / "home/anna"))])
    )
    run = SettingsRun(machine, tmp_path / "journal", frozenset())
    (program,) = [p for p in machine.programs() if p.name == "Chat"]
    wanted = Wanted(program=program.key, was=Intent.AT_START, intent=Intent.ON_DEMAND)
    (made,) = run.change(ChangeSettingsOrder(run_id=1, lease="l", wanted=(wanted,)))
    assert made.refused == ""
    changer = Changer(LocalSettingBackend(str(root)), tmp_path / "journal")
    tries = tmp_path / "unreached.json"
    watch = Confirming(changer, lambda: running.boot, tries, lambda: running.uptime)
    wait(watch, running, 5 * WITHIN)
    assert stage(changer) is Stage.MADE and home.is_dir()


def test_what_somebody_altered_since_is_theirs(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running
) -> None:
    (root / "etc/systemd/system/cloud.service").unlink()
    add_file(root, "etc/systemd/system/cloud.service", "[Service]\nExecStart=/bin/theirs\n")
    before = picture(root)
    watch = agent()
    wait(watch, running, 2 * WITHIN)
    assert picture(root) == before and stage(changed) is Stage.CONFIRMED


def test_a_journal_of_an_earlier_version_is_read_and_does_not_hang(
    root: Path, changed: Changer, agent: Callable[[], Confirming], running: Running, tmp_path: Path
) -> None:
    (file,) = (tmp_path / "journal").glob("*.json")
    written = json.loads(file.read_text())
    for name in ("hangs", "boot", "uptime", "untold"):
        del written[name]
    file.write_text(json.dumps(written))
    wait(agent(), running, 5 * WITHIN)
    assert is_off(root) and stage(changed) is Stage.MADE


@pytest.mark.parametrize(
    ("failure", "answered"),
    [
        (httpx.ReadError("broke off"), True),
        (httpx.RemoteProtocolError("nonsense"), True),
        (ssl.SSLCertVerificationError("another's certificate"), True),
        (ConnectionRefusedError(errno.ECONNREFUSED, "refused"), True),
        (OSError(errno.ENETUNREACH, "no network"), False),
        (httpx.ConnectTimeout("nobody"), False),
    ],
    ids=lambda value: type(value).__name__,
)
def test_a_service_that_is_down_is_told_from_a_network_that_is(
    failure: Exception, answered: bool
) -> None:
    """A shop whose service is being restarted must not have all its machines undo their changes."""

    class Broken(httpx.BaseTransport):
        def handle_request(self, request: httpx.Request) -> httpx.Response:
            if isinstance(failure, httpx.TransportError):
                raise failure
            raise httpx.ConnectError("no connection") from failure

    with (
        Http("http://service.example", transport=Broken(), clear=True) as http,
        pytest.raises(UnreachableError) as raised,
    ):
        http.send("GET", "/health")
    assert raised.value.answered is answered


def test_a_port_where_nobody_listens_refuses_and_so_answers() -> None:
    with Http(f"http://127.0.0.1:{free_port()}") as http, pytest.raises(UnreachableError) as raised:
        http.send("GET", "/health")
    assert raised.value.answered
