"""Between agent and service: leases, late results, forged reports, waiting for work."""

import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
import pytest

from conftest import Service
from helpers import Clock, needs_attention
from phylax.client import AgentLink, NotSignedInError, Phylax, RefusedError, enrol
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.tally import Tally
from phylax.core.protocol import (
    LEASE_SECONDS,
    CategoryOutcome,
    CleanOrder,
    Progress,
    ReadingsMessage,
    ResultMessage,
    SurveyOrder,
)
from phylax.core.runs.runs import RunState
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler

FACTS = MachineFacts(
    system="linux", host="pretended", agent_version="0.1.0", kind="standin", memory=8 * 2**30,
    make="Pelham", model="Cube 2",
)  # fmt: skip
TOLD = Progress(step="clean", category="user-temp", items=3, size=30)


@pytest.fixture
def link(owner: Phylax, machine: Machine) -> AgentLink:
    return AgentLink(owner.url, enrol(owner.url, owner.machines.enrolment_code(1).code, FACTS).key)


def result(run_id: int, removed: int = 5) -> ResultMessage:
    at = datetime(2026, 3, 2, 9, 5, tzinfo=UTC)
    outcome = CategoryOutcome(category="user-temp", removed=Tally(count=removed, size=removed))
    return ResultMessage(
        id=f"result-{run_id}", run_id=run_id, started_at=at, ended_at=at, outcomes=(outcome,)
    )


def test_enrolling_fills_in_what_nobody_wrote_down(owner: Phylax, link: AgentLink) -> None:
    machine = owner.machines.get(1)
    assert (machine.make, machine.model, machine.memory) == ("Pelham", "Cube 2", 8 * 2**30)
    assert machine.enrolled and machine.agent_version == "0.1.0"


@pytest.mark.parametrize(
    ("method", "path"), [("POST", "agent/messages"), ("GET", "agent/order"), ("GET", "machines")]
)
def test_an_agent_of_a_former_version_is_told_to_upgrade(
    service: Service, method: str, path: str
) -> None:
    answer = httpx.request(method, f"{service.url}/api/v1/{path}", json={"kind": "readings"})
    assert answer.status_code == 410
    assert "Upgrade this agent or program" in answer.json()["detail"]


def test_a_new_agent_takes_the_place_of_the_old(owner: Phylax, link: AgentLink) -> None:
    enrol(owner.url, owner.machines.enrolment_code(1).code, FACTS)
    with pytest.raises(NotSignedInError):
        link.next_order(0)


def test_a_newer_code_makes_an_unused_one_worthless(owner: Phylax, machine: Machine) -> None:
    first = owner.machines.enrolment_code(1).code
    owner.machines.enrolment_code(1)
    with pytest.raises(RefusedError, match="no longer valid"):
        enrol(owner.url, first, FACTS)


def test_an_order_carries_rules_and_no_path(owner: Phylax, link: AgentLink) -> None:
    assert link.next_order(0) is None
    owner.runs.survey(1)
    order = link.next_order(0)
    assert isinstance(order, SurveyOrder)
    assert {look.category for look in order.rules} >= {"user-temp", "trash", "downloads"}
    owner.runs.clean(1, ["user-temp"])
    assert link.next_order(0) is None, "one run at a time on a machine"
    link.report(result(order.run_id))
    cleaning = link.next_order(0)
    assert isinstance(cleaning, CleanOrder) and cleaning.survey_first
    assert "/" not in cleaning.model_dump_json()


def test_an_agent_that_waits_hears_of_work_when_it_comes(owner: Phylax, link: AgentLink) -> None:
    heard: list[object] = []
    waiting = threading.Thread(target=lambda: heard.append(link.next_order(20)))
    waiting.start()
    owner.runs.survey(1)
    waiting.join(timeout=60)
    assert not waiting.is_alive() and isinstance(heard[0], SurveyOrder)


def test_a_lease_lapses_is_offered_again_and_the_old_one_is_told_to_stop(
    owner: Phylax, service: Service, link: AgentLink, clock: Clock
) -> None:
    run = owner.runs.clean(1, ["user-temp"])
    first = link.next_order(0)
    assert link.progress(run.id, first.lease, TOLD)
    assert owner.runs.get(run.id).progress == TOLD
    assert not link.progress(run.id, "somebody-elses", TOLD)
    clock.pass_(timedelta(seconds=LEASE_SECONDS + 1))
    second = link.next_order(0)
    assert second.run_id == run.id and second.lease != first.lease
    assert not link.progress(run.id, first.lease, TOLD)
    assert link.progress(run.id, second.lease, TOLD)


