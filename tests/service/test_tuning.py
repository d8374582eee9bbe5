"""Tune-up over the service: startup programs comes with a survey and is judged."""

from __future__ import annotations

import json
from datetime import timedelta
from pathlib import Path

import pytest

from conftest import Service
from helpers import Clock, enrol, make_standin
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime.loop import Agent
from phylax.client import NotAllowedError, NotFoundError, Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.protocol import SettingsMessage
from phylax.core.retention import Scope
from phylax.core.runs.runs import RunState
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.looks import SettingsSurvey
from phylax.core.tuning.programs import Intent, Program, Starter, StarterKind
from phylax.core.tuning.rules import ProgramRule, ProgramRuleEdit
from phylax.core.tuning.setting import DependsOn
from phylax.core.tuning.verdicts import SkipReason
from phylax.service.context.context import Context
from phylax.service.runs import ingest

ENTRY = Starter(key="sign-in:anna:chat.desktop", kind=StarterKind.SIGN_IN, on=True, person="anna")
CHAT = Program(key="package:chat", name="Chat", package="chat", starters=(ENTRY,))
SCREEN = Program(key="package:screen", name="Screen", package="screen", guarded="the screen")
ABOUT_CHAT = KnownEdit(
    recognition=Recognition(package="chat"), name="Chat", description="Talks with colleagues.",
    handling=ProgramDecision.HANGS, intent=Intent.ON_DEMAND,
    depends_on=DependsOn(question="video-calls", on="no"),
)  # fmt: skip


def lay(folder: Path, *programs: Program) -> None:
    (folder / "startup").mkdir(exist_ok=True)
    for number, program in enumerate(programs):
        text = program.model_dump_json(exclude_defaults=True)
        (folder / f"startup/{number}.json").write_text(text, encoding="utf-8")


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    make_standin(tmp_path / "m")
    lay(tmp_path / "m", CHAT, SCREEN)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    agent.once()
    return agent


def survey(owner: Phylax, machine: Machine, agent: Agent) -> None:
    owner.runs.survey(machine.tag)
    agent.once()


def reasons(owner: Phylax, machine: Machine) -> dict[str, SkipReason | str]:
    return {
        judged.program.key: judged.verdict.reason or f"changes to {judged.verdict.value}"
        for judged in owner.programs.on(machine.tag).programs
    }


