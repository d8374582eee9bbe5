"""Holding and putting back through the whole product: service, agent, client."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from helpers import enrol, make_file, make_standin, needs_attention
from phylax.agent.runtime.loop import Agent
from phylax.client import AgentLink, NotFoundError, Phylax, RefusedError
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.hold.holds import HeldPick, IfTaken
from phylax.core.protocol import HeldMessage, Message, ResultMessage
from phylax.core.retention import Rule, Scope
from phylax.core.runs.runs import RunState
from phylax.service.context.context import Context


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return make_standin(tmp_path / "m")


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, home: Path) -> Agent:
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


@pytest.fixture
def held(owner: Phylax, machine: Machine, agent: Agent, home: Path) -> list[Path]:
    """Three files, held for three days."""
    paths = [make_file(home / f".tmp/deep/{n}.txt", 1000 * n, days_old=9) for n in (1, 2, 3)]
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for=timedelta(days=3)))
    run = clean(owner, machine, agent)
    assert run.state is RunState.DONE
    assert run.held is not None and (run.held.count, run.held.size) == (3, 6000)
    assert not any(path.exists() for path in paths)
    return paths


def clean(owner: Phylax, machine: Machine, agent: Agent):
    run = owner.runs.clean(machine.tag, ["user-temp"])
    agent.once()
    return owner.runs.get(run.id)


def test_what_is_held_is_known_to_the_shop_and_said_in_the_record(
    owner: Phylax, machine: Machine, held: list[Path]
) -> None:
    (hold,) = owner.holds.list(machine.tag)
    assert (hold.category, hold.held.count, hold.mount) == ("user-temp", 3, "/")
    assert timedelta(days=3) - (hold.expires_at - hold.held_at) == timedelta(0)
    items = list(owner.holds.items(hold.id, words="2.TXT"))
    assert [(i.path, i.size, i.status) for i in items] == [("deep/2.txt", 2000, "held")]
    record = next(owner.records.list(machine=machine.tag))
    assert "3 items" in record.text and "can be put back" in record.text
    run = owner.runs.get(hold.run_id)
    assert run.balance is not None
    assert any("becomes free only when it is removed" in why for why in run.balance.why)


def test_who_reads_that_a_cleaning_has_ended_finds_what_it_held(
    owner: Phylax,
    machine: Machine,
    agent: Agent,
    home: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    listed: list[int] = []
    report = AgentLink.report

    def watched(link: AgentLink, message: Message, **more: float) -> None:
        report(link, message, **more)
        if isinstance(message, ResultMessage):
            listed.append(len(owner.holds.list(machine.tag)))

    monkeypatch.setattr(AgentLink, "report", watched)
    make_file(home / ".tmp/old", days_old=9)
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for=timedelta(days=3)))
    clean(owner, machine, agent)
    assert listed == [1]


def test_what_was_done_is_told_though_the_service_refuses_what_is_held(
    owner: Phylax,
    machine: Machine,
    agent: Agent,
    home: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    report = AgentLink.report

    def refused(link: AgentLink, message: Message, **more: float) -> None:
        if isinstance(message, HeldMessage):
            raise RefusedError(507, "full", "no room", {})
        report(link, message, **more)

    monkeypatch.setattr(AgentLink, "report", refused)
    make_file(home / ".tmp/old", days_old=9)
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for=timedelta(days=3)))
    run = owner.runs.clean(machine.tag, ["user-temp"])
    with pytest.raises(RefusedError):
        agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE


def test_one_many_and_all_are_put_back(
    owner: Phylax, machine: Machine, agent: Agent, held: list[Path]
) -> None:
    (hold,) = owner.holds.list(machine.tag)
    number = next(owner.holds.items(hold.id, words="2.txt")).number
    run = owner.runs.put_back(machine.tag, [HeldPick(hold_id=hold.id, numbers=(number,))])
    agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE
    assert [path.exists() for path in held] == [False, True, False]
    run = owner.runs.put_back(machine.tag, [HeldPick(hold_id=hold.id)])
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.put_back is not None and ended.put_back.count == 2
    assert ended.freed is None, "what the volume shows meanwhile is others' doing"
    assert all(path.exists() for path in held)
    assert owner.holds.list(machine.tag) == []
    after = owner.holds.get(hold.id)
    assert (after.held.count, after.put_back.count) == (0, 3)
    assert "Put back 2 items" in next(owner.records.list(machine=machine.tag)).text
    with pytest.raises(RefusedError, match="nothing that was chosen"):
        owner.runs.put_back(machine.tag, [HeldPick(hold_id=hold.id)])


def test_a_name_taken_again_is_said_and_there_is_a_choice(
    owner: Phylax, machine: Machine, agent: Agent, held: list[Path]
) -> None:
    (hold,) = owner.holds.list(machine.tag)
    make_file(held[0], 77)
    run = owner.runs.put_back(machine.tag, [HeldPick(hold_id=hold.id)])
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.PARTLY
    assert [(item.path, item.reason) for item in ended.left] == [("deep/1.txt", "name taken again")]
    assert owner.holds.get(hold.id).held.count == 1
    owner.runs.put_back(machine.tag, [HeldPick(hold_id=hold.id)], if_taken=IfTaken.BESIDE)
    agent.once()
    assert held[0].stat().st_size == 77
    assert (held[0].parent / "1 (put back).txt").stat().st_size == 1000


def test_it_goes_for_good_when_its_time_is_over_also_without_the_service(
    owner: Phylax, machine: Machine, agent: Agent, held: list[Path]
) -> None:
    (hold,) = owner.holds.list(machine.tag)
    agent._keeper.end_what_is_due(datetime.now(UTC) + timedelta(days=3, minutes=1))
    assert list(agent._hold.batches()) == []
    assert owner.holds.get(hold.id).held.count == 3, "the service has not heard of it yet"
    agent.once()
    after = owner.holds.get(hold.id)
    assert (after.held.count, after.deleted.count) == (0, 3)
    run = owner.runs.list(machine=machine.tag)
    assert len(list(run)) == 1


def test_a_person_may_let_it_go_before_its_time(
    owner: Phylax, machine: Machine, agent: Agent, held: list[Path], tmp_path: Path
) -> None:
    (hold,) = owner.holds.list(machine.tag)
    run = owner.runs.let_go(machine.tag, [HeldPick(hold_id=hold.id)])
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.removed is not None and ended.removed.size == 6000
    assert ended.freed is not None and ended.freed >= 6000
    assert owner.holds.get(hold.id).deleted.count == 3
    assert list(agent._hold.batches()) == [], "and the batch is swept up"


def test_what_is_told_twice_counts_once(
    owner: Phylax, machine: Machine, agent: Agent, held: list[Path]
) -> None:
    (before,) = owner.holds.list(machine.tag)
    for batch in agent._hold.batches():
        batch.note_told(0)
    agent.once()
    assert owner.holds.list(machine.tag) == [before]


def test_another_machines_hold_is_not_to_be_had(
    owner: Phylax, machine: Machine, agent: Agent, held: list[Path]
) -> None:
    other = owner.machines.add(machine_edit(machine, tag="other"))
    (hold,) = owner.holds.list(machine.tag)
    with pytest.raises(RefusedError, match="not this machine's"):
        owner.runs.put_back(other.tag, [HeldPick(hold_id=hold.id)])
    with pytest.raises(NotFoundError):
        owner.holds.get(hold.id + 1)
    with pytest.raises(ValueError, match="names what to put back"):
        owner.runs.put_back(machine.tag, [])


def machine_edit(machine: Machine, *, tag: str):
    return MachineEdit(tag=tag, client_id=machine.client_id, system=machine.system)


def test_what_is_left_five_times_needs_somebody(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, context: Context
) -> None:
    """A file that some program keeps open through every cleaning."""
    stuck = make_file(home / ".tmp/cache.db", 4000, days_old=9)
    state = home.parents[2] / "machine.toml"
    state.write_text(
        state.read_text().replace(
            "files_in_use = []", 'files_in_use = ["root/home/anna/.tmp/cache.db"]'
        )
    )
    for time in range(1, 6):
        assert "always left" not in [a.cause for a in needs_attention(context, owner)], (
            f"after {time - 1}"
        )
        assert clean(owner, machine, agent).state is RunState.PARTLY
    (attention,) = [a for a in needs_attention(context, owner) if a.cause == "always left"]
    assert "cache.db" in attention.evidence and "in use" in attention.evidence
    state.write_text(state.read_text().replace('["root/home/anna/.tmp/cache.db"]', "[]"))
    assert clean(owner, machine, agent).state is RunState.DONE
    assert not stuck.exists()
    assert "always left" not in [a.cause for a in needs_attention(context, owner)]
