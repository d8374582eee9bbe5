"""What has to be known before an action is asked for; problems say what is missing."""

from __future__ import annotations

from datetime import timedelta
from sqlite3 import Connection

from phylax.core.actions import (
    Action,
    RemoveProgram,
    RepairFileSystem,
    Restart,
    TryRemoval,
)
from phylax.core.checks.findings import Severity
from phylax.core.checks.kept import StoredCheck, open_findings, uncovered
from phylax.core.checks.kind import kinds
from phylax.core.ground.values import to_seconds
from phylax.core.runs.runs import NewRun
from phylax.service.problems import Problem, invalid
from phylax.store.checks import checks
from phylax.store.runs import action_results
from phylax.store.tuning import answers

_FARTHEST = int(timedelta(days=7).total_seconds())
_OLD_BACKUP = 30
"""Days from which a backup is too old for what can lose something, unless somebody says why."""


def check_may_act(conn: Connection, new: NewRun, *, at: int) -> None:
    """Problems where an action is not to be asked for as things stand."""
    action = new.action
    assert action is not None
    if new.at is not None and not at - 60 <= to_seconds(new.at) <= at + _FARTHEST:
        raise invalid("/at", "an action is asked for within a week from now")
    if why := why_stopped(conn, new.machine_id, action):
        raise Problem(409, "findings-first", why)
    match action:
        case Restart():
            _check_comes_back(conn, new)
        case RemoveProgram():
            _check_was_tried(conn, new.machine_id, action)
    if isinstance(action, RemoveProgram | RepairFileSystem):
        _check_backup(action.backup_days, new.comment)


def _check_backup(days: int, word: str) -> None:
    if days > _OLD_BACKUP and not word.strip():
        raise invalid(
            "/comment",
            f"the last backup is {days} days old: say why it is done all the same, or have one "
            "made first",
        )


def why_stopped(conn: Connection, machine_id: int, action: Action) -> str:
    """Why findings of checks forbid an action on a machine; empty where they do not."""
    newest = checks.newest(conn, [machine_id], could_look=True)
    failing = _failing(newest)
    if action.disk_bound and failing:
        return f"{failing} is failing: save the data first, nothing else is written to it"
    return stops(newest).get(action.step, "") if action.step else ""


def _failing(newest: list[StoredCheck]) -> str:
    findings = [open_findings(kept) for kept in uncovered(newest)]
    return ", ".join(f.of for f in findings if f is not None and f.severity is Severity.FAILING)


def stops(newest: list[StoredCheck]) -> dict[str, str]:
    """The routine's steps that findings nobody has dealt with stand in the way of, and why."""
    stopped: dict[str, str] = {}
    for kept in uncovered(newest):
        kind = kinds().get(kept.checked.check)
        if kind is None or not kept.is_open:
            continue
        for step in kind.blocks:
            stopped.setdefault(step, f"{kind.name.lower()}, {kept.checked.in_words}")
    return stopped


def comes_back_alone(conn: Connection, machine_id: int) -> bool | None:
    """Whether a machine starts without anybody at it; None: nobody has asked."""
    answer = answers.on_machine(conn, machine_id).get("comes-back-alone")
    return None if answer is None else answer.answer == "yes"


def _check_comes_back(conn: Connection, new: NewRun) -> None:
    alone = comes_back_alone(conn, new.machine_id)
    if alone is None:
        raise Problem(
            409, "not-answered",
            "Ask first: after a restart, does it come back alone, without a passphrase? Write the "
            "answer down among the machine's questions.",
        )  # fmt: skip
    if not alone and not new.comment.strip():
        raise Problem(
            409, "needs-somebody",
            "It does not come back alone. Say who is at it then, as the word.",
        )  # fmt: skip


def _check_was_tried(conn: Connection, machine_id: int, action: RemoveProgram) -> None:
    """A removal is a yes to exactly what a trial said."""
    last = action_results.newest(
        conn, machine_id, TryRemoval.model_fields["action"].default, action.program
    )
    tried = last.tried if last is not None else None
    if tried is None or tried.version != action.version:
        raise Problem(
            409, "try-first",
            f"Try first what removing {action.program} {action.version} would take along.",
        )  # fmt: skip
    if tried.refused:
        raise Problem(409, "not-removable", f"It is not removed: {tried.refused}.")
    if set(tried.along) != set(action.along):
        names = ", ".join(other.name for other in tried.along) or "nothing else"
        raise Problem(
            409,
            "tried-otherwise",
            f"By the trial, with it would be removed: {names}. Agree to that.",
        )
    if not tried.can_come_back and not action.not_reinstallable:
        raise Problem(
            409, "gone-for-good",
            "This version cannot be had again. Say yes to that, too, or keep it.",
        )  # fmt: skip
