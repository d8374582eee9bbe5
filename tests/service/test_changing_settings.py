"""Changing startup programs and putting it back, from the order to the record."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Service
from helpers import enrol, make_standin
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime.loop import Agent
from phylax.agent.tuning import pieces as pieces_module
from phylax.agent.tuning.pieces import write
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import Machine
from phylax.core.runs.runs import RunState, WantedProgram
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.programs import Intent, Program, Starter, StarterKind
from startup_trees import picture

ENTRY = Starter(key="sign-in:anna:chat", kind=StarterKind.SIGN_IN, on=True, person="anna")
SERVICE = Starter(key="unit:search", kind=StarterKind.START, on=True, can_bar=True)
TIMER = Starter(key="timer:search", kind=StarterKind.TIMER, on=True, when="daily")
CHAT = Program(key="package:chat", name="Chat", package="chat", starters=(ENTRY,))
SEARCH = Program(
    key="package:search", name="Word finder", package="search", starters=(SERVICE, TIMER)
)
SCREEN = Program(
    key="package:screen", name="Screen", package="screen", starters=(SERVICE,), guarded="the screen"
)
CHAT_WANTED = WantedProgram(program=CHAT.key, intent=Intent.ON_DEMAND)
SEARCH_WANTED = WantedProgram(program=SEARCH.key, intent=Intent.OFF)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """The stand-in's `startup/`."""
    make_standin(tmp_path / "m")
    startup = tmp_path / "m/startup"
    startup.mkdir()
    for program in (CHAT, SEARCH, SCREEN):
        (startup / f"{program.package}.json").write_text(
            # as somebody else wrote it, which is not how we would
            program.model_dump_json(indent=3) + "\n\n",
            encoding="utf-8",
        )
    return startup


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, folder: Path) -> Agent:
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.survey(machine.tag)
    agent.once()
    for program, intent in ((CHAT, Intent.ON_DEMAND), (SEARCH, Intent.OFF)):
        owner.programs.write(
            KnownEdit(
                recognition=Recognition(package=program.package),
                name=program.name,
                handling=ProgramDecision.GOES,
                intent=intent,
            )
        )
    return agent


def now(owner: Phylax, machine: Machine) -> dict[str, Intent]:
    return {j.program.key: j.now for j in owner.programs.on(machine.tag).programs}