def test_a_look_comes_with_a_survey_and_is_judged_by_what_counts_now(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    with pytest.raises(NotFoundError, match="not looked at for settings yet"):
        owner.programs.on(machine.tag)
    survey(owner, machine, agent)
    assert reasons(owner, machine) == {CHAT.key: SkipReason.UNKNOWN, SCREEN.key: SkipReason.GUARDED}
    entry = owner.programs.write(ABOUT_CHAT)
    assert reasons(owner, machine)[CHAT.key] is SkipReason.NO_ANSWER
    owner.questions.answer("client", machine.client_id, "video-calls", "no")
    assert reasons(owner, machine)[CHAT.key] == "changes to on demand"
    owner.questions.answer("machine", machine.id, "video-calls", "yes", comment="every Monday")
    assert reasons(owner, machine)[CHAT.key] is SkipReason.ASKED_FOR, "the nearer answer counts"
    owner.questions.answer("machine", machine.id, "video-calls", None)
    owner.programs.put_rule(Scope.MACHINE, machine.id, CHAT.key, ProgramRule(leave=True))
    assert reasons(owner, machine)[CHAT.key] is SkipReason.ASKED_FOR
    owner.programs.strike_out(entry.id)
    assert reasons(owner, machine)[CHAT.key] is SkipReason.UNKNOWN


def test_what_if_is_what_a_look_says_once_it_is_written(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    survey(owner, machine, agent)
    other = owner.machines.add(
        MachineEdit(tag="ferry-board", client_id=machine.client_id, system="linux")
    )
    make_standin(tmp_path / "m2")
    lay(tmp_path / "m2", CHAT)
    second = enrol(owner, other.tag, tmp_path / "agent2", tmp_path / "m2")
    survey(owner, other, second)
    owner.questions.answer("machine", other.id, "video-calls", "no")
    (unknown,) = owner.programs.unknown()
    assert (unknown.key, unknown.machines, unknown.clients) == (CHAT.key, 2, 1)
    assert set(unknown.machine_tags) == {machine.tag, other.tag}
    (line,) = owner.programs.what_if(ABOUT_CHAT)
    assert (line.changes_on, line.kept_on) == ((other.id,), {"no answer yet": (machine.id,)})
    assert [*owner.programs.unknown()], "asking changes nothing"
    owner.programs.write(ABOUT_CHAT)
    assert reasons(owner, other)[CHAT.key] == "changes to on demand"
    assert reasons(owner, machine)[CHAT.key] is SkipReason.NO_ANSWER
    assert [*owner.programs.unknown()] == []
    assert [entry.machines for entry in owner.programs.notebook()] == [2]


def test_a_later_look_replaces_and_an_unread_one_keeps_what_was_known(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, clock: Clock, tmp_path: Path
) -> None:
    survey(owner, machine, agent)
    run = owner.runs.survey(machine.tag)
    known = owner.programs.on(machine.tag)

    def tell(look: SettingsSurvey, number: int) -> None:
        message = SettingsMessage(id=f"message-{number}", run_id=run.id, look=look)
        with context.db.write() as conn:
            ingest.apply(conn, machine.id, message, at=context.now())

    # as the machine's own clock has it, which is far off the service's here
    taken_at = known.taken_at + timedelta(seconds=owner.machines.get(machine.tag).clock_off)
    old = taken_at - timedelta(hours=1)
    tell(SettingsSurvey(taken_at=old), 1)
    assert owner.programs.on(machine.tag).programs == known.programs, "it is older"
    later = taken_at + timedelta(hours=1)
    tell(SettingsSurvey(taken_at=later, unread="no right"), 2)
    unread = owner.programs.on(machine.tag)
    assert (unread.unread, unread.programs) == ("no right", known.programs)
    tell(SettingsSurvey(taken_at=later, programs=(SCREEN,)), 3)
    assert [judged.program for judged in owner.programs.on(machine.tag).programs] == [SCREEN]
    with context.db.read() as conn:
        rows = conn.execute("SELECT key FROM programs").fetchall()
    assert [row[0] for row in rows] == [SCREEN.key], "what no machine has any more is forgotten"


@pytest.mark.parametrize("seconds", [3, 119])
def test_a_look_that_came_later_counts_though_its_time_was_put_right(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, seconds: int
) -> None:
    """A clock that is off is put right by how long a message took, which differs by seconds."""
    survey(owner, machine, agent)
    run = owner.runs.survey(machine.tag)
    known = owner.programs.on(machine.tag)
    off = timedelta(seconds=owner.machines.get(machine.tag).clock_off)
    look = SettingsSurvey(
        taken_at=known.taken_at + off - timedelta(seconds=seconds), programs=(SCREEN,)
    )
    with context.db.write() as conn:
        message = SettingsMessage(id="came-later", run_id=run.id, look=look)
        ingest.apply(conn, machine.id, message, at=context.now())
    assert [judged.program for judged in owner.programs.on(machine.tag).programs] == [SCREEN]


def test_a_bad_file_and_the_machines_own_guard(
    owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    make_standin(tmp_path / "m")
    lay(tmp_path / "m", CHAT)
    (tmp_path / "m/startup/odd.json").write_text(json.dumps({"key": 3}), encoding="utf-8")
    enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    guard = tmp_path / "agent/guard.toml"
    guard.write_text(f'never_programs = ["{CHAT.key}"]\n', encoding="utf-8")
    guard.chmod(0o600)
    survey(owner, machine, Agent(AgentHome(tmp_path / "agent")))
    judged = {j.program.key: j for j in owner.programs.on(machine.tag).programs}
    assert judged["file:odd.json"].verdict.reason is SkipReason.UNREAD
    owner.programs.write(ABOUT_CHAT)
    owner.questions.answer("machine", machine.id, "video-calls", "no")
    assert reasons(owner, machine)[CHAT.key] is SkipReason.GUARDED
    detail = owner.programs.on(machine.tag).programs
    (chat,) = [judged.program for judged in detail if judged.program.key == CHAT.key]
    assert "own guard" in chat.guarded


def test_who_may_and_what_is_refused(service: Service, owner: Phylax, machine: Machine) -> None:
    with service.as_("wren") as tobias, service.as_("petra") as petra:
        entry = tobias.programs.write(ABOUT_CHAT)
        with pytest.raises(NotAllowedError):
            petra.programs.write(ABOUT_CHAT)
        assert [known.edit.name for known in petra.programs.notebook()] == ["Chat"]
        with pytest.raises(NotAllowedError, match="owner's to change"):
            tobias.programs.put_rule(Scope.SHOP, 0, CHAT.key, ProgramRule(leave=True))
        renamed = ABOUT_CHAT.model_copy(update={"name": "Chat, new"})
        newer = tobias.programs.write_anew(entry, renamed)
        with pytest.raises(RefusedError) as refused:
            owner.programs.write_anew(entry, ABOUT_CHAT)
        assert refused.value.status == 412
        assert owner.programs.write_anew(newer, ABOUT_CHAT).version == 3
        with pytest.raises(NotFoundError):
            owner.questions.answer("client", machine.client_id, "likes-tea", "yes")
        with pytest.raises(NotFoundError):
            owner.questions.answer("machine", 99, "plays", "yes")
        with pytest.raises(NotFoundError):
            owner.programs.strike_out(99)


def test_rules_of_nearer_scopes_count_and_a_rule_is_taken_back(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    survey(owner, machine, agent)
    owner.programs.write(
        ABOUT_CHAT.model_copy(
            update={"handling": ProgramDecision.STAYS, "intent": None, "depends_on": None}
        )
    )
    assert reasons(owner, machine)[CHAT.key] is SkipReason.NO_WISH
    owner.programs.put_rule(Scope.SHOP, 0, CHAT.key, ProgramRule(intent=Intent.ON_DEMAND))
    assert reasons(owner, machine)[CHAT.key] == "changes to on demand"
    leave = ProgramRule(leave=True)
    owner.programs.put_rule(Scope.CLIENT, machine.client_id, CHAT.key, leave)
    assert reasons(owner, machine)[CHAT.key] is SkipReason.ASKED_FOR
    assert [rule.rule for rule in owner.programs.rules(Scope.CLIENT, machine.client_id)] == [leave]
    owner.programs.put_rule(Scope.CLIENT, machine.client_id, CHAT.key, ProgramRule())
    assert reasons(owner, machine)[CHAT.key] == "changes to on demand"
    owner.programs.put_rule(Scope.SHOP, 0, CHAT.key, leave)
    edit = ProgramRuleEdit(program=CHAT.key, rule=ProgramRule())
    with pytest.raises(RefusedError) as refused:
        owner.programs._http.send("POST", "/program-rules/shop/0", body=edit)
    assert refused.value.status == 428, "what is there is changed with its version"


def test_what_a_rule_would_change_is_what_a_look_then_says(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    survey(owner, machine, agent)
    owner.programs.write(
        ABOUT_CHAT.model_copy(
            update={"handling": ProgramDecision.STAYS, "intent": None, "depends_on": None}
        )
    )
    wish = ProgramRule(intent=Intent.ON_DEMAND)
    for scope, number in (
        (Scope.SHOP, 0), (Scope.CLIENT, machine.client_id), (Scope.MACHINE, machine.id),
    ):  # fmt: skip
        would = owner.programs.what_if_rule(scope, number, CHAT.key, wish)
        assert would.now and would.now.kept_on == {SkipReason.NO_WISH: (machine.id,)}
        assert would.then and (would.then.changes_on, would.then.becomes) == (
            (machine.id,), "on demand",
        )  # fmt: skip
    assert reasons(owner, machine)[CHAT.key] is SkipReason.NO_WISH, "asking changes nothing"
    owner.programs.put_rule(Scope.SHOP, 0, CHAT.key, wish)
    assert reasons(owner, machine)[CHAT.key] == "changes to on demand"
    leave = owner.programs.what_if_rule(
        Scope.MACHINE, machine.id, CHAT.key, ProgramRule(leave=True)
    )
    assert leave.now and leave.now.changes_on == (machine.id,)
    assert leave.then and leave.then.kept_on == {SkipReason.ASKED_FOR: (machine.id,)}
    taken_back = owner.programs.what_if_rule(Scope.SHOP, 0, CHAT.key, ProgramRule())
    assert taken_back.then and taken_back.then.kept_on == {SkipReason.NO_WISH: (machine.id,)}
    guarded = owner.programs.what_if_rule(Scope.SHOP, 0, SCREEN.key, wish)
    assert guarded.then and guarded.then.kept_on == {SkipReason.GUARDED: (machine.id,)}
    other = owner.clients.add(ClientEdit(name="Reedmere Vets"))
    nowhere = owner.programs.what_if_rule(Scope.CLIENT, other.id, CHAT.key, wish)
    assert (nowhere.now, nowhere.then) == (None, None)
    with pytest.raises(NotFoundError):
        owner.programs.what_if_rule(Scope.CLIENT, 999, CHAT.key, wish)
    with pytest.raises(RefusedError, match="shop, client or machine"):
        owner.programs.what_if_rule(Scope.CATALOGUE, 0, CHAT.key, wish)


def test_one_program_of_two_people_is_one_to_write_about_on_one_machine(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    def own(person: str, digest: str, name: str = "Words") -> Program:
        entry = Starter(key=f"sign-in:{person}:w", kind=StarterKind.SIGN_IN, on=True, person=person)
        key = f"person:{person}:/opt/words --quiet"
        return Program(key=key, name=name, digest=digest, starters=(entry,))

    lay(tmp_path / "m", own("anna", "a" * 64), own("ben", "a" * 64), own("eve", "a" * 64, "Chat"))
    survey(owner, machine, agent)
    unknown = {(program.name, program.machines) for program in owner.programs.unknown()}
    assert unknown == {("Words", 1), ("Chat", 1)}, "who gives it another name is listed apart"
    about = KnownEdit(recognition=Recognition(digest="a" * 64), name="Words",
                      handling=ProgramDecision.GOES, intent=Intent.ON_DEMAND)  # fmt: skip
    owner.programs.write(about)
    assert [entry.machines for entry in owner.programs.notebook()] == [1]


def test_settings_alone_are_looked_at_when_asked_and_nothing_else_is(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    run = owner.runs.look_at_settings(machine.tag)
    agent.once()
    assert reasons(owner, machine) == {CHAT.key: SkipReason.UNKNOWN, SCREEN.key: SkipReason.GUARDED}
    ended = owner.runs.get(run.id)
    assert (ended.state, ended.survey_id) == (RunState.DONE, None)
    assert owner.runs.get(run.id).freed is None
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if e.run_id == run.id]
    assert entry.text == "Its settings were looked at; nothing was touched."
    assert (entry.removed_count, entry.freed) == (None, None)
    with pytest.raises(RefusedError):
        owner.runs.again([run.id])
