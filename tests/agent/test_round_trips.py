"""Agent and service together: enrol, look, agree, clean, be cut off, go on, tell the truth."""

import os
import signal
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psutil
import pytest

from conftest import Service
from helpers import TUESDAY, Clock, enrol, make_file, make_standin, needs_attention, wait_until
from phylax.agent.config.home import AgentHome, BusyError, NotEnrolledError
from phylax.agent.runtime.loop import Agent
from phylax.client import NotAllowedError, Phylax, RefusedError, UnreachableError
from phylax.client import enrol as enrol_at
from phylax.core.clients.shop import Machine
from phylax.core.ground.machines import MachineFacts, System
from phylax.core.protocol import Message, Progress, ResultMessage
from phylax.core.retention import Rule, Scope
from phylax.core.runs.runs import RunState
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return make_standin(tmp_path / "m")


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, home: Path) -> Agent:
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


def test_a_code_enrols_once_for_its_system_and_not_for_ever(
    owner: Phylax, machine: Machine, clock: Clock
) -> None:
    facts = MachineFacts(system="linux", host="h", agent_version="0.1.0", kind="standin")
    code = owner.machines.enrolment_code(machine.id).code
    with pytest.raises(RefusedError, match="added as linux"):
        enrol_at(owner.url, code, facts.model_copy(update={"system": System.MACOS}))
    assert enrol_at(owner.url, code.upper(), facts).tag == machine.tag
    with pytest.raises(NotAllowedError, match="no longer valid"):
        enrol_at(owner.url, code, facts)
    late = owner.machines.enrolment_code(machine.id).code
    clock.pass_(timedelta(days=3))
    with pytest.raises(NotAllowedError):
        enrol_at(owner.url, late, facts)


def test_the_key_is_its_owners_alone_and_a_withdrawn_agent_is_refused(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    assert (tmp_path / "agent/agent.key").stat().st_mode & 0o077 == 0
    agent.once()
    owner.machines.withdraw_agent(machine.tag)
    with pytest.raises(RefusedError, match="enrol the machine again"):
        agent.once()
    with pytest.raises(NotEnrolledError, match="phylax agent enrol"):
        Agent(AgentHome(tmp_path / "nowhere"))


def test_what_was_read_out_of_reach_goes_in_one_message_and_what_is_refused_alone(
    owner: Phylax, machine: Machine, agent: Agent, monkeypatch: pytest.MonkeyPatch
) -> None:
    for _ in range(4):
        agent._take_reading()
    now = datetime.now(UTC)
    agent._spool.put(ResultMessage(id="of-no-run-of-mine", run_id=99, started_at=now, ended_at=now))
    agent._take_reading()
    sent: list[Message] = []
    report = agent._link.report
    monkeypatch.setattr(
        agent._link, "report", lambda one, age: (sent.append(one), report(one, age=age))
    )
    agent.once()
    assert [(one.kind, sum(len(v.at) for v in getattr(one, "volumes", ()))) for one in sent] == [
        ("readings", 4), ("result", 0), ("readings", 2),
    ]  # fmt: skip
    assert len(list((agent._home.spool / "refused").iterdir())) == 1 and not len(agent._spool)
    (volume,) = owner.machines.get(machine.tag).volumes
    assert volume.free > 0


def test_the_whole_path(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, context: Context
) -> None:
    make_file(home / ".tmp/old", 5000, days_old=3)
    keep = make_file(home / "Downloads/keep", 700, days_old=300)
    make_file(home / "Downloads/let-go", 900, days_old=300)
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=timedelta(days=90)))
    look = owner.runs.survey(machine.tag)
    agent.once()
    assert owner.runs.get(look.id).state is RunState.DONE
    ledger = owner.machines.ledger(machine.tag)
    assert (ledger.removable.size, ledger.needs_approval.size) == (5000, 1600)
    assert [a.cause for a in needs_attention(context, owner)] == ["needs approval"]

    listing = list(owner.surveys.listing(ledger.survey_id, "downloads"))
    numbers = [item.number for item in listing if item.path == "let-go"]
    with pytest.raises(RefusedError, match="needs a consent to its listing"):
        owner.runs.clean(machine.tag, ["downloads"])
    consent = owner.surveys.consent(
        ledger.survey_id, "downloads", numbers=numbers, comment="asked by phone"
    )
    run = owner.runs.clean(machine.tag, ["user-temp", "downloads"], consents=[consent.id])
    assert run.expected is not None and run.expected.size == 5900
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.DONE
    assert ended.removed is not None and ended.removed.size == ended.freed == 5900
    assert keep.exists() and ended.follow_up_survey_id is not None
    assert owner.machines.ledger(machine.tag).removable.count == 0
    record = next(owner.records.list(machine=machine.tag))
    assert (record.who, record.freed, record.left_count) == ("Ines Marrow", 5900, 0)
    assert owner.records.verify().intact
    trend = owner.machines.trend(machine.tag, until=ended.ended_at + timedelta(hours=1))
    assert [c.run_id for c in trend.cleanings] == [run.id]
    with pytest.raises(RefusedError, match="used already"):
        owner.runs.clean(machine.tag, ["downloads"], consents=[consent.id])


def test_a_yes_does_not_last_for_ever(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, clock: Clock
) -> None:
    make_file(home / "Downloads/thing", days_old=300)
    owner.runs.survey(machine.tag)
    agent.once()
    consent = owner.surveys.consent(
        owner.machines.ledger(machine.tag).survey_id, "downloads", numbers=[1]
    )
    clock.pass_(timedelta(days=8))
    with pytest.raises(RefusedError, match="expired"):
        owner.runs.clean(machine.tag, ["downloads"], consents=[consent.id])


