"""Trials, drift and changes that undo themselves: from a stand-in's starts to the record."""

from __future__ import annotations

import errno
import sqlite3
import tomllib
from datetime import UTC, datetime, timedelta
from importlib import resources
from pathlib import Path

import pytest
import tomli_w
from click.testing import CliRunner

from helpers import enrol, make_standin
from phylax.agent.machines.standin import STATE_FILE, StandInMachine
from phylax.agent.runtime.loop import Agent
from phylax.agent.runtime.settings_keeper import SettingsKeeper
from phylax.agent.tuning import confirmation
from phylax.agent.tuning.changer import Changer
from phylax.agent.tuning.confirmation import Confirming
from phylax.cli.commands.agent import command as agent_command
from phylax.client import Phylax, UnreachableError
from phylax.core.attention import Cause
from phylax.core.clients.shop import Machine
from phylax.core.protocol import ChangesMessage, Message, SettingsMessage, StartsMessage
from phylax.core.record.records import RecordKind
from phylax.core.runs.runs import RunState, WantedProgram
from phylax.core.tuning.changes import ChangeMade, ChangeState, Drifted
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.looks import SettingsSurvey
from phylax.core.tuning.programs import Intent, Program, StartCost, Starter, StarterKind
from phylax.core.tuning.starts import BootCost
from phylax.core.tuning.trials import Outcome
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.service.runs import ingest
from phylax.store.tuning import settings_changes
from startup_trees import picture

COSTS = {"search": 5000, "newer": 700, "bar": 2000, "link": 300, "chat": 3000, "one": 1000,
         "two": 1500, "three": 900}  # fmt: skip


def program(name: str, cost: int) -> Program:
    starter = Starter(key=f"unit:{name}", kind=StarterKind.START, on=True, can_bar=True)
    return Program(
        key=f"package:{name}", name=name.capitalize(), package=name, starters=(starter,),
        cost=StartCost(processor_ms=cost, starts=1),
    )  # fmt: skip


@pytest.fixture
def standin(tmp_path: Path) -> StandInMachine:
    """With 24 starts behind it, a day apart."""
    folder = tmp_path / "m"
    make_standin(folder)
    state = tomllib.loads((folder / STATE_FILE).read_text("utf-8"))
    state["starting"] = {
        "comes_back": ["package:bar"],
        "cut_off_without": ["package:link"],
        "dearer_without": {"package:newer": 1.5},
    }
    (folder / STATE_FILE).write_text(tomli_w.dumps(state), encoding="utf-8")
    (folder / "startup").mkdir()
    for name, cost in COSTS.items():
        text = program(name, cost).model_dump_json(exclude_defaults=True)
        (folder / f"startup/{name}.json").write_text(text, encoding="utf-8")
    machine = StandInMachine(folder)
    for days in range(24, 0, -1):
        machine.startup.start_anew(datetime.now(UTC) - timedelta(days=days))
    return machine


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, standin: StandInMachine) -> Agent:
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.survey(machine.tag)
    agent.once()
    for name in COSTS:
        owner.programs.write(
            KnownEdit(
                recognition=Recognition(package=name),
                name=name.capitalize(),
                handling=ProgramDecision.GOES,
                intent=Intent.OFF,
            )
        )
    return agent


def change(owner: Phylax, machine: Machine, agent: Agent, *names: str) -> int:
    wanted = [WantedProgram(program=f"package:{name}", intent=Intent.OFF) for name in names]
    run = owner.runs.change(machine.tag, wanted)
    agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE
    return run.id


def start_anew(standin: StandInMachine, times: int) -> None:
    for number in range(times):
        standin.startup.start_anew(datetime.now(UTC) + timedelta(seconds=number))


def told(owner: Phylax, machine: Machine) -> list[str]:
    entries = owner.records.list(machine=machine.tag, kinds=[RecordKind.SETTING])
    return [entry.text for entry in entries]


def causes(context: Context, owner: Phylax) -> dict[Cause, str]:
    monitor.whole(context)
    return {item.cause: item.reason for item in owner.attention.list()}


def test_what_helped_is_said_once_with_its_numbers(
    owner: Phylax, machine: Machine, agent: Agent, standin: StandInMachine
) -> None:
    run = change(owner, machine, agent, "search")
    (trial,) = owner.programs.trials(machine.tag)
    assert (trial.run_id, trial.judged.outcome, len(trial.before)) == (run, Outcome.OPEN, 24)
    start_anew(standin, 8)
    agent.once()
    (trial,) = owner.programs.trials(machine.tag)
    assert trial.judged.outcome is Outcome.HELPED and trial.judged.judged_after == 5
    (text,) = told(owner, machine)
    assert text.startswith("Trial of Search: helped after 5 starts; what was changed took ")
    start_anew(standin, 8)
    agent.once()
    agent.once()
    assert told(owner, machine) == [text], "it is told once"
    assert owner.records.verify().intact


