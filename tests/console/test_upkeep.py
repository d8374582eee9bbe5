"""Checks, updates, programs, disks, restart and advice on a machine's page; and a whole hand-over
from the first look to the comparison."""

from __future__ import annotations

import re
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Page, Route, expect

from console_checks import check_for_everyone, write
from helpers import enrol, make_standin
from phylax.agent.machines.standin_upkeep import (
    PretendedDisk,
    PretendedRestart,
    PretendedUpkeep,
    write_upkeep,
)
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.desk.advice import AdviceEdit, AdviceKind
from phylax.core.checks.kind import kinds
from phylax.core.inventory.disks import DiskFacts
from phylax.core.inventory.hardware import MemorySlot
from phylax.core.inventory.programs import InstalledProgram, Removal
from phylax.core.inventory.updates import Update
from phylax.core.runs.runs import RunState
from phylax.core.clients.shop import Machine

GIB = 2**30
BROKEN = '[volumes."/"]\nfindings = [{severity = "warning", what = "The file system has errors"}]\n'


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    make_standin(tmp_path / "m")
    upkeep = PretendedUpkeep(
        updates=(
            Update(name="Wall", now="1.0", version="1.1", security=True, origin="Tarn Works"),
            Update(name="Harbour Chat", now="4.1", version="4.2", size=2**20, restart=True),
        ),
        programs=(
            InstalledProgram(key="chat", name="Harbour Chat", version="4.1", size=3 * GIB,
                             last_used=datetime.now(UTC) - timedelta(days=3), removal=Removal.BY_AGENT),
            InstalledProgram(key="fonts", name="Fonts", version="1.0", removal=Removal.BY_AGENT),
            InstalledProgram(key="base", name="Base", version="1.0", removal=Removal.NEVER),
        ),
        needs={"chat": ("fonts",)},
        gone_for_good=("chat",),
        slots=(MemorySlot(place="Slot 1", size=4 * GIB, kind="DDR4"), MemorySlot(place="Slot 2")),
        most_memory=16 * GIB,
        disks={"/": PretendedDisk(facts=DiskFacts(spins=True, gives_back=False, turns=5400),
                                  files=100, pieces=400)},
        restart=PretendedRestart(usable_after=30, after_seconds=0),
    )  # fmt: skip
    write_upkeep(tmp_path / "m", upkeep)
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


@pytest.fixture
def checked(owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path) -> Machine:
    owner.runs.check(machine.tag, [key for key, kind in kinds().items() if kind.in_step])
    agent.once()
    return machine


def ordered(owner: Phylax, agent: Agent, machine: Machine) -> None:
    """What was asked for in the browser has reached the service, and is done."""
    while not any(run.state is RunState.WAITING for run in owner.runs.list(machine=machine.tag)):
        time.sleep(0.05)
    agent.once()


def test_updates_are_seen_and_installed(
    page: Page, owner: Phylax, checked: Machine, agent: Agent
) -> None:
    page.goto(f"/machines/{checked.tag}#updates")
    updates = page.get_by_test_id("updates")
    expect(updates.get_by_role("listitem")).to_have_count(2)
    expect(updates.get_by_role("listitem").first).to_contain_text("Wall 1.0, 1.1 is out")
    expect(updates).to_contain_text("for security")
    check_for_everyone(page, "updates")
    page.get_by_role("button", name="Install 2 updates").click()
    ordered(owner, agent, checked)
    expect(page.get_by_text("Nothing is missing")).to_be_visible()
    page.get_by_role("link", name="What was done").click()
    acted = page.get_by_test_id("acted")
    expect(acted).to_contain_text("Harbour Chat 4.1, now 4.2")
    expect(acted).to_contain_text("takes effect after a restart")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Install updates on")
    check_for_everyone(page, "an action's run")


def test_a_program_is_removed_with_a_yes_to_all_that_goes(
    page: Page, owner: Phylax, checked: Machine, agent: Agent
) -> None:
    page.goto(f"/machines/{checked.tag}#installed")
    programs = page.get_by_test_id("installed")
    expect(programs.get_by_role("listitem").first).to_contain_text("Harbour Chat 4.1")
    expect(programs).to_contain_text("the system needs it")
    page.get_by_role("button", name="Remove Harbour Chat…").click()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_contain_text("Nothing is done yet")
    ordered(owner, agent, checked)
    expect(dialogue).to_contain_text("With it goes 1 other program: fonts 1.0")
    remove = dialogue.get_by_role("button", name="Remove it")
    expect(remove).to_be_disabled()
    check_for_everyone(page, "removing a program")
    dialogue.get_by_label("Days since the last backup").fill("2")
    expect(remove).to_be_disabled()
    dialogue.get_by_label("This version cannot be had again").check()
    remove.click()
    expect(dialogue).not_to_be_visible()
    ordered(owner, agent, checked)
    expect(programs.get_by_role("listitem")).to_have_count(1)


