"""Startup programs on a machine's page: judged, answered, written about."""

from __future__ import annotations

import shutil
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from console_checks import check_for_everyone, write
from helpers import enrol, make_standin
from phylax.agent.config.home import AgentHome
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.retention import Scope
from phylax.core.runs.runs import WantedProgram
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.tuning.known import ProgramDecision, KnownEdit, Recognition
from phylax.core.tuning.programs import Intent, Program, Starter, StarterKind
from phylax.core.tuning.rules import TuningRule
from phylax.core.tuning.setting import DependsOn
from startup_trees import picture

ENTRY = Starter(key="sign-in:anna:chat.desktop", kind=StarterKind.SIGN_IN, on=True, person="anna")
PROGRAMS = {
    "chat": Program(key="package:chat", name="Chat", package="chat", starters=(ENTRY,)),
    "bar": Program(key="path:/opt/bar", name="Bar", path="/opt/bar", digest="ab" * 32,
                   starters=(ENTRY,)),
    "screen": Program(key="package:screen", name="Screen", package="screen", guarded="the screen"),
}  # fmt: skip


@pytest.fixture
def looked_at(owner: Phylax, machine: Machine, tmp_path: Path) -> Machine:
    make_standin(tmp_path / "m")
    (tmp_path / "m/startup").mkdir()
    for name, program in PROGRAMS.items():
        (tmp_path / f"m/startup/{name}.json").write_text(program.model_dump_json())
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    agent.once()
    owner.runs.survey(machine.tag)
    agent.once()
    owner.programs.write(
        KnownEdit(
            recognition=Recognition(package="chat"),
            name="Chat",
            handling=ProgramDecision.HANGS,
            intent=Intent.ON_DEMAND,
            depends_on=DependsOn(question="video-calls", on="no"),
        )
    )
    return machine


def test_a_question_is_answered_and_an_unknown_program_is_written_about(
    page: Page, owner: Phylax, looked_at: Machine
) -> None:
    page.goto(f"/machines/{looked_at.tag}")
    waits = page.get_by_test_id("programs-no answer yet")
    expect(waits).to_contain_text("Are there video calls on it?")
    expect(page.get_by_test_id("programs-stays")).to_contain_text("guarded: the screen")
    check_for_everyone(page, "startup programs")
    waits.get_by_role("button", name="says no").click()
    changes = page.get_by_test_id("programs-changes")
    expect(changes).to_contain_text("Chat")
    expect(changes).to_contain_text("on demand")
    (given,) = [a.answer for a in owner.questions.of("client", looked_at.client_id) if a.answer]
    assert (given.question, given.answer, given.who) == ("video-calls", "no", "Ines Marrow")
    page.get_by_role("button", name="Add a note on Bar").click()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_contain_text("Recognised by its very file")
    write(dialogue.get_by_label("What it is"), "An offer that nobody asked for.")
    expect(dialogue.get_by_test_id("what-if")).to_contain_text("changes nowhere; stays on 1 (")
    dialogue.get_by_label("It is to run").check()
    dialogue.get_by_label("When it is to run").select_option("on demand")
    expect(dialogue.get_by_test_id("what-if")).to_contain_text("changes to on demand on 1 machine")
    check_for_everyone(page, "writing about a program")
    dialogue.get_by_role("button", name="Write it down").click()
    expect(changes).to_contain_text("Bar")
    assert [known.edit.description for known in owner.programs.notebook()][1].startswith("An offer")


def test_programs_are_changed_with_a_sentence_each_and_put_back(
    page: Page, owner: Phylax, looked_at: Machine, tmp_path: Path
) -> None:
    owner.questions.answer("client", looked_at.client_id, "video-calls", "no")
    startup = picture(tmp_path / "m/startup")
    agent = Agent(AgentHome(tmp_path / "agent"))
    page.goto(f"/machines/{looked_at.tag}")
    page.get_by_role("button", name="Change…").click()
    dialogue = page.get_by_test_id("change-dialogue")
    expect(dialogue).to_contain_text("Chat: it does not start by itself")
    check_for_everyone(page, "the question before changing")
    dialogue.get_by_role("checkbox").uncheck()
    expect(dialogue.get_by_role("button", name="Change 0 programs")).to_be_disabled()
    dialogue.get_by_role("checkbox").check()
    write(dialogue.get_by_label("Why, or what the client said"), "asked by phone")
    dialogue.get_by_role("button", name="Change 1 program").click()
    expect(page.get_by_text("The machine is busy.").first).to_be_visible()
    agent.once()
    changes = page.get_by_test_id("changes")
    expect(changes).to_contain_text("Chat: at start, then on demand")
    expect(changes).to_contain_text("asked by phone")
    check_for_everyone(page, "what was changed")
    changes.get_by_role("button", name="Put back Chat").click()
    expect(changes.get_by_role("button", name="Put back Chat")).to_be_disabled()
    agent.once()
    expect(changes).to_contain_text("put back by Ines Marrow")
    assert picture(tmp_path / "m/startup") == startup
    expect(page.get_by_test_id("programs-changes")).to_contain_text("Chat")


