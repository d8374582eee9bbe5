"""A survey, a cleaning and a round of chosen volumes: nothing is touched on the others, and what is
known of them stays known."""

from __future__ import annotations

import os
import shutil
import tomllib
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
import tomli_w

from conftest import Service
from engine import NothingRuns, now, rule
from helpers import TUESDAY, Clock, enrol, make_file, make_standin, needs_attention, two_drives
from people import mounted
from phylax.agent.config.guard import Guard
from phylax.agent.files.arrivals import Arrivals, Key
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.runtime.loop import Agent
from phylax.agent.survey.surveyor import survey
from phylax.agent.survey.task import SurveyTask
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.ground.machines import System
from phylax.core.ground.values import edit_of
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.protocol import CategoryRule, CleanOrder, Message, SurveyMessage
from phylax.core.retention import ProtectEntry, ProtectKind, Reason, Rule, Scope
from phylax.core.runs.runs import RunState
from phylax.core.scheduling.rounds import Pressure
from phylax.core.survey import SurveyKind
from phylax.service.rounds import scheduler
from phylax.service.runs import carry_forward, ingest
from phylax.service.runs.reading_messages import prepared
from phylax.store.runs import runs

ONLY_C, ALL_BUT_C = VolumeChoice(only=("C:",)), VolumeChoice(but=("C:",))
ONLY_D = VolumeChoice(only=("D:",))
TUESDAY_NOON = datetime(2026, 2, 24, 12, tzinfo=UTC)


@pytest.fixture
def drives(tmp_path: Path) -> Path:
    """The folder of the machine's two drives, each with things that may go."""
    home = two_drives(tmp_path / "m")
    for drive, size in (("C", 3000), ("D", 5000)):
        make_file(tmp_path / f"m/{drive}/$Recycle.Bin/S-1/$Rold", size, days_old=99)
    make_file(home / "AppData/Local/Temp/old", 700, days_old=9)
    make_file(home / "Downloads/mine", 900, days_old=300)
    return tmp_path / "m"


@pytest.fixture
def cad(owner: Phylax, machine: Machine) -> Machine:
    edit = MachineEdit(tag="cad", client_id=machine.client_id, system=System.WINDOWS)
    return owner.machines.add(edit)


@pytest.fixture
def agent(owner: Phylax, cad: Machine, tmp_path: Path, drives: Path) -> Agent:
    agent = enrol(owner, cad.tag, tmp_path / "agent", drives)
    agent.once()
    return agent


def trash_of(drives: Path, drive: str) -> bool:
    return (drives / drive / "$Recycle.Bin/S-1/$Rold").exists()


def trash_on(owner: Phylax, tag: str, mount: str) -> tuple[int, bool]:
    """How much the trash of a volume holds, and whether the newest survey looked there."""
    ledger = owner.machines.ledger(tag)
    (size,) = (
        part.total.size
        for line in ledger.lines
        for part in line.parts
        if (line.category, part.mount) == ("trash", mount)
    )
    return size, all(v.surveyed_at is None for v in ledger.volumes if v.mount == mount)


def test_a_survey_of_one_volume_leaves_what_is_known_of_the_other(
    owner: Phylax, cad: Machine, agent: Agent, drives: Path, clock: Clock
) -> None:
    owner.runs.survey(cad.tag)
    agent.once()
    before = owner.machines.ledger(cad.tag)
    assert {share.mount: share.removable for share in before.volumes} == {"C:": 3700, "D:": 5000}
    for drive in "CD":
        make_file(drives / f"{drive}/$Recycle.Bin/S-1/$Rmore", 1000, days_old=99)
    clock.pass_(timedelta(hours=1))
    run = owner.runs.survey(cad.tag, volumes=ONLY_C)
    agent.once()
    ended = owner.runs.get(run.id)
    assert (ended.state, ended.volumes) == (RunState.DONE, ONLY_C)
    now = owner.machines.ledger(cad.tag)
    assert {share.mount: share.removable for share in now.volumes} == {"C:": 4700, "D:": 5000}
    assert {share.mount: share.surveyed_at for share in now.volumes} == {
        "C:": None, "D:": before.taken_at,
    }  # fmt: skip
    assert trash_on(owner, cad.tag, "D:") == (5000, False)
    # and once more: it is still as old as it is
    clock.pass_(timedelta(hours=1))
    owner.runs.survey(cad.tag, volumes=ONLY_C)
    agent.once()
    assert {v.mount: v.surveyed_at for v in owner.machines.ledger(cad.tag).volumes}["D:"] == (
        before.taken_at
    )
    # a whole one looks at all
    owner.runs.survey(cad.tag)
    agent.once()
    assert trash_on(owner, cad.tag, "D:") == (6000, True)
    record = [entry.text for entry in owner.records.list(machine=cad.tag)]
    assert "Looked through (C: only); nothing was touched." in record


