"""Runs end here: each once, with its record, its machine's standing and word to whoever watches."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.ground.events import EventKind
from phylax.core.ground.quantities import count
from phylax.core.ground.values import from_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.core.runs.runs import Conclusion, Run, RunState, Work, in_a_sentence
from phylax.core.scheduling.missed import MissedCause
from phylax.core.tuning.changes import ChangeState
from phylax.service.problems import Problem
from phylax.service.upkeep import checked, telling
from phylax.store.file import events
from phylax.store.record import evidence, records
from phylax.store.runs import leases, runs
from phylax.store.tuning import settings_changes, shared_changes

_DEEDS: dict[Work, str] = {
    "survey": "Look", "clean": "Cleaning", "put back": "Putting back", "let go": "Letting go",
    "by hand": "List", "check": "Check", "act": "Action", "look at settings": "Look at settings",
    "change settings": "Change of settings", "put settings back": "Putting settings back",
}  # fmt: skip


def write_down(conn: Connection, run: Run, conclusion: Conclusion, *, at: int) -> None:
    runs.note_standing(conn, run.id)
    looked = run.work in ("survey", "look at settings", "check")
    stuck = [stay for stay in conclusion.left if stay.reason.should_have_gone]
    records.append(
        conn,
        Entry(
            machine_id=run.machine_id,
            at=from_seconds(at),
            who=f"{run.round_name} (round)" if run.round_name else run.made_by,
            kind=RecordKind.RUN,
            text=in_a_sentence(run.work, conclusion, run.action, run.volumes)
            + _settings_in_words(conn, run)
            + checked.in_words(conn, run.id)
            + telling.in_words(conn, run.id)
            + _said(conn, run),
            run_id=run.id,
            state=conclusion.state,
            freed=None if looked else conclusion.freed,
            removed_count=None if looked else conclusion.removed.count,
            left_count=None if looked else sum(stay.count for stay in stuck),
            evidence=None if looked else evidence.seal(conn, run.id),
        ),
    )
    events.publish(conn, EventKind.RECORD, at=at, machine_id=run.machine_id)


def _settings_in_words(conn: Connection, run: Run) -> str:
    """What a run changed or put back, value by value; empty where it did neither."""
    if run.work not in ("change settings", "put settings back"):
        changes = settings_changes.by_run(conn, run.id) if run.routine_id is not None else []
        return "".join(f" {c.shown}: {c.before}, now {c.after}." for c in changes)
    picks = runs.settings_picks(conn, run.id)
    if run.work == "change settings":
        changes = settings_changes.by_run(conn, run.id)
        parts = [f"{c.shown}: {c.before}, now {c.after}" for c in changes]
    else:
        changes = settings_changes.named(conn, run.machine_id, picks.changes)
        parts = [f"{c.shown}: {c.before} again" for c in changes if c.state is ChangeState.PUT_BACK]
    said = f" Said to it: {picks.comment}." if picks.comment else ""
    if shared := shared_changes.of_run(conn, run.id):
        number, machines = shared
        said += f" One of {count(machines, 'machine')} at once, shared change {number}."
    return "".join(f" {part}." for part in parts) + said


def _said(conn: Connection, run: Run) -> str:
    """What a person said to an action; to changes of settings it is said with them."""
    word = runs.settings_picks(conn, run.id).comment if run.work == "act" else ""
    return f" Said to it: {word}." if word else ""


def give_up(
    conn: Connection,
    run: Run,
    state: RunState,
    reason: str,
    *,
    at: int,
    cause: MissedCause | None = None,
) -> None:
    """End a run that its machine never took up, or will not finish."""
    if not runs.end(conn, run.id, runs.Ending(state, reason, cause=cause), at=at):
        return
    runs.note_standing(conn, run.id)
    records.append(
        conn,
        Entry(
            machine_id=run.machine_id,
            at=from_seconds(at),
            who=f"{run.round_name} (round)" if run.round_name else run.made_by,
            kind=RecordKind.RUN,
            text=f"{run.action.title if run.action else _DEEDS[run.work]} {state}: {reason}.",
            run_id=run.id,
            state=state,
        ),
    )
    events.publish(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)


def call_off(conn: Connection, run: Run, *, who: str, at: int) -> Run:
    """Call a run off: at once where nobody works on it, else with the agent's next progress."""
    if run.state.has_ended:
        raise Problem(409, "ended-already", f"Run {run.id} has ended already: {run.state}.")
    if leases.is_on_lease(conn, run.id, at=at):
        leases.ask_to_stop(conn, run.id, who=who)
    else:
        give_up(conn, run, RunState.CALLED_OFF, f"called off by {who}", at=at)
    events.publish(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)
    current = runs.run(conn, run.id)
    assert current is not None
    return current
