"""What machines tell of their settings: looks, changes, what became of them, what starts cost."""

from __future__ import annotations

from itertools import groupby
from sqlite3 import Connection

from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.core.protocol import ChangesMessage, SettingsMessage, StartsMessage
from phylax.core.record.records import Entry, RecordKind
from phylax.core.runs.runs import Run
from phylax.core.tuning.changes import Change, ChangeMade, ChangeState
from phylax.core.tuning.starts import Trial, in_words, trial
from phylax.core.tuning.trials import Outcome
from phylax.service.tuning import judging as tuning
from phylax.store.file import events
from phylax.store.record import records
from phylax.store.runs import runs
from phylax.store.tuning import program_looks, settings_changes, starts


def take_look(conn: Connection, machine_id: int, message: SettingsMessage, *, at: int) -> None:
    """Startup programs on a machine, and what somebody altered after us."""
    if not program_looks.keep_look(conn, machine_id, message.look):
        return
    settings_changes.note_drift(conn, machine_id, message.look.drifted, at=at)
    for change in settings_changes.newly_drifted(conn, machine_id):
        _write_down(conn, machine_id, _drift_in_words(change), at=at)
    if program_looks.waiting(conn, [machine_id]):
        # a person may have decided since a round came by
        tuning.unattended(conn, machine_id)
    events.publish(conn, EventKind.SETTING, at=at, machine_id=machine_id)


def _drift_in_words(change: Change) -> str:
    now = f"{change.runs} {change.drifted_to}" if change.drifted_to else "is not there any more"
    return f"{change.shown}: {change.after} was set, but somebody altered it: it {now}."


def take_changes(conn: Connection, run: Run, message: ChangesMessage, *, at: int) -> None:
    """What was changed or put back; what the machine did by itself gets an entry of its own."""
    word = runs.settings_picks(conn, run.id).comment
    for made in message.changes:
        is_news = settings_changes.note(conn, run, made, word=word, who=run.made_by, at=at)
        if is_news and (made.state is ChangeState.UNDONE or made.at_machine):
            _write_down(conn, run.machine_id, _by_itself_in_words(made), at=at)
    _judge(conn, run.machine_id, at=at)
    events.publish(conn, EventKind.SETTING, at=at, machine_id=run.machine_id)


def _by_itself_in_words(made: ChangeMade) -> str:
    if made.state is ChangeState.UNDONE:
        return f"{made.shown}: {made.before} again, undone by the machine: {made.refused}."
    return f"{made.shown}: {made.before} again, put back at the machine itself."


def take_starts(conn: Connection, machine_id: int, message: StartsMessage, *, at: int) -> None:
    """What starts cost; trials that can be judged by them are."""
    if starts.add(conn, machine_id, message.starts):
        _judge(conn, machine_id, at=at)
        events.publish(conn, EventKind.SETTING, at=at, machine_id=machine_id)


def trials(conn: Connection, machine_id: int) -> list[Trial]:
    """The trial of each run that changed startup programs on a machine, newest first."""
    changes = settings_changes.of_machine(conn, machine_id)
    machine_starts = starts.of_machine(conn, machine_id)
    by_run = [
        list(together)
        for _, together in groupby(
            sorted(changes, key=lambda change: -change.run_id), key=lambda change: change.run_id
        )
    ]
    return [
        trial(together, [c for c in changes if c.run_id != together[0].run_id], machine_starts)
        for together in by_run
        # what a setting of one value does to a start cannot be told from what it is set for
        if any(change.program for change in together)
    ]


def _judge(conn: Connection, machine_id: int, *, at: int) -> None:
    """Judge what is on trial; an outcome is written down when it is found, once."""
    for judged in trials(conn, machine_id):
        before = starts.last_outcome(conn, judged.run_id)
        if before not in (None, Outcome.OPEN):
            continue
        starts.note_judged(conn, judged, at=at)
        if judged.judged.outcome is not Outcome.OPEN:
            _write_down(conn, machine_id, f"Trial of {in_words(judged)}.", at=at)


def _write_down(conn: Connection, machine_id: int, text: str, *, at: int) -> None:
    records.append(
        conn,
        Entry(
            machine_id=machine_id,
            at=from_seconds(at),
            who=settings_changes.THE_MACHINE,
            kind=RecordKind.SETTING,
            text=text[0].upper() + text[1:],
        ),
    )
    events.publish(conn, EventKind.RECORD, at=at, machine_id=machine_id)