def test_a_cleaning_of_one_volume_touches_nothing_on_the_other(
    owner: Phylax, service: Service, cad: Machine, agent: Agent, drives: Path
) -> None:
    owner.runs.survey(cad.tag)
    agent.once()
    run = owner.runs.clean(cad.tag, ["trash", "user-temp"], volumes=ALL_BUT_C)
    assert run.expected is not None and run.expected.size == 5000
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.removed is not None and ended.ended_at is not None
    assert (ended.state, ended.removed.size, ended.freed) == (RunState.DONE, 5000, 5000)
    assert trash_of(drives, "C") and not trash_of(drives, "D")
    assert (drives / "C/Users/anna/AppData/Local/Temp/old").exists()
    shares = {
        v.mount: (v.removable, v.surveyed_at is None)
        for v in owner.machines.ledger(cad.tag).volumes
    }
    assert shares["C:"] == (3700, False) and shares.get("D:", (0, True)) == (0, True)
    trends = [owner.machines.trend(cad.tag, mount=m, until=ended.ended_at + timedelta(hours=1))
              for m in ("C:", "D:")]  # fmt: skip
    assert [[c.run_id for c in trend.cleanings] for trend in trends] == [[], [run.id]]
    with service.context.db.read() as conn:
        noted = conn.execute(
            "SELECT v.mount, k.freed FROM volume_cleanings k JOIN volumes v ON v.id = k.volume_id"
        )
        assert [tuple(row) for row in noted] == [("D:", 5000)]
    text = next(owner.records.list(machine=cad.tag)).text
    assert text.startswith("Removed 1 item, 4.9 KiB (all but C:); the volumes show 4.9 KiB more")


def test_what_waits_for_a_yes_on_a_volume_goes_on_waiting_while_others_are_looked_at(
    owner: Phylax, cad: Machine, agent: Agent, drives: Path, service: Service
) -> None:
    owner.rules.put(Scope.MACHINE, cad.id, "downloads", Rule(keep_for=timedelta(days=90)))
    owner.runs.survey(cad.tag)
    agent.once()
    owner.runs.survey(cad.tag, volumes=ONLY_D)
    agent.once()
    assert [a.cause for a in needs_attention(service.context, owner)] == ["needs approval"]
    ledger = owner.machines.ledger(cad.tag)
    assert ledger.needs_approval.size == 900
    (item,) = owner.surveys.listing(ledger.survey_id, "downloads")
    assert (item.path, item.mount) == ("mine", "C:")
    consent = owner.surveys.consent(ledger.survey_id, "downloads", numbers=[item.number])
    # agreed to, but not on a volume that was chosen: it stays, and is said
    run = owner.runs.clean(cad.tag, ["downloads"], consents=[consent.id], volumes=ONLY_D)
    assert run.expected is not None and run.expected.count == 0
    agent.once()
    (outcome,) = owner.runs.get(run.id).outcomes
    assert [(stay.reason, stay.count) for stay in outcome.left] == [(Reason.OTHER_VOLUME, 1)]
    assert owner.runs.get(run.id).state is RunState.DONE
    assert (drives / "C/Users/anna/Downloads/mine").exists()
    consent = owner.surveys.consent(
        owner.machines.ledger(cad.tag).survey_id, "downloads", numbers=None
    )
    owner.runs.clean(cad.tag, ["downloads"], consents=[consent.id], volumes=ONLY_C)
    agent.once()
    assert not (drives / "C/Users/anna/Downloads/mine").exists()


