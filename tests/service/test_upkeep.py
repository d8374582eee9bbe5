"""Long work over the service: updates, programs, disks, restarts, before and after, advice."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from pydantic import ValidationError

from conftest import Service
from helpers import enrol, make_standin
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.machines.standin_upkeep import (
    PretendedDisk,
    PretendedRestart,
    read_upkeep,
)
from phylax.agent.runtime.loop import Agent
from phylax.agent.runtime.reporter import ShutDown
from phylax.client import NotAllowedError, NotFoundError, Phylax, RefusedError
from phylax.core.actions import (
    ActEnd,
    ActionPart,
    ArrangeDisks,
    InstallUpdates,
    RemoveProgram,
    RepairFileSystem,
    Restart,
    TryRemoval,
)
from phylax.core.attention import Cause
from phylax.core.checks.findings import Finding, Result, Severity, looked
from phylax.core.clients.shop import Machine, ShopEdit
from phylax.core.desk.advice import AdviceEdit, AdviceKind, AdviceStatus
from phylax.core.inventory import HardwareListed, ProgramsListed
from phylax.core.inventory.hardware import MemorySlot
from phylax.core.inventory.programs import Along
from phylax.core.protocol import ActionMessage, CheckedMessage, InventoryMessage
from phylax.core.runs.runs import RunState
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.service.runs import ingest
from phylax.store.runs import leases, step_lengths
from upkeep_machine import (
    BROKEN,
    CHAT,
    FAILING,
    FONTS,
    NEWER_CHAT,
    SCREEN,
    SPINS,
    WALL,
    act,
    check,
    comes_back_alone,
    has,
)


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    make_standin(tmp_path / "m")
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


# --- updates ---------------------------------------------------------------------------------


def test_updates_are_listed_installed_and_in_the_record(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, updates=[WALL, NEWER_CHAT], programs=[CHAT])
    check(owner, machine, agent, "updates", "programs")
    missing = owner.upkeep.updates(machine.tag)
    assert [m.update.name for m in missing] == ["wall", "Harbour Chat"], "security comes first"
    run = act(owner, machine, agent, InstallUpdates())
    assert run.state is RunState.DONE
    parts = {part.target: part for part in owner.upkeep.acted(run.id)}
    assert parts["wall"].needs_restart and not parts["Harbour Chat"].needs_restart
    assert owner.upkeep.updates(machine.tag) == [], "it is looked at again"
    (row,) = owner.upkeep.installed("harbour chat")
    assert row.program.version == "4.2"
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if e.run_id == run.id]
    assert entry.text.startswith("Install updates.")
    assert "wall: 1.0, now 1.1" in entry.text and "Harbour Chat: 4.1, now 4.2" in entry.text
    again = act(owner, machine, agent, InstallUpdates())
    assert [part.end for part in owner.upkeep.acted(again.id)] == [ActEnd.NOTHING]


def test_an_update_that_fails_costs_only_itself_and_the_run_says_so(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, updates=[WALL, NEWER_CHAT], failing=["wall"])
    run = act(owner, machine, agent, InstallUpdates())
    assert run.state is RunState.PARTLY and "wall" in run.reason
    assert [m.update.name for m in owner.upkeep.updates(machine.tag)] == ["wall"]


def test_the_oldest_missing_security_update_is_the_alarm_after_the_shops_own_days(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    shop = owner.shop()
    owner.change_shop(shop, ShopEdit(name=shop.name, zone=shop.zone, security_days=3))
    has(tmp_path, updates=[WALL, NEWER_CHAT])
    check(owner, machine, agent, "updates")

    def since(days: float) -> None:
        with context.db.write() as conn:
            conn.execute("UPDATE missing_updates SET since = ?", (context.now() - 86_400 * days,))

    def alarms() -> list[str]:
        monitor.whole(context)
        return [a.reason for a in owner.today().needs_attention if a.cause is Cause.UPDATES_OVERDUE]

    since(2)
    assert alarms() == []
    since(4)
    assert alarms() == ["Lacks security updates, the oldest for 4 days"]
    has(tmp_path, updates=[WALL.model_copy(update={"version": "1.2"})])
    check(owner, machine, agent, "updates")
    assert alarms(), "a still newer one does not start the count anew"
    has(tmp_path, updates_unread="its lists cannot be had")
    check(owner, machine, agent, "updates")
    assert alarms(), "who could not look hides nothing"
    has(tmp_path)
    check(owner, machine, agent, "updates")
    assert alarms() == []


# --- programs --------------------------------------------------------------------------------


def removal(*along: Along, version: str = "4.1", days: int = 1, **more: bool) -> RemoveProgram:
    return RemoveProgram(
        program="chat", version=version, along=along, backup_days=days,
        not_reinstallable=more.get("not_reinstallable", False),
    )  # fmt: skip


def test_a_program_is_removed_as_the_trial_said_and_not_otherwise(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, programs=[CHAT, FONTS, SCREEN], needs={"chat": ["fonts"]})
    check(owner, machine, agent, "programs")
    fonts = Along(name="fonts", version="1.0")
    with pytest.raises(RefusedError, match="Try first"):
        owner.upkeep.act(machine.tag, removal(fonts))
    run = act(owner, machine, agent, TryRemoval(program="chat", version="4.1"))
    (part,) = owner.upkeep.acted(run.id)
    assert part.tried is not None and part.tried.along == (fonts,)
    with pytest.raises(RefusedError, match="with it would be removed: fonts"):
        owner.upkeep.act(machine.tag, removal())
    with pytest.raises(RefusedError, match="Try first"):
        owner.upkeep.act(machine.tag, removal(fonts, version="4.0"))
    with pytest.raises(RefusedError, match="90 days old"):
        owner.upkeep.act(machine.tag, removal(fonts, days=90))
    run = act(owner, machine, agent, removal(fonts, days=90), "the client needs it gone today")
    assert run.state is RunState.DONE
    assert [row.program.key for row in owner.upkeep.installed()] == ["screen"]
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if e.run_id == run.id]
    assert "the client needs it gone today" in entry.text


def test_what_came_meanwhile_is_not_removed(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, programs=[CHAT])
    act(owner, machine, agent, TryRemoval(program="chat", version="4.1"))
    run = owner.upkeep.act(machine.tag, removal())
    has(tmp_path, programs=[CHAT, FONTS], needs={"chat": ["fonts"]})
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.PARTLY and "fonts would be removed too" in ended.reason
    assert len(read_upkeep(tmp_path / "m").programs) == 2


def test_essential_ones_and_those_that_cannot_come_back(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, programs=[CHAT, SCREEN], gone_for_good=["chat"])
    run = act(owner, machine, agent, TryRemoval(program="screen", version="1"))
    assert run.state is RunState.PARTLY and "the system needs" in run.reason
    act(owner, machine, agent, TryRemoval(program="chat", version="4.1"))
    with pytest.raises(RefusedError, match="cannot be had again"):
        owner.upkeep.act(machine.tag, removal())
    assert act(owner, machine, agent, removal(not_reinstallable=True)).state is RunState.DONE


def test_over_the_shop_by_words_trial_use_and_version(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    old = datetime.now(UTC) - timedelta(days=800)
    trial = FONTS.model_copy(update={"trial": True, "last_used": old})
    has(tmp_path, programs=[CHAT, trial, SCREEN])
    check(owner, machine, agent, "programs")

    def keys(**asked: object) -> set[str]:
        return {row.program.key for row in owner.upkeep.installed(**asked)}  # type: ignore[arg-type]

    assert keys() == {"chat", "fonts", "screen"}
    assert keys(words="harbour") == {"chat"}
    assert keys(words="harbour", not_version="4.1") == set()
    assert keys(trial=True) == {"fonts"}
    assert keys(unused_days=365) == {"fonts"}, "what nobody knows the use of is not unused"
    assert keys(words="100%_") == set()


# --- disks -----------------------------------------------------------------------------------


def test_findings_forbid_arranging_until_somebody_has_seen_to_them(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, disks={"/": PretendedDisk(facts=SPINS, files=100, pieces=400)})
    (tmp_path / "m/checks.toml").write_text(BROKEN)
    check(owner, machine, agent, "file-system")
    with pytest.raises(RefusedError, match="It has errors"):
        owner.upkeep.act(machine.tag, ArrangeDisks())
    repair = RepairFileSystem(volume="/", backup_days=2)
    run = act(owner, machine, agent, repair)
    assert run.state is RunState.DONE
    assert owner.upkeep.acted(run.id)[0].needs_restart
    again = act(owner, machine, agent, repair)
    assert owner.upkeep.acted(again.id)[0].end is ActEnd.NOTHING, "at most once"
    StandInMachine(tmp_path / "m").upkeep.start_anew(datetime.now(UTC))
    check(owner, machine, agent, "file-system")
    run = act(owner, machine, agent, ArrangeDisks())
    assert owner.upkeep.acted(run.id)[0].before == "400 pieces of 100 files"


def test_a_failing_disk_is_neither_arranged_nor_repaired_nor_updated(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, updates=[WALL])
    (tmp_path / "m/checks.toml").write_text(FAILING)
    check(owner, machine, agent, "disk-health")
    for action in (ArrangeDisks(), RepairFileSystem(volume="/", backup_days=0), InstallUpdates()):
        with pytest.raises(RefusedError, match="save the data first"):
            owner.upkeep.act(machine.tag, action)


def test_what_is_found_after_it_was_asked_for_counts(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, updates=[WALL])
    check_run = owner.runs.check(machine.tag, ("disk-health",))
    run = owner.upkeep.act(machine.tag, InstallUpdates())
    (tmp_path / "m/checks.toml").write_text(FAILING)
    agent.once()
    assert owner.runs.get(check_run.id).state is RunState.DONE
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.PARTLY and "findings first" in ended.reason
    assert read_upkeep(tmp_path / "m").updates == (WALL,)


def test_a_disk_that_fails_slowly_is_seen_by_its_movement(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    (tmp_path / "m/checks.toml").write_text(
        '[disks."disk 0"]\nfailing = 0\n"pending sectors" = 0\n'
        '[grows."disk 0"]\n"pending sectors" = 6\n'
    )
    worst = []
    for _ in range(4):
        check(owner, machine, agent, "disk-health")
        (kept,) = owner.checks.of(machine.tag)
        worst.append([finding.severity for finding in kept.checked.findings])
    assert worst == [[], [Severity.WARNING], [Severity.FAILING], [Severity.FAILING]]


# --- restart ---------------------------------------------------------------------------------


def test_a_restart_is_asked_about_first_and_done_once(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, restart=PretendedRestart(usable_after=30))
    with pytest.raises(RefusedError, match="does it come back alone"):
        owner.upkeep.act(machine.tag, Restart(warn_minutes=0))
    comes_back_alone(owner, machine, "no")
    with pytest.raises(RefusedError, match="who is at it"):
        owner.upkeep.act(machine.tag, Restart(warn_minutes=0))
    comes_back_alone(owner, machine)
    boot = StandInMachine(tmp_path / "m").boot()
    run = act(owner, machine, agent, Restart(warn_minutes=0))
    assert run.state is RunState.DONE
    assert StandInMachine(tmp_path / "m").boot() != boot
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if e.run_id == run.id]
    assert "restarted" in entry.text


def test_a_restart_is_refused_by_the_machine_itself(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    comes_back_alone(owner, machine)
    guard = tmp_path / "agent/guard.toml"
    guard.write_text(guard.read_text().replace('restart = "asked"', 'restart = "never"'))
    from phylax.agent.config.home import AgentHome

    run = act(owner, machine, Agent(AgentHome(tmp_path / "agent")), Restart(warn_minutes=0))
    assert run.state is RunState.PARTLY and "never restarted" in run.reason


def test_one_that_does_not_come_back_needs_somebody(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    comes_back_alone(owner, machine)
    has(tmp_path, restart=PretendedRestart(comes_back=False))
    run = owner.upkeep.act(machine.tag, Restart(warn_minutes=0))
    worker = threading.Thread(target=agent.once, daemon=True)
    worker.start()
    folder = tmp_path / "m"
    while not read_upkeep(folder).restart.is_off:
        time.sleep(0.05)
    with context.db.write() as conn:
        conn.execute("UPDATE runs SET lease_until = ? WHERE id = ?", (context.now() - 3600, run.id))
        conn.execute("UPDATE machines SET seen_at = ?", (context.now() - 3600,))
    monitor.whole(context)
    (gone,) = [a for a in owner.today().needs_attention if a.cause is Cause.NOT_BACK]
    assert gone.run_id == run.id
    StandInMachine(folder).upkeep.start_anew(datetime.now(UTC))
    worker.join(timeout=60)
    assert not worker.is_alive()
    agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE
    monitor.whole(context)
    assert not [a for a in owner.today().needs_attention if a.cause is Cause.NOT_BACK]


def test_an_action_at_an_agreed_time_waits_for_it(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    comes_back_alone(owner, machine)
    now = datetime.fromtimestamp(context.now(), UTC)
    with pytest.raises(RefusedError, match="within a week"):
        owner.upkeep.act(machine.tag, Restart(), at=now + timedelta(days=30))
    at = now + timedelta(hours=3)
    run = owner.upkeep.act(machine.tag, Restart(warn_minutes=0), at=at)
    agent.once()
    assert owner.runs.get(run.id).state is RunState.WAITING
    with context.db.write() as conn:
        conn.execute("UPDATE runs SET due_at = ? WHERE id = ?", (context.now() - 1, run.id))
    agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE


# --- calling off, guarding, mistakes -----------------------------------------------------------


def test_a_scan_of_twenty_thousand_files_is_called_off(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, files=20_000, files_per_second=200)
    run = owner.runs.check(machine.tag, ("malware",), {"malware": "full"})
    worker = threading.Thread(target=agent.once)
    worker.start()
    shares = []
    while (now := owner.runs.get(run.id)).progress is None or now.progress.items < 100:
        time.sleep(0.1)
    for _ in range(5):
        progress = owner.runs.get(run.id).progress
        assert progress is not None and progress.total_items == 20_000
        shares.append(progress.items)
        time.sleep(0.2)
    assert shares == sorted(shares)
    owner.runs.call_off(run.id)
    worker.join(timeout=60)
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.CALLED_OFF
    assert owner.checks.of(machine.tag) == [], "a scan that was not ended says nothing"


def test_an_agent_that_is_ended_in_the_middle_goes_on_and_the_run_ends_truly(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    from phylax.agent.config.home import AgentHome

    has(tmp_path, updates=[WALL, NEWER_CHAT], seconds_each=1)
    run = owner.upkeep.act(machine.tag, InstallUpdates())

    def end_it() -> None:
        while len(read_upkeep(tmp_path / "m").updates) > 1:
            time.sleep(0.02)
        agent._stopping = True

    worker = threading.Thread(target=end_it)
    worker.start()
    with pytest.raises(ShutDown):
        agent.once()
    worker.join()
    assert not owner.runs.get(run.id).state.has_ended
    Agent(AgentHome(tmp_path / "agent")).once()
    ended = owner.runs.get(run.id)
    assert (ended.state, ended.resumed) == (RunState.DONE, 1)
    parts = {part.target: part.end for part in owner.upkeep.acted(run.id)}
    assert parts == {"wall": ActEnd.DONE, "Harbour Chat": ActEnd.DONE}
    assert read_upkeep(tmp_path / "m").updates == ()


def test_the_machines_own_guard_forbids_actions(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    from phylax.agent.config.home import AgentHome

    has(tmp_path, updates=[WALL])
    guard = tmp_path / "agent/guard.toml"
    text = guard.read_text().replace("never_checks = []", 'never_checks = ["install-updates"]')
    guard.write_text(text)
    run = act(owner, machine, Agent(AgentHome(tmp_path / "agent")), InstallUpdates())
    assert run.state is RunState.PARTLY and "guard" in run.reason
    assert read_upkeep(tmp_path / "m").updates == (WALL,)


def test_what_cannot_be_asked_says_why(
    service: Service, owner: Phylax, machine: Machine, agent: Agent
) -> None:
    with pytest.raises(ValidationError):
        RemoveProgram(program="chat", version="1", backup_days=-1)
    with pytest.raises(NotFoundError):
        owner.upkeep.comparison(999)
    with pytest.raises(NotFoundError):
        owner.upkeep.acted(999)
    with service.as_("petra") as desk:
        with pytest.raises(NotAllowedError):
            desk.upkeep.act(machine.tag, InstallUpdates())
        with pytest.raises(NotAllowedError):
            desk.upkeep.advise(machine.tag, AdviceEdit(kind=AdviceKind.OTHER, text="x"))
        assert desk.upkeep.updates(machine.tag) == []


def test_another_machines_results_are_not_taken(
    owner: Phylax, machine: Machine, agent: Agent, context: Context
) -> None:
    run = owner.upkeep.act(machine.tag, InstallUpdates())
    agent.once()
    assert [part.end for part in owner.upkeep.acted(run.id)] == [ActEnd.NOTHING]
    with context.db.read() as conn:
        assert not leases.is_on_lease(conn, run.id, at=context.now())


def test_a_list_that_is_older_or_could_not_be_read_replaces_nothing(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    from phylax.store.checks import inventories

    has(tmp_path, programs=[CHAT])
    check(owner, machine, agent, "programs")
    now = datetime.fromtimestamp(context.now(), UTC)
    with context.db.write() as conn:
        old = ProgramsListed(taken_at=now - timedelta(days=9), programs=(FONTS,))
        inventories.put(conn, machine.id, old)
        unread = ProgramsListed(taken_at=now + timedelta(days=1), unread="no right")
        inventories.put(conn, machine.id, unread)
    assert [row.program.key for row in owner.upkeep.installed()] == ["chat"]
    (listed,) = owner.upkeep.inventories(machine.tag)
    assert isinstance(listed, ProgramsListed)
    assert listed.unread == "no right" and listed.programs == (CHAT,)


# --- advice ----------------------------------------------------------------------------------


def test_advice_follows_the_figures_until_somebody_has_said_something_to_it(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    slots = [MemorySlot(place="Slot 1", size=2 * 2**30), MemorySlot(place="Slot 2")]
    has(tmp_path, most_memory=16 * 2**30, slots=slots, pressed=40.0)
    check(owner, machine, agent, "hardware")
    (listed,) = owner.upkeep.inventories(machine.tag)
    assert isinstance(listed, HardwareListed)

    def memory() -> list[AdviceStatus]:
        listed = owner.upkeep.advice(machine.tag)
        return [advice.status for advice in listed if advice.kind is AdviceKind.MEMORY]

    if listed.memory is None:
        assert memory() == []
    else:
        assert memory() == [AdviceStatus.PROPOSED]
    given = owner.upkeep.advise(
        machine.tag, AdviceEdit(kind=AdviceKind.PORTABLE, text="A portable version of the reader.")
    )
    assert given.status is AdviceStatus.TOLD
    after = owner.upkeep.set_status(given.id, AdviceStatus.DECLINED, "too dear")
    assert (after.status, after.comment, after.by) == (
        AdviceStatus.DECLINED,
        "too dear",
        "Ines Marrow",
    )
    texts = [entry.text for entry in owner.records.list(machine=machine.tag)]
    assert any("declined" in text and "too dear" in text for text in texts)


def test_a_clock_that_is_ahead_keeps_no_later_list_and_no_later_check_out(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    now = datetime.fromtimestamp(context.now(), UTC)
    far = now + timedelta(days=4000)
    run_id = owner.runs.check(machine.tag, ("programs", "malware")).id
    agent.once()
    bad = Finding(severity=Severity.WARNING, what="Malware: Made.For.A.Test")
    checked = looked("condition", "", far, [bad]).model_copy(update={"ended_at": far})
    listed = ProgramsListed(taken_at=far, programs=(FONTS,))
    message = ActionMessage(
        id="acted-far", run_id=run_id, action="install-updates", started_at=now, ended_at=far,
        parts=(ActionPart(target="wall", end=ActEnd.DONE),),
    )  # fmt: skip
    with context.db.write() as conn:
        for told in (
            InventoryMessage(id="listed-far", run_id=run_id, inventory=listed),
            CheckedMessage(id="checked-far", run_id=run_id, checked=(checked,)),
            message,
        ):
            ingest.apply(conn, machine.id, told, at=context.now())
        lengths = step_lengths.expected_on(conn, machine.id)
    assert lengths.get("install-updates", 0) < 3600, "an hour, not eleven years"
    has(tmp_path, programs=[CHAT])
    check(owner, machine, agent, "programs", "condition")
    assert [row.program.key for row in owner.upkeep.installed()] == ["chat"]
    results = {kept.checked.check: kept.checked.result for kept in owner.checks.of(machine.tag)}
    assert results["condition"] is Result.CLEAN
