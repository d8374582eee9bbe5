"""One change on many machines: one yes, half first, compared, gone on with, put back."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import Service
from helpers import Clock, enrol, make_standin
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.runtime.loop import Agent
from phylax.client import NotAllowedError, Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, MachineEdit
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.programs import Intent, Program, StartCost, Starter, StarterKind
from phylax.core.tuning.shared import LEAST_HALVED, SharedChange, first_half
from phylax.core.tuning.trials import Outcome

KEY = "package:search"
MANY = 8


class Machines:
    """Eight stand-ins with their agents, each with 20 starts behind it."""

    def __init__(self, owner: Phylax, folder: Path) -> None:
        client = owner.clients.add(ClientEdit(name="Skerry Ferry Office"))
        self.standins: dict[int, StandInMachine] = {}
        self.agents: dict[int, Agent] = {}
        for number in range(MANY):
            edit = MachineEdit(tag=f"ferry-{number}", client_id=client.id, system="linux")
            machine = owner.machines.add(edit)
            here = folder / f"m{number}"
            make_standin(here)
            state = (here / "machine.toml").read_text()
            (here / "machine.toml").write_text(
                "\n".join(
                    f'host = "ferry-{number}"' if line.startswith("host") else line
                    for line in state.splitlines()
                )
            )
            (here / "startup").mkdir()
            for name, cost in {"search": 9000, "one": 2000, "two": 3000, "three": 1500}.items():
                (here / f"startup/{name}.json").write_text(
                    Program(
                        key=f"package:{name}", name=name.capitalize(), package=name,
                        starters=(Starter(key=f"unit:{name}", kind=StarterKind.START, on=True,
                                          can_bar=True),),
                        cost=StartCost(processor_ms=cost, starts=1),
                    ).model_dump_json()
                )  # fmt: skip
            standin = StandInMachine(here)
            for days in range(20, 0, -1):
                standin.startup.start_anew(datetime.now(UTC) - timedelta(days=days))
            agent = enrol(owner, machine.tag, folder / f"agent{number}", here)
            owner.runs.survey(machine.tag)
            agent.once()
            self.standins[machine.id], self.agents[machine.id] = standin, agent

    def call(self) -> None:
        for agent in self.agents.values():
            agent.once()

    def start_anew(self, times: int) -> None:
        for standin in self.standins.values():
            for number in range(times):
                standin.startup.start_anew(datetime.now(UTC) + timedelta(seconds=number))
        self.call()


@pytest.fixture
def machines(owner: Phylax, tmp_path: Path) -> Machines:
    made = Machines(owner, tmp_path)
    owner.programs.write(
        KnownEdit(
            recognition=Recognition(package="search"), name="Word finder",
            handling=ProgramDecision.GOES, intent=Intent.OFF,
        )
    )  # fmt: skip
    return made


def states(shared: SharedChange) -> list[ChangeState | None]:
    return [machine.state for machine in shared.machines]


def test_half_first_is_compared_with_the_other_half_and_gone_on_with(
    owner: Phylax, machines: Machines, clock: Clock
) -> None:
    (line,) = owner.shared_changes.proposed()
    assert (line.program, line.intent, len(line.changes_on)) == (KEY, Intent.OFF, MANY)
    made = owner.shared_changes.make(
        KEY, Intent.OFF, line.changes_on, half_first=True, comment="agreed by mail"
    )
    assert [machine.first for machine in made.machines] == [True] * 4 + [False] * 4
    machines.call()
    shared = owner.shared_changes.get(made.id)
    assert states(shared) == [ChangeState.MADE] * 4 + [None] * 4
    assert shared.judged is not None and shared.judged.outcome is Outcome.OPEN
    machines.start_anew(6)
    (shared,) = owner.shared_changes.list()
    assert shared.judged is not None and shared.judged.outcome is Outcome.HELPED
    # the finder took some 9 of 25 s
    assert shared.judged.likely == pytest.approx(-0.36, abs=0.1)
    clock.now += timedelta(minutes=10)
    owner.shared_changes.go_on(made.id)
    machines.call()
    machines.start_anew(5)
    shared = owner.shared_changes.get(made.id)
    assert states(shared) == [ChangeState.MADE] * MANY
    assert shared.judged is not None and shared.judged.outcome is Outcome.HELPED, "as it was then"
    with pytest.raises(RefusedError, match="had its turn"):
        owner.shared_changes.go_on(made.id)
    texts = [entry.text for entry in owner.records.list() if "agreed by mail" in entry.text]
    assert len(texts) == MANY
    owner.shared_changes.put_back(made.id)
    machines.call()
    assert states(owner.shared_changes.get(made.id)) == [ChangeState.PUT_BACK] * MANY
    with pytest.raises(RefusedError, match="in force on no machine"):
        owner.shared_changes.put_back(made.id)


def test_nothing_is_ordered_where_one_machine_stays(
    service: Service, owner: Phylax, machines: Machines
) -> None:
    ids = list(machines.agents)
    with pytest.raises(RefusedError) as refused:
        owner.shared_changes.make(KEY, Intent.ON_DEMAND, ids)
    assert "is set to off" in str(refused.value.errors)
    with pytest.raises(RefusedError) as refused:
        owner.shared_changes.make("package:one", Intent.ON_DEMAND, ids)
    assert "stays: unknown" in str(refused.value.errors)
    with pytest.raises(RefusedError) as refused:
        owner.shared_changes.make(KEY, Intent.OFF, [*ids, 999])
    assert "there is no machine 999" in str(refused.value.errors)
    with service.as_("petra") as petra, pytest.raises(NotAllowedError):
        petra.shared_changes.make(KEY, Intent.OFF, ids)
    assert owner.shared_changes.list() == []
    assert {run.work for run in owner.runs.list()} == {"survey"}


def test_the_other_half_is_asked_anew_when_its_turn_comes(
    owner: Phylax, machines: Machines
) -> None:
    made = owner.shared_changes.make(KEY, Intent.OFF, list(machines.agents), half_first=True)
    machines.call()
    known = [entry for entry in owner.programs.notebook() if entry.edit.name == "Word finder"]
    owner.programs.strike_out(known[0].id)
    shared = owner.shared_changes.go_on(made.id)
    assert [machine.run_id for machine in shared.machines if not machine.first] == [None] * 4
    machines.call()
    assert states(owner.shared_changes.get(made.id)) == [ChangeState.MADE] * 4 + [None] * 4


def test_halves_are_by_chance_and_the_same_each_time() -> None:
    ids = list(range(1, 31))
    assert first_half(ids, "a") == first_half(ids[::-1], "a") != first_half(ids, "b")
    assert len(first_half(ids, "a")) == 15 and len(first_half(ids[:7], "a")) == 4
    few = ids[: LEAST_HALVED - 1]
    assert first_half(few, "a") == frozenset(few)
