"""The Windows machine kind, with a real Windows Python: the same story as on Linux."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest

from helpers import make_file
from phylax.client import Phylax
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.hold.holds import HeldPick
from phylax.core.retention import ProtectEntry, ProtectKind, Rule, Scope
from phylax.core.runs.runs import RunDetail, RunState, WantedProgram, WantedSetting
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.rules import TuningRule

from .conftest import Windows, started


@pytest.mark.parametrize(
    "check",
    [
        "names_are_opened_in_their_folder_only",
        "a_file_in_use_stays_and_the_system_says_so",
        "read_only_files_go_and_folders_that_hold_something_stay",
        "moving_never_overwrites",
        "long_paths_and_odd_names_are_walked_and_removed",
        "the_guard_knows_no_case",
        "it_steps_back",
    ],
)
def test_inside(windows: Windows, check: str) -> None:
    windows.inside(check)


def test_links_into_elsewhere(windows: Windows) -> None:
    letter = make_file(windows.home / "Documents/letter.odt")
    (windows.drive / "scratch").mkdir()
    (windows.drive / "scratch/link").symlink_to(letter.parent)
    windows.inside("a_link_or_junction_is_never_followed_moved_or_removed")
    assert letter.exists()


@pytest.fixture
def tag(owner: Phylax, machine: Machine) -> str:
    """A machine that was taken in with Windows on it."""
    edit = MachineEdit(tag="win", client_id=machine.client_id, system="windows")
    return owner.machines.add(edit).tag


@pytest.fixture
def enrolled(owner: Phylax, tag: str, windows: Windows) -> Iterator[Windows]:
    code = owner.machines.enrolment_code(tag).code
    said = windows.phylax("agent", "enrol", owner.url, code, "--data", "C:\\agent", "--drive", "C:")
    assert f"Enrolled as {tag}" in said
    yield windows


def once(windows: Windows) -> None:
    windows.phylax("agent", "once", "--data", "C:\\agent")


def ended(owner: Phylax, run_id: int) -> RunDetail:
    return owner.runs.get(run_id)


def test_a_whole_round_trip(owner: Phylax, tag: str, enrolled: Windows) -> None:
    """Look, agree, clean, hold, put back; with an open file left and named."""
    home = enrolled.home
    old = make_file(home / "Temp/old/ünïcode.tmp", 5000, days_old=9)
    young = make_file(home / "Temp/young.tmp", 700)
    kept = make_file(home / "Temp/Keep.DCM", 900, days_old=9)
    open_one = make_file(home / "Temp/open.tmp", 4000, days_old=9)
    cached = make_file(
        home / "AppData/Local/Google/Chrome/User Data/Default/Cache/data_1", 9000, days_old=1
    )
    dump = make_file(home / "AppData/Local/CrashDumps/app.dmp", 3000, days_old=40)
    film = make_file(home / "Downloads/film.mkv", 8000, days_old=200)
    modified = film.stat().st_mtime
    trashed = enrolled.trash("OLD.iso", 6000, days_ago=60)
    lately = enrolled.trash("NEW.iso", 6000, days_ago=2)
    system = make_file(enrolled.drive / "windows/Temp/setup.log", 2000, days_old=9)
    trace = make_file(enrolled.drive / "windows/Prefetch/APP.EXE-1.pf", 500, days_old=9)
    machine_id = owner.machines.get(tag).id
    owner.rules.put(
        Scope.MACHINE, machine_id, "downloads",
        Rule(off=False, keep_for=timedelta(days=90), hold_for=timedelta(days=7)),
    )  # fmt: skip
    owner.protections.add(ProtectEntry(kind=ProtectKind.PATTERN, pattern="*.dcm"))

    owner.runs.survey(tag)
    once(enrolled)
    ledger = owner.machines.ledger(tag)
    holds = {line.category: line.total.count for line in ledger.lines}
    assert (holds["user-temp"], holds["trash"], holds["web-cache"]) == (4, 2, 1)
    assert holds["launch-traces"] == 1 and holds["error-reports"] == 1
    restore = next(line for line in ledger.lines if line.category == "restore-points")
    assert "by hand" in restore.unread[0].why, (
        "what cannot be looked at is said, not called nothing"
    )

    consent = owner.surveys.consent(ledger.survey_id, "downloads", numbers=[1])
    wanted = ["user-temp", "system-temp", "trash", "web-cache", "error-reports", "downloads"]
    run = owner.runs.clean(tag, wanted, consents=[consent.id])
    keeper = enrolled.keep_open(open_one)
    once(enrolled)
    keeper.communicate("\n", timeout=90)

    done = ended(owner, run.id)
    assert done.state is RunState.PARTLY
    assert [(left.path, left.reason) for left in done.left] == [("open.tmp", "in use")]
    for path in (old, cached, dump, trashed, system, film):
        assert not path.exists(), path
    for path in (young, kept, open_one, lately, trace):
        assert path.exists(), path
    assert not trashed.with_name("$IOLD.iso").exists(), "the trash's note goes with it"
    assert done.held is not None and done.held.count == 1

    (hold,) = owner.holds.list(tag)
    back = owner.runs.put_back(tag, [HeldPick(hold_id=hold.id)])
    once(enrolled)
    assert ended(owner, back.id).state is RunState.DONE
    assert film.stat().st_size == 8000
    assert film.stat().st_mtime == modified, "as it was"

    assert list((enrolled.drive / "agent/held").iterdir()) == [], "the empty batch is swept up"
    again = owner.runs.clean(tag, ["user-temp"])
    once(enrolled)
    assert ended(owner, again.id).state is RunState.DONE and not open_one.exists()


def test_a_browser_that_is_open_keeps_its_cache(owner: Phylax, tag: str, enrolled: Windows) -> None:
    """A program under the browser's name, as the system lists it."""
    cached = make_file(
        enrolled.home / "AppData/Local/Mozilla/Firefox/Profiles/a.default/cache2/entries/1",
        days_old=1,
    )
    browser = enrolled.drive / "scratch/firefox.exe"
    browser.parent.mkdir()
    for part in Path(__file__).parents[2].joinpath(".windows").iterdir():
        if part.is_file():
            (browser.parent / part.name).write_bytes(part.read_bytes())
    (browser.parent / "python.exe").rename(browser)
    owner.runs.clean(tag, ["web-cache"])
    running = start(enrolled, browser)
    try:
        once(enrolled)
    finally:
        running.communicate("\n", timeout=90)
    (run,) = owner.runs.list(machine=tag)
    outcome = ended(owner, run.id).outcomes[0]
    assert [stay.reason for stay in outcome.left] == ["program open"]
    assert cached.exists()


