"""Volumes that are unticked are left out of a survey, a cleaning and a round."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from console_checks import check_for_everyone
from helpers import enrol, make_file, two_drives
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.ground.machines import System
from phylax.core.ground.volumes import VolumeChoice


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    """That of *cad*, which has two drives and was looked at."""
    edit = MachineEdit(tag="cad", client_id=machine.client_id, system=System.WINDOWS)
    owner.machines.add(edit)
    home = two_drives(tmp_path / "m")
    for drive, size in (("C", 3000), ("D", 5000)):
        make_file(tmp_path / f"m/{drive}/$Recycle.Bin/S-1/$Rold", size, days_old=99)
    make_file(home / "Downloads/mine", 9000, days_old=300)
    agent = enrol(owner, "cad", tmp_path / "agent", tmp_path / "m")
    owner.runs.survey("cad")
    agent.once()
    return agent


def test_an_unticked_volume_is_left_out_of_a_cleaning_and_of_a_survey(
    page: Page, owner: Phylax, agent: Agent, tmp_path: Path
) -> None:
    page.goto("/machines/cad")
    trash = page.get_by_test_id("ledger").get_by_role("row").filter(has_text="Trash")
    expect(trash).to_contain_text("7.8 KiB")
    expect(page.get_by_test_id("chosen-sum")).to_have_text("7.8 KiB")
    drive = page.get_by_label("Survey and clean C:")
    drive.uncheck()
    expect(page.get_by_test_id("chosen-sum")).to_have_text("4.9 KiB")
    expect(page.get_by_text("not on C:")).to_be_visible()
    check_for_everyone(page, "a machine of which a volume is left out")
    page.get_by_label("Survey and clean D:").uncheck()
    expect(page.get_by_role("button", name="Survey it, not C: and D:")).to_be_disabled()
    page.get_by_label("Survey and clean D:").check()

    # what was ticked in a listing is counted on its volume, and left with it
    downloads = page.get_by_test_id("ledger").get_by_role("row").filter(has_text="Download")
    downloads.get_by_role("button", name="Choose items").click()
    page.get_by_role("dialog").get_by_role("checkbox").first.check()
    page.get_by_role("button", name="Use this selection").click()
    expect(page.get_by_test_id("chosen-sum")).to_have_text("4.9 KiB")
    page.get_by_role("button", name="Clean…").click()
    question = page.get_by_test_id("clean-dialogue")
    expect(question.get_by_test_id("by-volume")).to_have_text(
        "By volume: C: left out; D: 1 item, 4.9 KiB."
    )
    expect(question).to_contain_text("Everything on C:")
    page.get_by_role("button", name="Cancel").click()
    drive.check()
    page.get_by_role("button", name="Clean…").click()
    expect(question.get_by_test_id("by-volume")).to_have_text(
        "By volume: C: 2 items, 11.7 KiB; D: 1 item, 4.9 KiB."
    )
    page.get_by_role("button", name="Cancel").click()
    drive.uncheck()
    page.get_by_role("button", name="Clean…").click()
    page.get_by_role("button", name="Clean now").click()
    expect(page.get_by_role("button", name="The machine is busy")).to_be_visible()
    run = next(owner.runs.list())
    assert (run.work, run.volumes) == ("clean", VolumeChoice(but=("C:",)))
    agent.once()
    assert (tmp_path / "m/C/$Recycle.Bin/S-1/$Rold").exists()
    assert not (tmp_path / "m/D/$Recycle.Bin/S-1/$Rold").exists()
    expect(page.get_by_test_id("result")).to_contain_text("all but C:")
    expect(page.get_by_text("C: was left out; shown as of")).to_be_visible()

    drive.check()
    page.get_by_label("Survey and clean D:").uncheck()
    page.get_by_role("button", name="Survey it, not D:").click()
    expect(page.get_by_role("button", name="Survey it, not D:")).to_be_disabled()
    assert next(owner.runs.list()).volumes == VolumeChoice(but=("D:",))


def test_a_round_is_made_for_chosen_volumes(page: Page, owner: Phylax, agent: Agent) -> None:
    page.goto("/rounds/new?machine=cad")
    page.get_by_label("Name", exact=True).fill("Drawings")
    page.get_by_label("on which volumes it looks and cleans").select_option("only these")
    names = page.get_by_label("volumes, as the machines name them")
    names.fill("E:")
    expect(page.get_by_role("alert")).to_contain_text("there is no volume E:; there are C: and D:")
    names.fill("  , ")
    expect(page.get_by_role("alert")).to_contain_text("is no volume")
    names.fill("d")
    expect(page.get_by_role("alert")).to_have_count(0)
    page.get_by_role("button", name="Make the round").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    page.get_by_role("button", name="The rounds").click()
    expect(page.get_by_role("row").filter(has_text="Drawings")).to_contain_text("D: only")
    (made,) = owner.rounds.list()
    assert made.plan.volumes == VolumeChoice(only=("D:",))
    page.goto(f"/rounds/new?round={made.id}")
    expect(names).to_have_value("D:")
    page.goto(f"/rounds/{made.id}")
    expect(page.get_by_text("D: only")).to_be_visible()
