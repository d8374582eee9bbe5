"""Settings of one value, from the survey to the record: rules, verdicts, changes, rounds."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from pydantic import ValidationError

from conftest import Service
from helpers import enrol, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import ChangedMeanwhileError, NotAllowedError, Phylax, RefusedError
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.retention import Scope
from phylax.core.runs.runs import RunState, WantedSetting
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep, StepKind
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.rules import TuningRule, TuningRuleEdit
from phylax.core.tuning.shared import NewSharedChange
from phylax.core.tuning.verdicts import SkipReason
from startup_trees import picture

VALUES = {"power": "even", "asleep-when": 30, "motion.anna": True, "updates": "by-itself",
          "hibernation": True}  # fmt: skip


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    make_standin(tmp_path / "m")
    folder = tmp_path / "m/settings"
    folder.mkdir()
    for name, value in VALUES.items():
        (folder / f"{name}.json").write_text(json.dumps({"value": value}))
    return folder


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, folder: Path) -> Agent:
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.survey(machine.tag)
    agent.once()
    return agent


def judged(owner: Phylax, machine: Machine) -> dict[str, tuple[str, str | None]]:
    """What each setting is, and what becomes of it or why it stays."""
    return {
        value.seen.key: (value.now, value.becomes or value.verdict.reason)
        for value in owner.programs.on(machine.tag).values
    }


def want(owner: Phylax, setting: str, value: object, **more: object) -> None:
    rule = TuningRule.model_validate({"value": value, **more})
    owner.settings.put_rule(Scope.SHOP, 0, setting, rule)


def test_nearer_rules_win_and_questions_decide(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    assert judged(owner, machine)["power"] == ("even", SkipReason.NO_WISH)
    want(owner, "power", "speed")
    want(owner, "motion", False)
    assert judged(owner, machine)["power"] == ("even", "speed first")
    owner.settings.put_rule(Scope.MACHINE, machine.id, "power", TuningRule(leave=True))
    assert judged(owner, machine)["power"] == ("even", SkipReason.ASKED_FOR)
    assert judged(owner, machine)["motion"] == ("on", SkipReason.NO_ANSWER)
    owner.questions.answer("client", machine.client_id, "likes-movement", "no")
    assert judged(owner, machine)["motion"] == ("on", "off")
    owner.settings.put_rule(Scope.MACHINE, machine.id, "power", TuningRule())
    assert list(owner.settings.rules(Scope.MACHINE, machine.id)) == []
    assert judged(owner, machine)["power"] == ("even", "speed first")


def test_a_value_is_changed_written_down_and_put_back(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    before = picture(folder)
    want(owner, "power", "speed")
    run = owner.runs.change(
        machine.tag, values=[WantedSetting(setting="power", value="speed")], comment="by phone"
    )
    agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE
    assert judged(owner, machine)["power"] == ("speed first", SkipReason.AS_WANTED)
    (made,) = owner.programs.changes(machine.tag)
    assert (made.setting, made.name, made.before, made.after) == (
        "power", "Power while plugged in", "even", "speed first",
    )  # fmt: skip
    assert list(owner.programs.trials(machine.tag)) == []
    (record,) = [entry for entry in owner.records.list() if entry.run_id == run.id]
    assert record.text == (
        "Changed 1 setting. Power while plugged in: even, now speed first. Said to it: by phone."
    )
    owner.runs.put_settings_back(machine.tag, [made.number])
    agent.once()
    assert picture(folder) == before
    (made,) = owner.programs.changes(machine.tag)
    assert made.state is ChangeState.PUT_BACK


@pytest.mark.parametrize(
    ("wanted", "why"),
    [
        (WantedSetting(setting="power", value="battery"), "is to be speed first by"),
        (WantedSetting(setting="asleep-when", value=60), "stays: no rule wants otherwise"),
        (WantedSetting(setting="wake-timers", value=True), "was not seen on"),
        (WantedSetting(setting="motion", person="bram", value=False), "was not seen on"),
    ],
)
def test_what_the_rules_do_not_want_cannot_be_ordered(
    owner: Phylax, machine: Machine, agent: Agent, wanted: WantedSetting, why: str
) -> None:
    want(owner, "power", "speed")
    with pytest.raises(RefusedError) as refused:
        owner.runs.change(machine.tag, values=[wanted])
    assert why in str(refused.value.errors)


def test_rules_that_no_setting_can_follow_and_persons_who_may_not(
    service: Service, owner: Phylax, machine: Machine
) -> None:
    for setting, value in (("power", "faster"), ("asleep-when", 601), ("motion", "off")):
        with pytest.raises(ValueError, match=setting):
            TuningRuleEdit(setting=setting, rule=TuningRule(value=value))
    with pytest.raises(ValueError, match="no setting of one value"):
        TuningRuleEdit(setting="startup-programs", rule=TuningRule(leave=True))
    with service.as_("wren") as wren, pytest.raises(NotAllowedError):
        wren.settings.put_rule(Scope.SHOP, 0, "power", TuningRule(value="speed"))
    # two people at once: the second has to see the first
    want(owner, "power", "speed")
    edit = TuningRuleEdit(setting="power", rule=TuningRule(value="even"))
    with pytest.raises(ChangedMeanwhileError):
        owner.send(
            "POST", "/setting-rules/shop/0", body=edit, headers={"If-Match": '"7"'}
        )  # fmt: skip


def test_a_round_sets_what_goes_back_exactly_and_leaves_the_rest(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    want(owner, "power", "speed")
    want(owner, "hibernation", False)
    steps = (RoutineStep(kind=StepKind.TUNE),)
    routine = owner.routines.add(RoutineEdit(name="Tuning", note="", steps=steps))
    owner.routines.run(routine.id, [machine.id])
    agent.once()
    values = judged(owner, machine)
    assert values["power"] == ("speed first", SkipReason.AS_WANTED)
    assert values["hibernation"] == ("on", "off"), "what cannot be put back needs approval"


def test_what_somebody_sets_otherwise_is_seen(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    want(owner, "power", "speed")
    owner.runs.change(machine.tag, values=[WantedSetting(setting="power", value="speed")])
    agent.once()
    (folder / "power.json").write_text('{"value": "battery"}')
    owner.runs.survey(machine.tag)
    agent.once()
    (made,) = owner.programs.changes(machine.tag)
    assert made.drifted_to == "saving first"
    texts = [entry.text for entry in owner.records.list()]
    assert (
        "Power while plugged in: speed first was set, but somebody altered it: it is saving first."
        in texts
    )


def test_an_agent_that_knows_more_or_tells_nonsense_costs_only_that(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    (folder / "of-a-later-version.json").write_text('{"value": true}')
    owner.runs.survey(machine.tag)
    agent.once()
    assert set(judged(owner, machine)) == {
        "power", "asleep-when", "motion", "updates", "hibernation"
    }  # fmt: skip


def test_what_a_rule_would_change_is_what_a_look_then_says(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    would = owner.settings.what_if_rule(Scope.SHOP, 0, "power", TuningRule(value="speed"))
    assert would.now and would.now.kept_on == {SkipReason.NO_WISH: (machine.id,)}
    assert would.then and (would.then.changes_on, would.then.becomes) == (
        (machine.id,), "speed first",
    )  # fmt: skip
    assert judged(owner, machine)["power"] == ("even", SkipReason.NO_WISH), "asking changes nothing"
    want(owner, "power", "speed")
    assert judged(owner, machine)["power"] == ("even", "speed first")
    leave = TuningRule(leave=True)
    would = owner.settings.what_if_rule(Scope.CLIENT, machine.client_id, "power", leave)
    assert would.now and would.now.changes_on == (machine.id,)
    assert would.then and would.then.kept_on == {SkipReason.ASKED_FOR: (machine.id,)}
    unanswered = owner.settings.what_if_rule(Scope.SHOP, 0, "motion", TuningRule(value=False))
    assert unanswered.then and unanswered.then.kept_on == {SkipReason.NO_ANSWER: (machine.id,)}
    nowhere = owner.settings.what_if_rule(Scope.SHOP, 0, "play", TuningRule(value=False))
    assert (nowhere.now, nowhere.then) == (None, None)
    with pytest.raises(ValidationError, match="is no choice of power"):
        owner.settings.what_if_rule(Scope.SHOP, 0, "power", TuningRule(value="faster"))


def test_one_setting_on_many_machines_is_one_yes_and_goes_back_as_one(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path, tmp_path: Path
) -> None:
    """Two people of one machine and one of another; a third machine keeps it by a rule."""
    (folder / "motion.ben.json").write_text('{"value": true}')
    agents, machines = [agent], [machine]
    for number in range(2):
        edit = MachineEdit(tag=f"ferry-{number}", client_id=machine.client_id, system="linux")
        other = owner.machines.add(edit)
        make_standin(tmp_path / f"m{number}")
        (tmp_path / f"m{number}/settings").mkdir()
        (tmp_path / f"m{number}/settings/motion.eve.json").write_text('{"value": true}')
        agents.append(enrol(owner, other.tag, tmp_path / f"a{number}", tmp_path / f"m{number}"))
        machines.append(other)
    before = [picture(tmp_path / name) for name in ("m/settings", "m0/settings", "m1/settings")]
    for one, theirs in zip(machines, agents, strict=True):
        owner.runs.survey(one.tag)
        theirs.once()
    owner.questions.answer("client", machine.client_id, "likes-movement", "no")
    want(owner, "motion", False)
    owner.settings.put_rule(Scope.MACHINE, machines[2].id, "motion", TuningRule(leave=True))
    (line,) = [line for line in owner.shared_changes.proposed() if line.setting == "motion"]
    assert (line.changes_on, line.becomes, line.value) == (
        (machines[0].id, machines[1].id), "off", False,
    )  # fmt: skip
    assert line.kept_on == {SkipReason.ASKED_FOR: (machines[2].id,)}
    all_ids = [one.id for one in machines]
    with pytest.raises(RefusedError) as refused:
        owner.shared_changes.set("motion", False, all_ids)
    assert "no rule wants it off there" in str(refused.value.errors)
    assert owner.shared_changes.list() == [], "nothing is ordered at all"
    made = owner.shared_changes.set("motion", False, line.changes_on, comment="agreed by mail")
    for theirs in agents:
        theirs.once()
    made = owner.shared_changes.get(made.id)
    assert [(m.tag, m.state, len(m.changes)) for m in made.machines] == [
        (machines[1].tag, ChangeState.MADE, 1), (machines[0].tag, ChangeState.MADE, 2),
    ]  # fmt: skip
    assert (made.becomes, made.value, made.program, made.judged) == ("off", False, "", None)
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if "shared change" in e.text]
    assert entry.text.endswith(
        "Said to it: agreed by mail. One of 2 machines at once, shared change 1."
    )
    assert "Windows move when they open and close of ben: on, now off." in entry.text
    owner.shared_changes.put_back(made.id)
    for theirs in agents:
        theirs.once()
    made = owner.shared_changes.get(made.id)
    assert {m.state for m in made.machines} == {ChangeState.PUT_BACK}
    after = [picture(tmp_path / name) for name in ("m/settings", "m0/settings", "m1/settings")]
    assert after == before


@pytest.mark.parametrize(
    ("body", "why"),
    [
        ({"setting": "power"}, "a setting has a value"),
        ({"setting": "power", "value": "faster"}, "is no choice of power"),
        ({"setting": "power", "value": "speed", "half_first": True}, "is not compared"),
        ({"setting": "power", "value": "speed", "intent": "on demand"}, "and no program"),
        ({"setting": "nonsense", "value": 1}, "is no setting of one value"),
        ({"setting": "startup-programs", "program": "package:x"}, "say a program and its intent"),
        ({"program": "package:x", "intent": "on demand", "value": 1}, "say a program"),
    ],
)
def test_a_shared_change_says_one_thing(
    owner: Phylax, machine: Machine, body: dict[str, object], why: str
) -> None:
    with pytest.raises(ValidationError, match=why):
        NewSharedChange.model_validate(body | {"machine_ids": (machine.id,)})