def test_a_survey_that_is_told_twice_carries_the_same_over_once(
    owner: Phylax, cad: Machine, agent: Agent, drives: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An agent that is cut off after its survey looks again, and may list more than before."""
    owner.rules.put(Scope.MACHINE, cad.id, "downloads", Rule(keep_for=timedelta(days=90)))
    make_file(drives / "D/Downloads/other", 800, days_old=300)
    owner.runs.survey(cad.tag)
    agent.once()
    sent: list[Message] = []
    report = agent._link.report
    monkeypatch.setattr(
        agent._link, "report", lambda message, age: (sent.append(message), report(message, age=age))
    )
    owner.runs.survey(cad.tag, volumes=ONLY_D)
    agent.once()

    def standing() -> object:
        ledger = owner.machines.ledger(cad.tag)
        listing = owner.surveys.listing(ledger.survey_id, "downloads")
        return ledger.volumes, ledger.needs_approval, [(item.path, item.mount) for item in listing]

    before = standing()
    for message in sent:
        if message.kind in ("listing", "survey"):
            report(message.model_copy(update={"id": f"again-{message.id}"}), age=0)
    assert standing() == before
    assert before[2] == [("mine", "C:")]  # type: ignore[index]


def test_what_a_machine_says_of_other_times_does_not_count(
    owner: Phylax, cad: Machine, agent: Agent, monkeypatch: pytest.MonkeyPatch
) -> None:
    report = agent._link.report

    def forged(message: Message, age: float) -> None:
        if isinstance(message, SurveyMessage):
            lines = [
                line.model_copy(update={"surveyed_at": TUESDAY_NOON}) for line in message.lines
            ]
            message = message.model_copy(update={"lines": tuple(lines)})
        report(message, age=age)

    monkeypatch.setattr(agent._link, "report", forged)
    owner.runs.survey(cad.tag)
    agent.once()
    assert {v.surveyed_at for v in owner.machines.ledger(cad.tag).volumes} == {None}


def test_a_listing_too_long_to_be_carried_over_waits_for_another_look(
    owner: Phylax, cad: Machine, agent: Agent, drives: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    owner.rules.put(Scope.MACHINE, cad.id, "downloads", Rule(keep_for=timedelta(days=90)))
    for number in range(3):
        make_file(drives / f"C/Users/anna/Downloads/more-{number}", 100, days_old=300)
    owner.runs.survey(cad.tag)
    agent.once()
    monkeypatch.setattr(carry_forward, "MOST_LISTED", 3)
    owner.runs.survey(cad.tag, volumes=ONLY_D)
    agent.once()
    ledger = owner.machines.ledger(cad.tag)
    (line,) = (line for line in ledger.lines if line.category == "downloads")
    assert (line.total.count, line.needs_approval.count) == (4, 0)
    assert list(owner.surveys.listing(ledger.survey_id, "downloads")) == []
    with pytest.raises(RefusedError, match="proposed nothing"):
        owner.surveys.consent(ledger.survey_id, "downloads", numbers=None)


def test_what_is_carried_over_is_that_of_the_newest_survey_when_it_is_written(
    owner: Phylax, service: Service, cad: Machine, agent: Agent
) -> None:
    """It is read before the file is held; another survey may come between the two."""
    owner.runs.survey(cad.tag)
    agent.once()
    stale = carry_forward.Carried(before_id=0)
    survey = owner.runs.survey(cad.tag, volumes=ONLY_C)
    order = agent._link.next_order(0)
    with service.context.db.read() as conn:
        run = runs.run(conn, survey.id)
    assert run is not None and order.run_id == run.id
    at = service.context.clock()
    message = SurveyMessage(id="late-survey", run_id=run.id, survey_kind=SurveyKind.FIRST,
    started_at=at,
                            ended_at=at, lines=())  # fmt: skip
    with service.context.db.write() as conn:
        ready = prepared(message)
        ingest.apply(
            conn, cad.id, message, at=service.context.now(), ready=ready, carried_over=stale
        )
    assert trash_on(owner, cad.tag, "D:") == (5000, False)


def test_what_a_partial_look_cannot_know_stays_as_it_was(
    owner: Phylax, cad: Machine, agent: Agent, drives: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What the protect list covers, how long a routine takes; and what is expected of it."""
    owner.protections.add(ProtectEntry(kind=ProtectKind.PATTERN, pattern="*.hull"))
    make_file(drives / "D/$Recycle.Bin/S-1/$Rboat.hull", 400, days_old=99)
    routine = next(r for r in owner.routines.list() if r.name == "Light weekly")
    plan = edit_of(type(TUESDAY), TUESDAY, machine_ids=(cad.id,), client_ids=(),
                   machines_like=None, routine_id=routine.id)  # fmt: skip
    usual = owner.rounds.preview(plan).expected_duration
    owner.runs.survey(cad.tag)
    agent.once()

    def covered() -> tuple[int, int]:
        (entry,) = owner.protections.list(cad.tag)
        return entry.covers, entry.kept

    before = covered()
    owner.routines.run(routine.id, [cad.id], volumes=ONLY_C)
    orders: list[CleanOrder] = []
    carry_out = agent._order_runner.carry_out
    monkeypatch.setattr(
        agent._order_runner, "carry_out", lambda order: (orders.append(order), carry_out(order))
    )
    agent.once()
    assert [order.expected and order.expected.size for order in orders] == [3000 + 700 + 900]
    assert covered() == before == (1, 1)
    assert owner.rounds.preview(plan).expected_duration == usual
    owner.routines.run(routine.id, [cad.id])
    agent.once()
    assert owner.rounds.preview(plan).expected_duration != usual


def test_what_is_left_on_another_volume_is_no_reason_for_a_further_pass(
    owner: Phylax, cad: Machine, agent: Agent, drives: Path
) -> None:
    make_file(drives / "D/$Recycle.Bin/S-1/$Rlarge", 5_000_000, days_old=99)
    run = owner.runs.clean(cad.tag, ["trash"], volumes=ONLY_C)
    agent.once()
    assert owner.runs.get(run.id).passes == 1


@pytest.mark.parametrize(
    ("choice", "why"),
    [
        (VolumeChoice(but=("E:",)), "there is no volume E:; there are C: and D:"),
        (VolumeChoice(only=("/home",)), "there is no volume /home"),
        (VolumeChoice(but=("C:", "D:")), "no volume is left of C: and D:"),
    ],
)
def test_a_volume_that_is_not_there_is_refused(
    owner: Phylax, cad: Machine, agent: Agent, choice: VolumeChoice, why: str
) -> None:
    with pytest.raises(RefusedError, match=why):
        owner.runs.clean(cad.tag, ["trash"], volumes=choice)
    with pytest.raises(RefusedError, match=why):
        owner.runs.survey(cad.tag, volumes=choice)
    routine = next(owner.routines.list())
    with pytest.raises(RefusedError, match=why):
        owner.routines.run(routine.id, [cad.id], volumes=choice)
    assert list(owner.runs.list()) == []


def test_volumes_chosen_before_a_machine_ever_called_are_looked_at_when_it_does(
    owner: Phylax, cad: Machine, drives: Path, tmp_path: Path
) -> None:
    """A slip of the keys must not clean what was to be left out."""
    agent = enrol(owner, cad.tag, tmp_path / "agent", drives)
    slip = owner.runs.clean(cad.tag, ["trash"], volumes=VolumeChoice(but=("E:",)))
    meant = owner.runs.clean(cad.tag, ["trash"], volumes=VolumeChoice(but=("D:",)))
    agent.once()
    refused = owner.runs.get(slip.id)
    assert (refused.state, refused.reason) == (
        RunState.FAILED, "there is no volume E:; there are C: and D:",
    )  # fmt: skip
    assert owner.runs.get(meant.id).state is RunState.DONE
    assert trash_of(drives, "D") and not trash_of(drives, "C")


def test_a_drive_that_was_taken_away_meanwhile_costs_the_run_and_nothing_else(
    owner: Phylax, cad: Machine, agent: Agent, drives: Path
) -> None:
    owner.runs.survey(cad.tag)
    agent.once()
    run = owner.runs.clean(cad.tag, ["trash"], volumes=ONLY_D)
    state = drives / "machine.toml"
    said = tomllib.loads(state.read_text())
    said["volumes"].pop()
    state.write_text(tomli_w.dumps(said))
    agent._crew.machine = StandInMachine(drives)
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.FAILED
    assert ended.reason == "it has none of the chosen volumes (D: only); it has C:"
    assert trash_of(drives, "C") and trash_of(drives, "D")


def test_a_round_keeps_to_its_volumes_each_time_and_when_it_is_done_again(
    owner: Phylax, service: Service, cad: Machine, agent: Agent, drives: Path, clock: Clock
) -> None:
    plan = edit_of(type(TUESDAY), TUESDAY, machine_ids=(cad.id,), client_ids=(),
                   machines_like=None, volumes=ONLY_D)  # fmt: skip
    made = owner.rounds.add(plan)
    assert made.plan.volumes == ONLY_D
    clock.pass_(timedelta(days=1, hours=10))
    scheduler.tick(service.context)
    (run,) = owner.runs.list()
    assert run.volumes == ONLY_D
    agent.once()
    assert trash_of(drives, "C") and not trash_of(drives, "D")
    # the one of next week is missed; what is done instead of it is of the same volumes
    clock.pass_(timedelta(days=8))
    scheduler.tick(service.context)
    missed = next(iter(owner.runs.list()))
    assert missed.state is RunState.MISSED
    (again,) = owner.runs.again([missed.id])
    assert again.volumes == ONLY_D
    agent.once()
    assert trash_of(drives, "C")


def test_a_round_says_beforehand_on_which_machines_there_is_nothing_to_do(
    owner: Phylax, machine: Machine, cad: Machine, agent: Agent, tmp_path: Path
) -> None:
    make_standin(tmp_path / "other")
    enrol(owner, machine.tag, tmp_path / "other-agent", tmp_path / "other").once()
    plan = edit_of(type(TUESDAY), TUESDAY, machine_ids=(cad.id, machine.id), client_ids=(),
                   machines_like=None, volumes=VolumeChoice(only=("D:",)))  # fmt: skip
    assert owner.rounds.preview(plan).without_volumes == (machine.tag,)
    with pytest.raises(RefusedError, match="there is no volume E:; there are /, C: and D:"):
        owner.rounds.add(edit_of(type(plan), plan, volumes=VolumeChoice(but=("E:",))))


def test_a_round_by_space_looks_at_its_own_volumes_alone(
    owner: Phylax, cad: Machine, agent: Agent, drives: Path
) -> None:
    plan = edit_of(
        type(TUESDAY), TUESDAY, machine_ids=(cad.id,), client_ids=(), machines_like=None,
        recurrence=None, pressure=Pressure(below_percent=50), volumes=ONLY_D,
    )  # fmt: skip
    owner.rounds.add(plan)
    with (drives / "C/Users/anna/film").open("wb") as file:
        file.truncate(600_000_000)
    agent.once()
    assert list(owner.runs.list()) == [], "C: is short of space, which is not its business"
    with (drives / "D/film").open("wb") as file:
        file.truncate(600_000_000)
    agent.once()
    assert [run.volumes for run in owner.runs.list()] == [ONLY_D]


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_look_that_leaves_a_volume_out_keeps_since_when_its_folders_lie_there(
    tmp_path: Path,
) -> None:
    """Of a volume that was looked at only what was seen: a folder's number may be another's."""
    rules = tuple(
        CategoryRule(category=key, rule=rule(folders=(str(tmp_path / "disk"),), off=False))
        if key == "own-folders" else CategoryRule(category=key, rule=rule())
        for key in ("user-temp", "own-folders")
    )  # fmt: skip
    home = tmp_path / "home/anna"
    home.mkdir(parents=True)
    with mounted("tmpfs", tmp_path / "disk") as disk:
        machine = NothingRuns([str(home)], own_folders=[str(disk)])
        for folder in (home / ".tmp/a", home / ".tmp/gone", disk / "b"):
            make_file(folder / "file", days_old=9)
        device = disk.stat().st_dev
        by_file = {
            folder.stat().st_ino: folder.name for folder in (*home.glob(".tmp/*"), disk / "b")
        }

        def look(volumes: VolumeChoice, known: dict[Key, int]) -> dict[Key, int]:
            arrivals = Arrivals(known, 2**31)
            task = SurveyTask(rules, now(), volumes=volumes, remember=True)
            survey(machine, Guard(machine), task, arrivals=arrivals)
            return arrivals.folders

        def names(folders: dict[Key, int]) -> set[str]:
            return {by_file[key[1]] for key in folders if key[1] in by_file}

        whole = look(VolumeChoice(), {})
        assert names(whole) == {"a", "gone", "b"}
        known = dict.fromkeys(whole, 1000)
        shutil.rmtree(home / ".tmp/gone")
        without = look(VolumeChoice(but=(str(disk),)), known)
        assert names(without) == {"a", "b"}
        assert {at for key, at in without.items() if key[0] == device} == {1000}
        shutil.rmtree(disk / "b")
        assert names(look(VolumeChoice(only=(str(disk),)), without)) == {"a"}