def test_findings_are_seen_to_before_disks_are_arranged(
    page: Page, owner: Phylax, checked: Machine, agent: Agent, tmp_path: Path
) -> None:
    (tmp_path / "m/checks.toml").write_text(BROKEN)
    owner.runs.check(checked.tag, ("file-system",))
    agent.once()
    page.goto(f"/machines/{checked.tag}#disks")
    disks = page.get_by_test_id("disks")
    expect(disks).to_contain_text("100 files lie in 400 pieces")
    page.get_by_role("button", name="Arrange its disks").click()
    expect(page.get_by_role("alert").first).to_contain_text("The file system has errors")
    checks = page.get_by_test_id("checks")
    write(checks.get_by_label("What was done about it"), "checked by hand, the cable was loose")
    checks.get_by_role("button", name="It is dealt with").click()
    expect(checks).to_contain_text("Seen to by Ines Marrow")
    check_for_everyone(page, "checks and disks")
    page.get_by_role("button", name="Arrange its disks").click()
    ordered(owner, agent, checked)
    expect(disks).to_contain_text("100 files lie in 100 pieces")


def test_a_restart_is_asked_about_first(
    page: Page, owner: Phylax, checked: Machine, agent: Agent
) -> None:
    page.goto(f"/machines/{checked.tag}#disks")
    page.get_by_role("button", name="Restart it…").click()
    dialogue = page.get_by_role("dialog")
    restart = dialogue.get_by_role("button", name="Restart it")
    expect(restart).to_be_disabled()
    check_for_everyone(page, "restarting")
    dialogue.get_by_role("button", name="No", exact=True).click()
    expect(dialogue.get_by_label("Who is at it")).to_be_visible()
    dialogue.get_by_role("button", name="Yes", exact=True).click()
    dialogue.get_by_label("Warn so many minutes before").fill("0")
    restart.click()
    ordered(owner, agent, checked)
    run = next(owner.runs.list(machine=checked.tag))
    assert run.state is RunState.DONE
    assert "restarted" in owner.upkeep.acted(run.id)[0].after


def test_advice_goes_from_proposed_to_done(
    page: Page, owner: Phylax, checked: Machine, agent: Agent
) -> None:
    owner.upkeep.advise(checked.tag, AdviceEdit(kind=AdviceKind.MEMORY, text="Twice as much."))
    page.goto(f"/machines/{checked.tag}#advice")
    advice = page.get_by_test_id("advice")
    expect(advice).to_contain_text("told by Ines Marrow")
    write(advice.get_by_label("A word about more memory"), "next week")
    advice.get_by_role("button", name="Accepted").click()
    expect(advice).to_contain_text("accepted by Ines Marrow")
    expect(advice).to_contain_text("next week")
    check_for_everyone(page, "advice")
    advice.get_by_role("button", name="Done").click()
    expect(advice).to_contain_text("done by Ines Marrow")


def test_a_whole_hand_over_from_the_first_look_to_the_comparison(
    page: Page, owner: Phylax, machine: Machine, agent: Agent
) -> None:
    owner.questions.answer("machine", machine.id, "comes-back-alone", "yes")
    routine = next(r for r in owner.routines.list() if r.name == "Before hand-over")
    (run,) = owner.routines.run(routine.id, [machine.id], on_bench=True)
    page.goto(f"/runs/{run.id}")
    steps = page.get_by_test_id("steps")
    expect(steps.get_by_role("listitem")).to_have_count(len(routine.steps))
    for _ in range(30):
        now = owner.runs.get(run.id)
        if now.state.has_ended:
            break
        if now.awaits_person:
            number = next(s.number for s in now.steps if not s.state.is_over)
            step = steps.get_by_role("listitem").nth(number - 1)
            step.get_by_role("button", name="Done").click()
            expect(step).to_contain_text("done by Ines Marrow")
        else:
            agent.once()
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.DONE, ended.reason
    page.reload()
    comparison = page.get_by_test_id("comparison")
    expect(page.get_by_role("heading", name="Before and after")).to_be_visible()
    expect(page.get_by_text("It was restarted in between.")).to_be_visible()
    expect(page.get_by_test_id("acted")).to_contain_text("400 pieces of 100 files, now 100 pieces")
    assert comparison.count() <= 1
    check_for_everyone(page, "a hand-over")


def test_programs_over_the_shop_are_narrowed_down(page: Page, checked: Machine) -> None:
    page.goto("/machines")
    page.get_by_role("link", name="Programs over the shop").click()
    table = page.get_by_test_id("installed")
    expect(table.get_by_role("row")).to_have_count(4)
    check_for_everyone(page, "programs over the shop")
    write(page.get_by_label("Program"), "harbour")
    expect(table.get_by_role("row")).to_have_count(2)
    page.wait_for_url("**/installed?words=harbour")
    write(page.get_by_label("Every version but"), "4.1")
    expect(page.get_by_text("There is none")).to_be_visible()
    page.goto("/installed?words=harbour")
    expect(page.get_by_text("1 program on 1 machine.")).to_be_visible()


def test_what_changes_while_it_is_asked_for_the_first_time_is_not_missed(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    """An answer from before a change that comes after the word of that change."""
    page.goto(f"/machines/{machine.tag}")
    expect(page.get_by_text("Nothing speaks for any.")).to_be_visible()
    asked: list[str] = []

    def late(route: Route) -> None:
        answer = route.fetch()
        asked.append(route.request.url)
        if len(asked) == 1:
            owner.upkeep.advise(machine.tag, AdviceEdit(kind=AdviceKind.OTHER, text="Heard of."))
            time.sleep(1.5)
        route.fulfill(response=answer)

    page.route(re.compile(rf"/machines/{machine.tag}/advice"), late)
    page.reload()
    expect(page.get_by_test_id("advice")).to_contain_text("Heard of.", timeout=20_000)