def test_what_somebody_else_writes_shows_by_itself(
    page: Page, owner: Phylax, looked_at: Machine
) -> None:
    page.goto(f"/machines/{looked_at.tag}")
    unknown = page.get_by_test_id("programs-unknown")
    expect(unknown).to_contain_text("Bar")
    owner.programs.write(
        KnownEdit(recognition=Recognition(digest="ab" * 32), name="Bar", handling=ProgramDecision.STAYS)
    )
    expect(unknown).to_have_count(0)
    expect(page.get_by_test_id("programs-stays")).to_contain_text("Bar")


def test_a_machine_that_was_not_looked_at_says_what_to_do(page: Page, machine: Machine) -> None:
    page.goto(f"/machines/{machine.tag}")
    expect(page.get_by_text("A survey reads startup programs")).to_be_visible()


def test_the_notebook_is_written_changed_and_struck_out(
    page: Page, owner: Phylax, looked_at: Machine
) -> None:
    page.goto("/rules/programs")
    unknown = page.get_by_test_id("unknown")
    expect(unknown).to_contain_text("seen on 1 machine, of 1 client:")
    check_for_everyone(page, "the notebook")
    unknown.get_by_role("button", name="Add a note on Bar").click()
    dialogue = page.get_by_role("dialog")
    dialogue.get_by_role("button", name="Write it down").click()
    notebook = page.get_by_test_id("notebook")
    expect(notebook).to_contain_text("Bar: stays")
    expect(notebook).to_contain_text("runs on demand where the answer is no: Are there video")
    expect(unknown).to_contain_text("Every startup program is in our notes.")
    notebook.get_by_role("button", name="Change the entry of Bar").click()
    write(dialogue.get_by_label("What it is"), "mine")
    (entry,) = [known for known in owner.programs.notebook() if known.edit.name == "Bar"]
    owner.programs.write_anew(entry, entry.edit.model_copy(update={"description": "theirs"}))
    dialogue.get_by_role("button", name="Write it down").click()
    conflict = dialogue.get_by_test_id("conflict")
    expect(conflict.get_by_role("row").filter(has_text="what it is")).to_contain_text("theirs")
    assert [k.edit.description for k in owner.programs.notebook() if k.edit.name == "Bar"] == ["theirs"]
    conflict.get_by_role("button", name="Save mine").click()
    expect(notebook).to_contain_text("mine")
    notebook.get_by_role("button", name="Strike out Bar").click()
    page.get_by_role("button", name="Strike it out").click()
    expect(unknown).to_contain_text("Bar")
    assert [known.edit.name for known in owner.programs.notebook()] == ["Chat"]


def test_questions_of_a_client_are_answered_and_taken_back(
    page: Page, owner: Phylax, looked_at: Machine
) -> None:
    page.goto(f"/rules/questions?client={looked_at.client_id}")
    calls = page.get_by_test_id("questions").get_by_role("listitem").filter(has_text="video calls")
    expect(calls).to_contain_text("no answer yet")
    check_for_everyone(page, "questions")
    no = calls.get_by_role("button", name="No")
    no.click()
    expect(calls).to_contain_text("no, noted by Ines Marrow")
    expect(no).to_have_attribute("aria-pressed", "true")
    no.click()
    expect(calls).to_contain_text("no answer yet")
    assert not any(asked.answer for asked in owner.questions.of("client", looked_at.client_id))


def test_a_rule_for_a_program_is_made_where_it_is_seen(
    page: Page, owner: Phylax, looked_at: Machine
) -> None:
    owner.questions.answer("client", looked_at.client_id, "video-calls", "no")
    page.goto(f"/machines/{looked_at.tag}")
    page.get_by_role("button", name="Rule for Chat").click()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_contain_text("No rule yet.")
    would = dialogue.get_by_test_id("rule-what-if")
    expect(would).to_contain_text("With it: changes nowhere; stays on 1 (asked for).")
    expect(would).to_contain_text("As it is now: changes to on demand on 1 machine.")
    check_for_everyone(page, "a rule for a program")
    dialogue.get_by_role("button", name="Save the rule").click()
    stays = page.get_by_test_id("programs-stays")
    expect(stays).to_contain_text("asked for")
    page.get_by_role("button", name="Rule for Chat").click()
    expect(dialogue).to_contain_text("So far: stays as it is, by Ines Marrow.")
    dialogue.get_by_label("Holds for").select_option("the whole shop")
    dialogue.get_by_role("radio", name="It is to run").check()
    dialogue.get_by_label("rounds set it again").check()
    dialogue.get_by_role("button", name="Save the rule").click()
    expect(dialogue).to_have_count(0)
    page.goto("/rules/programs")
    rules = page.get_by_test_id("program-rules")
    expect(rules).to_contain_text("package:chat: runs on demand; put right by rounds")
    rules.get_by_role("button", name="Take back the rule for package:chat").click()
    expect(rules).to_contain_text("None; the notebook decides.")