def test_what_made_it_worse_needs_somebody_until_it_is_put_back(
    owner: Phylax, machine: Machine, agent: Agent, standin: StandInMachine, context: Context
) -> None:
    change(owner, machine, agent, "newer")
    start_anew(standin, 8)
    agent.once()
    (trial,) = owner.programs.trials(machine.tag)
    assert trial.judged.outcome is Outcome.WORSE
    assert causes(context, owner)[Cause.MADE_WORSE] == "Newer: the change made it worse"
    (made,) = owner.programs.changes(machine.tag)
    owner.runs.put_settings_back(machine.tag, [made.number])
    agent.once()
    assert Cause.MADE_WORSE not in causes(context, owner)


def test_what_switches_itself_on_again_is_seen_by_the_next_look(
    owner: Phylax, machine: Machine, agent: Agent, standin: StandInMachine, context: Context
) -> None:
    change(owner, machine, agent, "bar")
    start_anew(standin, 1)
    owner.runs.survey(machine.tag)
    agent.once()
    (made,) = owner.programs.changes(machine.tag)
    assert made.drifted_at is not None and made.drifted_to == Intent.AT_START
    (text,) = told(owner, machine)
    assert text == "Bar: off was set, but somebody altered it: it runs at start."
    assert causes(context, owner)[Cause.ALTERED].startswith("Bar runs at start, though")
    owner.runs.survey(machine.tag)
    agent.once()
    assert told(owner, machine) == [text], "it is told once"
    # set again: the survey that comes with it finds it as it was wanted
    again = change(owner, machine, agent, "bar")
    newest = owner.programs.changes(machine.tag)[0]
    assert (newest.run_id, newest.drifted_at) == (again, None)
    assert Cause.ALTERED not in causes(context, owner)


def test_a_change_that_cuts_the_machine_off_undoes_itself_and_says_so(
    owner: Phylax, machine: Machine, agent: Agent, standin: StandInMachine, context: Context,
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path,
) -> None:  # fmt: skip
    before = picture(tmp_path / "m/startup")
    change(owner, machine, agent, "link")
    agent.once()
    start_anew(standin, 1)
    time = [0.0]
    monkeypatch.setattr(agent._settings._confirming, "_uptime", lambda: time[0])

    def try_in_vain() -> None:
        with pytest.raises(UnreachableError) as raised:
            agent.once()
        assert not raised.value.answered
        agent._settings.not_reached()

    try_in_vain()
    time[0] = confirmation.WITHIN - 1
    try_in_vain()
    assert picture(tmp_path / "m/startup") != before
    time[0] = confirmation.WITHIN + 1
    try_in_vain()
    assert picture(tmp_path / "m/startup") == before
    # somebody starts it again, since nothing worked
    start_anew(standin, 1)
    agent.once()
    (made,) = owner.programs.changes(machine.tag)
    assert (made.state, made.ended_by) == (ChangeState.UNDONE, "the machine")
    (text,) = told(owner, machine)
    assert text == (
        "Link: at start again, undone by the machine: "
        "the service could not be reached after the next start."
    )
    assert Cause.CHANGE_UNDONE in causes(context, owner)
    agent.once()
    assert told(owner, machine) == [text]