def test_the_task_scheduler_takes_the_task(windows: Windows) -> None:
    text = windows.phylax("agent", "write-unit", "--data", "C:\\agent")
    (windows.drive / "scratch").mkdir()
    (windows.drive / "scratch/task.xml").write_text(text, encoding="utf-16")
    task = "phylax-agent"
    told = windows.system("schtasks", "/create", "/xml", "C:\\scratch\\task.xml", "/tn", task)
    assert told.returncode == 0, told.stdout
    assert (windows.drive / "windows/system32/tasks" / task).exists()


def start(windows: Windows, program: Path) -> subprocess.Popen[str]:
    def run() -> subprocess.Popen[str]:
        return subprocess.Popen(
            ["wine", str(program), "-c", "print('up', flush=True); input()"],
            env=windows.environment(),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )

    return started(run, "up")


@pytest.mark.parametrize(
    "check",
    [
        "entries_are_read_in_all_places_and_switched_by_their_marks",
        "a_mark_that_somebody_set_is_theirs",
        "services_are_switched_by_the_service_manager",
        "values_of_people_and_the_machine_go_round",
        "nothing_else_is_written_and_odd_values_cost_only_themselves",
        "no_other_machine_is_asked_for_what_somebody_wrote_down",
        "who_is_not_signed_in_is_said_and_nothing_of_theirs_is_set",
        "all_kinds_of_values_go_round",
    ],
)
def test_settings_inside(windows: Windows, check: str) -> None:
    windows.run("-m", "windows.inside_settings", check)


def test_what_runs_by_itself_is_ruled_changed_and_put_back(
    owner: Phylax, tag: str, enrolled: Windows
) -> None:
    """The story of a tune-up, through the service."""
    enrolled.run("-m", "windows.inside_settings", "lay_an_entry")
    owner.runs.look_at_settings(tag)
    once(enrolled)
    look = owner.programs.on(tag)
    assert look.unread == ""
    (words,) = [judged for judged in look.programs if judged.program.name == "Words"]
    assert words.now is Intent.AT_START and words.program.digest
    about = KnownEdit(
        recognition=Recognition(digest=words.program.digest), name="Words",
        handling=ProgramDecision.GOES, intent=Intent.ON_DEMAND,
    )  # fmt: skip
    owner.programs.write(about)
    owner.settings.put_rule(Scope.SHOP, 0, "updates", TuningRule(value="friday-noon"))
    programs = [WantedProgram(program=words.program.key, intent=Intent.ON_DEMAND)]
    values = [WantedSetting(setting="updates", value="friday-noon")]
    run = owner.runs.change(tag, programs, values=values)
    once(enrolled)
    assert ended(owner, run.id).state is RunState.DONE, ended(owner, run.id).reason
    now = {judged.program.name: judged.now for judged in owner.programs.on(tag).programs}
    assert now["Words"] is Intent.ON_DEMAND
    changes = owner.programs.changes(tag)
    assert {change.state for change in changes} == {ChangeState.MADE} and len(changes) == 2
    owner.runs.put_settings_back(tag, [change.number for change in changes])
    once(enrolled)
    assert {c.state for c in owner.programs.changes(tag)} == {ChangeState.PUT_BACK}
    enrolled.run("-m", "windows.inside_settings", "what_was_set_is_back")


@pytest.mark.parametrize(
    "check",
    [
        "programs_are_read_in_both_views_with_version_and_size",
        "drivers_are_read_with_their_dates",
        "what_is_built_in_is_read_or_said_not_to_be",
        "all_else_is_by_hand_and_says_so",
    ],
)
def test_upkeep_inside(windows: Windows, check: str) -> None:
    windows.run("-m", "windows.inside_upkeep", check)
