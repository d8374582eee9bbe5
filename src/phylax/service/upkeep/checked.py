"""What machines tell of checks."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.checks.disk_health import findings
from phylax.core.checks.findings import Checked, Result, looked
from phylax.core.ground.events import EventKind
from phylax.core.ground.quantities import count
from phylax.core.ground.values import from_seconds
from phylax.core.protocol import CheckedMessage
from phylax.core.runs.runs import Run
from phylax.core.scheduling.routines import StepKind
from phylax.store.checks import checks
from phylax.store.file import events

_EACH_TOLD = 3
MOST_TOLD = 20


def take(conn: Connection, run: Run, message: CheckedMessage, *, at: int) -> None:
    """Keep what a run's checks came to; counters of disks are judged by how they moved."""
    for checked in message.checked:
        # a clock that is ahead must not hide all later checks
        ended = min(checked.ended_at, from_seconds(at))
        believed = checked.model_copy(update={"ended_at": ended})
        checks.add(conn, run.machine_id, run.id, _by_movement(conn, run.machine_id, believed))
    events.publish(conn, EventKind.CHECK, at=at, machine_id=run.machine_id, run_id=run.id)


def _by_movement(conn: Connection, machine_id: int, checked: Checked) -> Checked:
    """A disk's counters, judged together with those of the survey before."""
    if checked.result is Result.COULD_NOT_LOOK or not checked.counters:
        return checked
    earlier = checks.before(conn, machine_id, checked.check, checked.target)
    if earlier is None:
        return checked
    judged_findings = findings(checked.counters, checked.target, earlier.checked.counters)
    judged = looked(
        checked.check, checked.target, checked.started_at, judged_findings, checked.counters
    )
    return judged.model_copy(update={"ended_at": checked.ended_at})


def step_in_words(conn: Connection, run_id: int, kind: StepKind) -> str:
    """What a step's checks came to, beside it."""
    kept = [kept for kept in checks.of_run(conn, run_id) if _is_of(kept.checked, kind)]
    bad = [check for check in kept if check.checked.result is Result.FINDINGS]
    unseen = [check for check in kept if check.checked.result is Result.COULD_NOT_LOOK]
    words = "; ".join(check.checked.in_words for check in bad[:3]) if bad else "nothing found"
    return f"{words}; {len(unseen)} could not be looked at" if unseen else words


def _is_of(checked: Checked, kind: StepKind) -> bool:
    if kind is StepKind.CHECK:
        return checked.check != "malware"
    mode = "quick" if kind is StepKind.QUICK_SCAN else "full"
    return checked.check == "malware" and checked.mode in ("", mode)


def why_to_stop(conn: Connection, run_id: int) -> str:
    """Why nothing else is to be done on the machine; empty where it may."""
    failing = [
        kept.checked.target for kept in checks.of_run(conn, run_id) if kept.checked.is_failing
    ]
    return f"{', '.join(failing)} is failing: save the data first" if failing else ""


def in_words(conn: Connection, run_id: int) -> str:
    """What a run's checks came to, for the record."""
    kept = checks.of_run(conn, run_id)
    # what is well needs no sentence of its own where much was looked at
    telling = [check for check in kept if check.checked.result is not Result.CLEAN]
    if len(kept) <= _EACH_TOLD:
        telling = kept
    clean = len(kept) - len(telling)
    words = "".join(f" {check.checked.in_words}." for check in telling[:MOST_TOLD])
    return words + (f" {count(clean, 'check')} found nothing." if clean else "")