def test_an_offer_nobody_took_up_waits_again_and_can_be_called_off(
    owner: Phylax, service: Service, link: AgentLink, clock: Clock
) -> None:
    run = owner.runs.clean(1, ["user-temp"])
    link.next_order(0)
    assert owner.runs.get(run.id).state is RunState.OFFERED
    clock.pass_(timedelta(seconds=LEASE_SECONDS + 1))
    scheduler.tick(service.context)
    assert owner.runs.get(run.id).state is RunState.WAITING
    link.next_order(0)
    owner.runs.call_off(run.id)
    assert owner.runs.get(run.id).state is RunState.OFFERED, "the agent may be at work already"
    clock.pass_(timedelta(seconds=LEASE_SECONDS + 1))
    scheduler.tick(service.context)
    ended = owner.runs.get(run.id)
    assert (ended.state, ended.reason) == (RunState.CALLED_OFF, "called off by Ines Marrow")


def test_who_had_begun_before_the_offer_was_taken_back_goes_on(
    owner: Phylax, service: Service, link: AgentLink, clock: Clock
) -> None:
    """It slept, or was killed, before its first word of progress: nobody called its run off."""
    run = owner.runs.clean(1, ["user-temp"])
    order = link.next_order(0)
    clock.pass_(timedelta(seconds=LEASE_SECONDS + 1))
    scheduler.tick(service.context)
    taken_back = owner.runs.get(run.id)
    assert (taken_back.state, taken_back.at_work) == (RunState.WAITING, False)
    assert not link.progress(run.id, "somebody-elses", TOLD)
    assert link.progress(run.id, order.lease, TOLD)
    assert owner.runs.get(run.id).state is RunState.RUNNING
    assert link.next_order(0) is None, "and nobody else is given it"
    clock.pass_(timedelta(seconds=LEASE_SECONDS + 1))
    again = link.next_order(0)
    owner.runs.call_off(run.id)
    assert not link.progress(run.id, order.lease, TOLD), "it is another's by now"
    assert not link.progress(run.id, again.lease, TOLD)


def test_a_result_that_comes_after_a_run_was_given_up_is_written_down(
    owner: Phylax, link: AgentLink, clock: Clock
) -> None:
    run = owner.runs.clean(1, ["user-temp"])
    order = link.next_order(0)
    link.progress(run.id, order.lease, TOLD)
    clock.pass_(timedelta(hours=1))
    assert owner.runs.call_off(run.id).state is RunState.CALLED_OFF
    link.report(result(run.id, removed=7))
    link.report(result(run.id, removed=7))
    assert owner.runs.get(run.id).state is RunState.CALLED_OFF
    late = [r.text for r in owner.records.list(machine=1) if r.text.startswith("Reported late")]
    assert late == [f"Reported late for run {run.id}: Removed 7 items, 7 B."]


def test_a_machine_cannot_report_for_another(owner: Phylax, link: AgentLink) -> None:
    client_id = owner.machines.get(1).client_id
    other = owner.machines.add(MachineEdit(tag="other", client_id=client_id, system="linux"))
    run = owner.runs.clean(other.id, ["user-temp"])
    with pytest.raises(RefusedError, match="not this machine's"):
        link.report(result(run.id))
    assert not link.progress(run.id, "", TOLD)
    assert owner.runs.get(run.id).state is RunState.WAITING


@pytest.mark.parametrize(
    "change",
    [
        {"kind": "command", "command": "rm"},
        {"kind": "readings", "readings": [{"mount": "/", "capacity": -1, "free": 0}]},
        {"kind": "readings", "readings": [], "shell": "sh"},
        {"kind": "readings", "volumes": [{"mount": "/", "capacity": 9, "at": [1, 2], "free": [1]}]},
        {"kind": "readings", "volumes": [{"mount": "/", "capacity": 9, "at": [], "free": []}]},
        {"kind": "result", "run_id": "1; DROP TABLE runs"},
    ],
)
def test_a_message_that_is_none_of_the_known_kinds_is_refused(
    owner: Phylax, link: AgentLink, change: dict
) -> None:
    answer = link._client.post("/api/v2/agent/messages", json={"id": "message-1"} | change)
    assert answer.status_code == 422 and answer.json()["errors"]


def test_readings_show_on_the_machine_and_a_persons_token_is_no_agents_key(
    owner: Phylax, link: AgentLink, clock: Clock, tmp_path: Path, context: Context
) -> None:
    reading = ReadingIn(mount="/", capacity=1000, free=80, at=clock.now, file_system="ext4")
    link.report(ReadingsMessage(id="readings-1", readings=(reading,)))
    (volume,) = owner.machines.get(1).volumes
    assert (volume.capacity, volume.free, volume.file_system) == (1000, 80, "ext4")
    assert [a.reason for a in needs_attention(context, owner)] == ["/ is 92 % full"]
    (line,) = owner.machines.free_lines([1], days=30)
    assert line.shares[-1] == 0.08 and line.shares[0] is None
    token = owner.people.make_token("t").token
    with pytest.raises(NotSignedInError):
        AgentLink(owner.url, token).next_order(0)
    with pytest.raises(NotSignedInError):
        Phylax(owner.url, link._client.headers["Authorization"].split()[1]).today()