def test_put_back_at_the_machine_without_the_service(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    before = picture(tmp_path / "m/startup")
    change(owner, machine, agent, "search", "chat")
    command = ["put-back-settings", "--data", str(tmp_path / "agent")]
    listed = CliRunner().invoke(agent_command, command)
    assert listed.exit_code == 0 and "Search: was at start, now off" in listed.output
    assert picture(tmp_path / "m/startup") != before, "listing changes nothing"
    wrong = CliRunner().invoke(agent_command, [*command, "9-nothing"])
    assert wrong.exit_code == 1 and "is no change in force here" in wrong.output
    with agent._home.alone():
        # also while the agent is at work
        back = CliRunner().invoke(agent_command, [*command, "--all"])
    assert back.exit_code == 0, back.output
    assert picture(tmp_path / "m/startup") == before
    agent.once()
    states = {(made.state, made.ended_by) for made in owner.programs.changes(machine.tag)}
    assert states == {(ChangeState.PUT_BACK, "somebody at the machine")}
    assert sorted(told(owner, machine)) == [
        "Chat: at start again, put back at the machine itself.",
        "Search: at start again, put back at the machine itself.",
    ]
    again = CliRunner().invoke(agent_command, command)
    assert "Nothing that was changed is in force" in again.output


def test_a_machine_that_says_the_same_again_and_again_fills_no_record(
    owner: Phylax, machine: Machine, agent: Agent, context: Context
) -> None:
    """Entries are for ever: only what is news makes one."""
    run = change(owner, machine, agent, "search")
    (made,) = owner.programs.changes(machine.tag)
    with context.db.read() as conn:
        change_id = settings_changes.machines_name(conn, made.number)
    at = datetime.now(UTC)

    def tell(message: Message) -> None:
        with context.db.write() as conn:
            ingest.apply(conn, machine.id, message, at=context.now())

    for turn in range(6):
        drifted = Drifted(id=change_id, name="Search", expected="off", value="at start")
        look = SettingsSurvey(
            taken_at=at + timedelta(hours=turn), drifted=(drifted,) if turn % 2 else ()
        )
        tell(SettingsMessage(id=f"look-{turn:06}", run_id=run, look=look))
    assert len(told(owner, machine)) == 1
    undone = ChangeMade(
        id=change_id, program="package:search", name="Search", before="at start",
        after="off", at=at, state=ChangeState.UNDONE, refused="not reached",
    )  # fmt: skip
    made_up = undone.model_copy(update={"id": "1-made-up"})
    for turn in range(5):
        tell(ChangesMessage(id=f"end-{turn:06}", run_id=run, changes=(undone, made_up)))
    assert len(told(owner, machine)) == 2
    (made,) = owner.programs.changes(machine.tag)
    assert made.state is ChangeState.UNDONE


def test_a_disk_that_keeps_nothing_of_settings_stops_no_other_work(
    owner: Phylax, machine: Machine, agent: Agent, standin: StandInMachine, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    """The order that waits may be the cleaning that makes room again."""
    change(owner, machine, agent, "search")
    (undone,) = agent._settings._changer.changes()
    agent._settings._changer.put_back(undone.id, untold="put back at the machine")

    def full(*args: object, **more: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(Changer, "note", full)
    monkeypatch.setattr(SettingsKeeper, "_keep_told", full)
    monkeypatch.setattr(Confirming, "reached", full)
    start_anew(standin, 1)
    for _ in range(3):
        run = owner.runs.survey(machine.tag)
        agent.once()
        assert owner.runs.get(run.id).state is RunState.DONE
    assert not list((tmp_path / "agent/spool").glob("*.json"))
    (made,) = owner.programs.changes(machine.tag)
    assert made.state is ChangeState.PUT_BACK
    assert len(told(owner, machine)) == 1, "told once, though that could not be noted"


def test_starts_are_told_once_and_by_one_machine_only_for_itself(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    def number() -> int:
        with context.db.read() as conn:
            return int(conn.execute("SELECT count(*) FROM starts").fetchone()[0])

    assert number() == 24
    (tmp_path / "agent/starts.json").write_text("{ torn")
    agent.once()
    assert number() == 24, "told again, kept once"
    flood = [
        BootCost(boot=f"made up {n}", at=context.clock(), programs={}, unattributed=1)
        for n in range(400)
    ]
    with context.db.write() as conn:
        for part in range(3):
            starts = tuple(
                start.model_copy(update={"boot": f"{start.boot} {part}"}) for start in flood
            )
            message = StartsMessage(id=f"message-{part}", starts=starts)
            ingest.apply(conn, machine.id, message, at=context.now())
    assert number() == 400, "a machine that makes starts up fills nobody's disk"


def test_changes_of_the_schema_before_are_kept(tmp_path: Path) -> None:
    schema = resources.files("phylax.store.schema")
    conn = sqlite3.connect(tmp_path / "old.sqlite3")
    for name in sorted(file.name for file in schema.iterdir() if file.name.endswith(".sql")):
        if name.startswith("0009"):
            break
        conn.executescript(schema.joinpath(name).read_text("utf-8"))
    conn.execute("PRAGMA foreign_keys = OFF")
    conn.execute(
        "INSERT INTO changes VALUES (7, 1, 2, 'id-7', 'p', 'P', 'at start', 'on demand', "
        "5, 'Wren', 'put back', 6, 'Petra', 'agreed')"
    )
    conn.executescript(schema.joinpath("0009_trials.sql").read_text("utf-8"))
    kept = conn.execute("SELECT * FROM changes").fetchall()
    assert kept == [
        (7, 1, 2, "id-7", "runs-by-itself", "p", "", "P", "at start", "on demand", 5,
         "Wren", "put back", 6, "Petra", "agreed", None, None, 0)
    ]  # fmt: skip
    conn.close()