def test_what_the_rules_want_is_changed_written_down_and_put_back_exactly(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    before = picture(folder)
    run = owner.runs.change(machine.tag, [CHAT_WANTED, SEARCH_WANTED], comment="asked by phone")
    agent.once()
    ended = owner.runs.get(run.id)
    assert (ended.state, ended.reason) == (RunState.DONE, "")
    assert now(owner, machine) == {
        CHAT.key: Intent.ON_DEMAND, SEARCH.key: Intent.OFF, SCREEN.key: Intent.AT_START,
    }  # fmt: skip
    changes = owner.programs.changes(machine.tag)
    assert [(c.name, c.before, c.after, c.who, c.comment) for c in changes] == [
        ("Word finder", "at start", "off", "Ines Marrow", "asked by phone"),
        ("Chat", "at start", "on demand", "Ines Marrow", "asked by phone"),
    ]
    entry = next(iter(owner.records.list(machine=machine.tag)))
    assert entry.text == (
        "Changed 2 settings. Chat: at start, now on demand. "
        "Word finder: at start, now off. Said to it: asked by phone."
    )
    verdicts = {j.program.key: j.verdict for j in owner.programs.on(machine.tag).programs}
    assert verdicts[CHAT.key].reason == "as wanted already"
    owner.runs.put_settings_back(machine.tag, [changes[1].number])
    agent.once()
    assert now(owner, machine)[CHAT.key] is Intent.AT_START
    assert now(owner, machine)[SEARCH.key] is Intent.OFF
    owner.runs.put_settings_back(machine.tag, [changes[0].number])
    agent.once()
    assert picture(folder) == before, "byte for byte"
    ended_by = {c.name: (c.state, c.ended_by) for c in owner.programs.changes(machine.tag)}
    assert set(ended_by.values()) == {(ChangeState.PUT_BACK, "Ines Marrow")}
    assert next(iter(owner.records.list(machine=machine.tag))).text == (
        "Put back 1 setting. Word finder: at start again."
    )


@pytest.mark.parametrize(
    ("wanted", "says"),
    [
        (WantedProgram(program="package:tea", intent=Intent.ON_DEMAND), "was not seen on"),
        (WantedProgram(program=SCREEN.key, intent=Intent.ON_DEMAND), "stays: guarded the screen"),
        (WantedProgram(program=CHAT.key, intent=Intent.OFF),
         "is set to on demand by the shop's rules"),
    ],
)  # fmt: skip
def test_what_no_rule_wants_is_refused_when_it_is_asked_for(
    owner: Phylax, machine: Machine, agent: Agent, wanted: WantedProgram, says: str
) -> None:
    with pytest.raises(RefusedError, match=says):
        owner.runs.change(machine.tag, [wanted])


def test_changes_of_others_and_ended_ones_are_refused(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    owner.runs.change(machine.tag, [CHAT_WANTED])
    agent.once()
    (change,) = owner.programs.changes(machine.tag)
    with pytest.raises(RefusedError, match="change 99 is not of"):
        owner.runs.put_settings_back(machine.tag, [99])
    owner.runs.put_settings_back(machine.tag, [change.number])
    agent.once()
    with pytest.raises(RefusedError, match="is put back already"):
        owner.runs.put_settings_back(machine.tag, [change.number])


def test_what_changed_on_the_machine_since_is_not_changed_and_is_named(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    run = owner.runs.change(machine.tag, [CHAT_WANTED, SEARCH_WANTED])
    guarded = CHAT.model_copy(update={"guarded": "sound may hang on it"})
    (folder / "chat.json").write_text(guarded.model_dump_json(), encoding="utf-8")
    agent.once()
    ended = owner.runs.get(run.id)
    assert (ended.state, ended.reason) == (
        RunState.PARTLY,
        "1 setting not changed: Chat: guarded: sound may hang on it",
    )
    assert now(owner, machine)[CHAT.key] is Intent.AT_START
    assert [change.name for change in owner.programs.changes(machine.tag)] == ["Word finder"]


def test_what_somebody_altered_since_is_not_put_back(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    owner.runs.change(machine.tag, [CHAT_WANTED])
    agent.once()
    (change,) = owner.programs.changes(machine.tag)
    (folder / "chat.json").write_text(CHAT.model_dump_json(), encoding="utf-8")
    theirs = picture(folder)
    run = owner.runs.put_settings_back(machine.tag, [change.number])
    agent.once()
    assert picture(folder) == theirs
    assert owner.runs.get(run.id).state is RunState.PARTLY
    (change,) = owner.programs.changes(machine.tag)
    assert change.state is ChangeState.ALTERED


def test_the_machines_own_guard_has_the_last_word(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path, folder: Path
) -> None:
    run = owner.runs.change(machine.tag, [CHAT_WANTED])
    guard = tmp_path / "agent/guard.toml"
    guard.write_text(f'never_programs = ["{CHAT.key}"]\n', encoding="utf-8")
    guard.chmod(0o600)
    before = picture(folder)
    Agent(AgentHome(tmp_path / "agent")).once()
    assert picture(folder) == before
    assert owner.runs.get(run.id).state is RunState.PARTLY


def test_an_agent_killed_in_the_middle_changes_all_or_nothing_and_says_so_once(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path, folder: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    class Killed(BaseException):
        pass

    calls: list[str] = []

    def failing(top: str, path: str, state: object) -> None:
        calls.append(path)
        write(top, path, state)  # type: ignore[arg-type]
        if len(calls) == 2:
            raise Killed

    run = owner.runs.change(machine.tag, [CHAT_WANTED, SEARCH_WANTED])
    with monkeypatch.context() as patch:
        patch.setattr(pieces_module, "write", failing)
        with pytest.raises(Killed):
            agent.once()
    again = Agent(AgentHome(tmp_path / "agent"))
    again.once()
    assert owner.runs.get(run.id).state is RunState.DONE
    assert len(owner.programs.changes(machine.tag)) == 2, "what was done before counts once"
    assert now(owner, machine)[SEARCH.key] is Intent.OFF


def test_nothing_is_changed_by_a_role_that_may_not(
    owner: Phylax, machine: Machine, agent: Agent, service: Service
) -> None:
    with service.as_("petra") as desk, pytest.raises(RefusedError) as refused:
        desk.runs.change(machine.tag, [CHAT_WANTED])
    assert refused.value.status == 403
