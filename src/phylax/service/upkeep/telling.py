"""What machines tell of actions, of what they have, and of how they stand."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.actions import ActEnd, acted_in_words
from phylax.core.checks.time_left import Ran
from phylax.core.clients.facts import read_in_hardware
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.inventory import HardwareListed
from phylax.core.protocol import ActionMessage, InventoryMessage, SnapshotMessage
from phylax.core.protocol.snapshots import comparison_in_words
from phylax.core.runs.runs import Run
from phylax.core.scheduling.routines import StepKind
from phylax.service.upkeep import advising, checked
from phylax.store.checks import inventories
from phylax.store.clients import facts
from phylax.store.file import events
from phylax.store.runs import action_results, step_lengths
from phylax.store.survey import snapshots


def take_inventory(conn: Connection, run: Run, message: InventoryMessage, *, at: int) -> None:
    # a clock that is ahead must not keep all later lists out
    taken_at = min(message.inventory.taken_at, from_seconds(at))
    inventory = message.inventory.model_copy(update={"taken_at": taken_at})
    inventories.put(conn, run.machine_id, inventory)
    if isinstance(inventory, HardwareListed):
        read = read_in_hardware(inventory)
        facts.note_read(
            conn, run.machine_id, read, "read from its hardware", at=to_seconds(taken_at)
        )
        advising.propose(conn, run.machine_id, at=at)
    events.publish(conn, EventKind.CHECK, at=at, machine_id=run.machine_id, run_id=run.id)


def take_acted(conn: Connection, run: Run, message: ActionMessage, *, at: int) -> None:
    ended = min(to_seconds(message.ended_at), at)
    action_results.put(conn, run.id, run.machine_id, message.action, message.parts, at=ended)
    done = sum(part.end is ActEnd.DONE for part in message.parts)
    seconds = believed_length(run, (message.ended_at - message.started_at).total_seconds(), at=at)
    if message.ended and done and seconds > 0:
        step_lengths.note(conn, run.machine_id, message.action, Ran(len(message.parts), seconds))
    events.publish(conn, EventKind.CHECK, at=at, machine_id=run.machine_id, run_id=run.id)


def believed_length(run: Run, seconds: float, *, at: int) -> float:
    """How long a machine says that it worked, but no longer than since its run began: its clock
    may have been set meanwhile."""
    began = run.started_at
    return min(seconds, float(at - to_seconds(began))) if began is not None else seconds


def take_snapshot(conn: Connection, run: Run, message: SnapshotMessage, *, at: int) -> None:
    snapshots.put(conn, run.id, message.when, message.snapshot)
    events.publish(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)


def step_in_words(conn: Connection, run: Run, kind: StepKind) -> str:
    """What a step of long work came to, beside it."""
    if kind.checks:
        return checked.step_in_words(conn, run.id, kind)
    if kind is StepKind.COMPARE:
        comparison = snapshots.comparison(conn, run.id)
        return "" if comparison is None else comparison_in_words(comparison)
    parts = action_results.of_run(conn, run.id, kind.action) if kind.action else []
    return acted_in_words(parts, 3)


def was_refused(conn: Connection, run: Run, kind: StepKind) -> bool:
    """Whether nothing of a step was done, for something forbade it."""
    parts = action_results.of_run(conn, run.id, kind.action) if kind.action else []
    return bool(parts) and all(part.end is ActEnd.REFUSED for part in parts)


def in_words(conn: Connection, run_id: int) -> str:
    """What a run's actions came to, and what is otherwise afterwards, for the record."""
    parts = action_results.of_run(conn, run_id)
    words = f" {acted_in_words(parts, 20)}." if parts else ""
    comparison = snapshots.comparison(conn, run_id)
    if comparison is not None and comparison.after is not None:
        words += f" Before and after: {comparison_in_words(comparison)}."
    return words