def test_a_trial_is_drawn_and_said(
    page: Page, owner: Phylax, looked_at: Machine, tmp_path: Path
) -> None:
    owner.questions.answer("client", looked_at.client_id, "video-calls", "no")
    machine = StandInMachine(tmp_path / "m")
    agent = Agent(AgentHome(tmp_path / "agent"))
    for days in range(12, 0, -1):
        machine.startup.start_anew(datetime.now(UTC) - timedelta(days=days))
    wanted = WantedProgram(program="package:chat", intent=Intent.ON_DEMAND)
    owner.runs.change(looked_at.tag, [wanted])
    agent.once()
    page.goto(f"/machines/{looked_at.tag}")
    trial = page.get_by_test_id("trial")
    expect(trial).to_have_text("Cannot be told yet: 0 starts since, judged after 5.")
    for seconds in range(7):
        machine.startup.start_anew(datetime.now(UTC) + timedelta(seconds=seconds))
    agent.once()
    # by the event alone, without loading anew
    expect(trial).to_contain_text("what was changed took 0.1 s of a start, now 0.0 s")
    expect(page.get_by_test_id("starts")).to_contain_text("12 starts before, 7 since")
    check_for_everyone(page, "a trial")
    page.get_by_text("Each start in words").click()
    expect(page.get_by_text("(the first since the change)")).to_be_visible()


def test_a_change_over_the_shop_is_one_yes_and_put_back_as_one(
    page: Page, owner: Phylax, looked_at: Machine, tmp_path: Path
) -> None:
    owner.questions.answer("client", looked_at.client_id, "video-calls", "no")
    agent = Agent(AgentHome(tmp_path / "agent"))
    page.goto("/rules/programs")
    proposed = page.get_by_test_id("proposed")
    expect(proposed).to_contain_text("Chat: on demand on 1 machine")
    proposed.get_by_role("button", name="Change Chat on 1 machine").click()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_contain_text("Fewer than 6 machines cannot be compared")
    check_for_everyone(page, "a change over the shop")
    write(dialogue.get_by_label("Why, or what the client said"), "agreed by mail")
    dialogue.get_by_role("button", name="Change 1 machine now").click()
    shared = page.get_by_test_id("shared")
    expect(shared).to_contain_text("in force on 0 of 1 machine")
    agent.once()
    expect(shared).to_contain_text("in force on 1 of 1 machine")
    expect(proposed).to_contain_text("Everything is as the shop wants it.")
    check_for_everyone(page, "what was changed over the shop")
    shared.get_by_role("button", name="Put back on all: Chat").click()
    while all(run.work != "put settings back" for run in owner.runs.list()):
        page.wait_for_timeout(100)
    agent.once()
    expect(proposed).to_contain_text("Chat: on demand on 1 machine")
    expect(shared.get_by_role("button")).to_have_count(0)


