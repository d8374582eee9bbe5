"""A routine's steps of long work: which order each is, and which are left out beforehand."""

from __future__ import annotations

from datetime import datetime
from sqlite3 import Connection

from phylax.core.actions import ArrangeDisks, InstallUpdates, Restart
from phylax.core.checks.kind import kinds
from phylax.core.protocol import ActOrder, CheckOrder, CompareOrder
from phylax.core.runs.runs import Run
from phylax.core.scheduling.routines import RunStep, StepKind
from phylax.service.upkeep.asking import comes_back_alone, stops, why_stopped
from phylax.store.checks import checks
from phylax.store.runs import step_lengths

_ACTIONS: dict[StepKind, InstallUpdates | ArrangeDisks | Restart] = {
    StepKind.UPDATE: InstallUpdates(),
    StepKind.ARRANGE: ArrangeDisks(),
    StepKind.RESTART: Restart(),
}
_SCANS = {StepKind.QUICK_SCAN: "quick", StepKind.FULL_SCAN: "full"}


def order_of(
    conn: Connection, run: Run, kind: StepKind, lease: str, ends: datetime | None, *,
    snapshot: bool,
) -> CheckOrder | ActOrder | CompareOrder | None:  # fmt: skip
    """The order that a step of long work is; None: it is none."""
    if kind is StepKind.COMPARE:
        return CompareOrder(run_id=run.id, lease=lease)
    if kind is StepKind.CHECK:
        keys = tuple(key for key, checked in kinds().items() if checked.in_step)
        return check_order(conn, run, keys, {}, lease, ends, snapshot=snapshot)
    if kind in _SCANS:
        modes = {"malware": _SCANS[kind]}
        return check_order(conn, run, ("malware",), modes, lease, ends, snapshot=snapshot)
    if kind in _ACTIONS:
        action = _ACTIONS[kind]
        return ActOrder(
            run_id=run.id, lease=lease, action=action, end_by=ends,
            earlier=step_lengths.earlier(conn, run.machine_id, action.action),
            protect_findings=why_stopped(conn, run.machine_id, action)[:500],
        )  # fmt: skip
    return None


def check_order(
    conn: Connection,
    run: Run,
    keys: tuple[str, ...],
    modes: dict[str, str],
    lease: str,
    ends: datetime | None,
    *,
    snapshot: bool = False,
) -> CheckOrder:
    """With how long each took before, for the time left."""
    earlier = {key: checks.earlier(conn, run.machine_id, key, modes.get(key, "")) for key in keys}
    return CheckOrder(
        run_id=run.id, lease=lease, checks=keys, modes=modes, end_by=ends, snapshot=snapshot,
        earlier={key: runs for key, runs in earlier.items() if runs},
    )  # fmt: skip


def left_out_beforehand(
    conn: Connection, run: Run, steps: tuple[RunStep, ...], end_by: int | None, *, at: int
) -> dict[int, str]:
    """Steps still to do that are not begun, by number, and why: findings stand in their way, or
    their window has no room for what they take."""
    newest = checks.newest(conn, [run.machine_id], could_look=True)
    stopped = stops(newest)
    takes = step_lengths.expected_on(conn, run.machine_id)
    why: dict[int, str] = {}
    for step in steps:
        key = step.kind.length_key
        if reason := stopped.get(step.kind):
            why[step.number] = f"findings first: {reason}"[:500]
        elif end_by is not None and key in takes and at + takes[key] > end_by:
            minutes = round(takes[key] / 60)
            why[step.number] = f"it takes about {minutes} min, and its window ends before"
    return why


def is_agents(conn: Connection, machine_id: int, step: RunStep) -> bool:
    """Whether the agent does a step on this machine: a restart where it comes back alone."""
    if step.kind is StepKind.RESTART:
        return comes_back_alone(conn, machine_id) is True
    return step.kind.by_agent