def test_a_round_looks_first_cleans_and_is_in_the_record(
    owner: Phylax, service: Service, machine: Machine, agent: Agent, home: Path, clock: Clock
) -> None:
    make_file(home / ".tmp/old", 5000, days_old=9)
    owner.rounds.add(TUESDAY)
    clock.pass_(timedelta(days=1, hours=10))
    scheduler.tick(service.context)
    agent.once()
    (run,) = owner.runs.list()
    assert (run.state, run.round_name) == (RunState.DONE, "Tuesdays")
    assert run.expected == run.removed and run.freed == 5000
    assert next(owner.records.list(machine=machine.tag)).who == "Tuesdays (round)"


def test_reports_sent_twice_are_applied_once_and_kept_while_the_service_is_away(
    owner: Phylax, machine: Machine, agent: Agent, home: Path
) -> None:
    make_file(home / ".tmp/old", days_old=3)
    owner.runs.survey(machine.tag)
    report = agent._link.report
    sent: list[str] = []

    def lossy(message, *, age) -> None:
        report(message, age=age)
        if message.id not in sent:
            sent.append(message.id)
            raise UnreachableError("the answer was lost")

    agent._link.report = lossy
    for _ in range(8):
        try:
            agent.once()
        except UnreachableError:
            continue
    agent._link.report = report
    agent.once()
    assert len(agent._spool) == 0
    assert len(list(owner.machines.surveys(machine.tag))) == 1
    assert [r.kind for r in owner.records.list(machine=machine.tag)].count("run") == 1


def test_a_waiting_run_is_called_off_at_once_and_a_running_one_when_it_hears(
    owner: Phylax, machine: Machine, agent: Agent, home: Path
) -> None:
    waiting = owner.runs.survey(machine.tag)
    assert owner.runs.call_off(waiting.id).state is RunState.CALLED_OFF
    for number in range(30):
        make_file(home / f".tmp/f{number}", 100, days_old=3)
    run = owner.runs.clean(machine.tag, ["user-temp"])
    tell = agent._link.progress

    def told(run_id: int, lease: str, progress: Progress) -> bool:
        if progress.step == "clean":
            owner.runs.call_off(run.id)
        return tell(run_id, lease, progress)

    agent._link.progress = told
    agent.once()
    ended = owner.runs.get(run.id)
    assert (ended.state, ended.reason) == (RunState.CALLED_OFF, "called off by Ines Marrow")
    gone = 30 - len(list((home / ".tmp").iterdir()))
    assert ended.removed is not None and ended.removed.count == gone < 30
    with pytest.raises(RefusedError, match="ended already"):
        owner.runs.call_off(run.id)


def start(folder: Path) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "phylax", "agent", "start", "--data", str(folder)]
    return subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


@pytest.mark.parametrize("ending", [signal.SIGKILL, signal.SIGTERM])
def test_an_agent_ended_in_the_middle_goes_on_and_its_sum_is_true(
    owner: Phylax, machine: Machine, tmp_path: Path, ending: signal.Signals
) -> None:
    home = make_standin(tmp_path / "m", items_per_second=150)
    for number in range(300):
        make_file(home / f".tmp/d{number % 7}/f{number}", 1000, days_old=3)
    opened = make_file(home / ".tmp/young", 10)
    enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    run = owner.runs.clean(machine.tag, ["user-temp"])
    first = start(tmp_path / "agent")

    def there() -> int:
        return sum(len(files) for _, _, files in os.walk(home / ".tmp"))

    try:
        wait_until(lambda: there() < 250, "the cleaning to be under way")
        first.send_signal(ending)
        first.wait(timeout=60)
    finally:
        first.kill()
    assert 1 < there() < 250
    assert owner.runs.get(run.id).state is RunState.RUNNING
    second = start(tmp_path / "agent")
    try:
        wait_until(lambda: owner.runs.get(run.id).state.has_ended, "the run to end")
    finally:
        second.terminate()
        second.wait(timeout=60)
    ended = owner.runs.get(run.id)
    assert (ended.state, ended.resumed) == (RunState.DONE, 1)
    assert ended.removed is not None
    # what went just before the end was looked at in the same breath: its size nobody knows
    assert ended.removed.count == 300
    assert ended.uncertain is (ended.removed.size < 300_000)
    assert ended.balance is not None
    assert any("was interrupted" in why for why in ended.balance.why) is ended.uncertain
    assert ended.freed == 300_000 and opened.exists()
    assert [r.kind for r in owner.records.list(machine=machine.tag)].count("run") == 1


def test_two_agents_never_work_in_one_folder(
    owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    make_standin(tmp_path / "m")
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    once = [sys.executable, "-m", "phylax", "agent", "once", "--data", str(tmp_path / "agent")]
    with AgentHome(tmp_path / "agent").alone():
        with pytest.raises(BusyError, match="another agent works in"):
            agent.once()
        refused = subprocess.run(once, capture_output=True, text=True, timeout=60)
    assert (refused.returncode, "stop it first" in refused.stderr) == (1, True)
    assert agent.once() is False
    assert subprocess.run(once, capture_output=True, timeout=60).returncode == 0


def test_an_agent_that_stays_works_behind_everything_else(
    owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    make_standin(tmp_path / "m")
    enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    process = subprocess.Popen(
        [sys.executable, "-m", "phylax", "agent", "start", "--data", str(tmp_path / "agent")],
        stderr=subprocess.DEVNULL,
    )
    try:
        of = psutil.Process(process.pid)
        wait_until(lambda: of.nice() == 10, "the agent to step back")
        wait_until(lambda: of.ionice().value == 7, "the agent to step back on the disk")
    finally:
        process.terminate()
        process.wait(timeout=60)