def test_settings_are_ruled_changed_and_answered_in_the_page(
    page: Page, owner: Phylax, looked_at: Machine, tmp_path: Path
) -> None:
    (tmp_path / "m/settings").mkdir()
    for name, value in {"power": '"even"', "asleep-when": "30", "motion.anna": "true"}.items():
        (tmp_path / f"m/settings/{name}.json").write_text(f'{{"value": {value}}}')
    agent = Agent(AgentHome(tmp_path / "agent"))
    owner.runs.survey(looked_at.tag)
    agent.once()
    owner.settings.put_rule(Scope.SHOP, 0, "motion", TuningRule(value=False))
    page.goto(f"/machines/{looked_at.tag}")
    values = page.get_by_test_id("setting-values")
    motion = values.get_by_role("row").filter(has_text="Windows move")
    expect(motion).to_contain_text("of anna")
    check_for_everyone(page, "settings")
    motion.get_by_role("button", name="No, says").click()
    expect(motion).to_contain_text("the shop’s rule wants it")
    values.get_by_role("button", name="Rule for Asleep after").click()
    dialogue = page.get_by_role("dialog")
    dialogue.get_by_role("radio", name="It is to be").check()
    dialogue.get_by_label("What it is to be", exact=True).fill("60")
    would = dialogue.get_by_test_id("rule-what-if")
    expect(would).to_contain_text("With it: changes nowhere; stays on 1 (no answer yet).")
    dialogue.get_by_label("What it is to be", exact=True).fill("30")
    expect(would).to_contain_text("With it: changes nowhere; stays on 1 (as wanted already).")
    dialogue.get_by_label("What it is to be", exact=True).fill("60")
    check_for_everyone(page, "a rule for a setting")
    dialogue.get_by_role("button", name="Save the rule").click()
    asleep = values.get_by_role("row").filter(has_text="Asleep after")
    # the question it hangs on still decides
    expect(asleep).to_contain_text("no answer yet")
    page.get_by_role("button", name="Change settings…").click()
    change = page.get_by_test_id("values-dialogue")
    expect(change).to_contain_text(
        "Windows move when they open and close of anna: on now, off then"
    )
    check_for_everyone(page, "changing settings")
    change.get_by_role("button", name="Change 1 setting").click()
    expect(page.get_by_text("The machine is busy.").first).to_be_visible()
    agent.once()
    expect(motion).to_contain_text("as wanted already")
    changes = page.get_by_test_id("changes")
    expect(changes).to_contain_text("Windows move when they open and close of anna: on, then off")


def test_today_names_programs_of_several_machines_that_nobody_has_written_about(
    page: Page, owner: Phylax, looked_at: Machine, tmp_path: Path
) -> None:
    page.goto("/")
    expect(page.get_by_test_id("sentence")).to_be_visible()
    other = owner.machines.add(
        MachineEdit(tag="ferry-board", client_id=looked_at.client_id, system="linux")
    )
    expect(page.get_by_test_id("worth-a-word")).to_have_count(0)
    make_standin(tmp_path / "m2")
    shutil.copytree(tmp_path / "m/startup", tmp_path / "m2/startup")
    agent = enrol(owner, other.tag, tmp_path / "agent2", tmp_path / "m2")
    owner.runs.look_at_settings(other.tag)
    agent.once()
    page.goto("/")
    word = page.get_by_test_id("worth-a-word")
    expect(word).to_contain_text("Bar")
    expect(word).to_contain_text("on 2 machines of 1 client")
    check_for_everyone(page, "today with an unknown program")
    word.get_by_role("link", name="Bar").click()
    expect(page.get_by_role("heading", name="Over the whole shop")).to_be_visible()


def test_settings_are_looked_at_again_from_the_page(
    page: Page, owner: Phylax, looked_at: Machine, tmp_path: Path
) -> None:
    page.goto(f"/machines/{looked_at.tag}")
    expect(page.get_by_test_id("programs-stays")).to_be_visible()
    (tmp_path / "m/settings").mkdir()
    (tmp_path / "m/settings/power.json").write_text('{"value": "even"}')
    page.get_by_role("button", name="Survey again").click()
    while all(run.work != "look at settings" for run in owner.runs.list()):
        page.wait_for_timeout(100)
    Agent(AgentHome(tmp_path / "agent")).once()
    expect(page.get_by_test_id("setting-values")).to_contain_text("Power while plugged in")


def test_a_setting_over_the_shop_is_one_yes(
    page: Page, owner: Phylax, looked_at: Machine, tmp_path: Path
) -> None:
    (tmp_path / "m/settings").mkdir()
    (tmp_path / "m/settings/power.json").write_text('{"value": "even"}')
    agent = Agent(AgentHome(tmp_path / "agent"))
    owner.runs.survey(looked_at.tag)
    agent.once()
    owner.settings.put_rule(Scope.SHOP, 0, "power", TuningRule(value="speed"))
    page.goto("/rules/programs")
    proposed = page.get_by_test_id("proposed")
    expect(proposed).to_contain_text("Power while plugged in: speed first on 1 machine")
    proposed.get_by_role("button", name="Change Power while plugged in").click()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_contain_text("It is set to speed first there. With speed first the machine")
    expect(dialogue.get_by_label("Half of them first")).to_have_count(0)
    check_for_everyone(page, "a setting over the shop")
    dialogue.get_by_role("button", name="Change 1 machine now").click()
    shared = page.get_by_test_id("shared")
    expect(shared).to_contain_text("Power while plugged in: speed first, in force on 0 of 1")
    agent.once()
    expect(shared).to_contain_text("in force on 1 of 1 machine")
    assert '"speed"' in (tmp_path / "m/settings/power.json").read_text()
