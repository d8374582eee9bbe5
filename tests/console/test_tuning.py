"""What runs by itself on a machine's page: judged, answered, written about."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from console_checks import check_for_everyone, write
from helpers import enrol, make_standin
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.shop import Machine
from phylax.core.tuning.known import Handling, KnownEdit, Recognition
from phylax.core.tuning.programs import Intent, Program, Starter, StarterKind
from phylax.core.tuning.setting import Hangs
from startup_trees import picture

ENTRY = Starter(key="sign-in:anna:chat.desktop", kind=StarterKind.SIGN_IN, on=True, of="anna")
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
            handling=Handling.HANGS,
            intent=Intent.WHEN_ASKED,
            hangs=Hangs(question="video-calls", on="no"),
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
    check_for_everyone(page, "what runs by itself")
    waits.get_by_role("button", name="says no").click()
    changes = page.get_by_test_id("programs-changes")
    expect(changes).to_contain_text("Chat")
    expect(changes).to_contain_text("when asked")
    (given,) = [a.answer for a in owner.questions.of("client", looked_at.client_id) if a.answer]
    assert (given.question, given.answer, given.who) == ("video-calls", "no", "Ines Marrow")
    page.get_by_role("button", name="Write about Bar").click()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_contain_text("Recognised by its very file")
    write(dialogue.get_by_label("What it is"), "An offer that nobody asked for.")
    expect(dialogue.get_by_test_id("what-if")).to_contain_text("Changes on 0 machines")
    dialogue.get_by_label("It is to run").check()
    dialogue.get_by_label("When it is to run").select_option("when asked")
    expect(dialogue.get_by_test_id("what-if")).to_contain_text("Changes on 1 machine")
    check_for_everyone(page, "writing about a program")
    dialogue.get_by_role("button", name="Write it down").click()
    expect(changes).to_contain_text("Bar")
    assert [known.edit.what for known in owner.programs.notebook()][1].startswith("An offer")


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
    expect(page.get_by_text("The machine is busy.")).to_be_visible()
    agent.once()
    changes = page.get_by_test_id("changes")
    expect(changes).to_contain_text("Chat: from the start, then when asked")
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
        KnownEdit(recognition=Recognition(digest="ab" * 32), name="Bar", handling=Handling.STAYS)
    )
    expect(unknown).to_have_count(0)
    expect(page.get_by_test_id("programs-stays")).to_contain_text("Bar")


def test_a_machine_that_was_not_looked_at_says_what_to_do(page: Page, machine: Machine) -> None:
    page.goto(f"/machines/{machine.tag}")
    expect(page.get_by_text("A survey reads what runs by itself")).to_be_visible()
