"""Checks of machines: what there is to check, what came of it, what was done about it."""

from __future__ import annotations

from fastapi import APIRouter

from phylax.core.checks.kept import SettleFindings, StoredCheck
from phylax.core.checks.kind import CheckKind, kinds
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange
from phylax.service.problems import Problem, documented, not_found
from phylax.service.routes.lookup import find_machine
from phylax.store.checks import checks
from phylax.store.record import records

router = APIRouter(tags=["checks"])


@router.get("/checks")
def list_kinds(actor: Signed) -> list[CheckKind]:
    """Everything that can be checked on machines, as data."""
    return list(kinds().values())


@router.get("/machines/{machine}/checks", responses=documented(404))
def list_checks(machine: str, context: TheContext, actor: Signed) -> list[StoredCheck]:
    """The newest check of each volume and disk of a machine; where it could not look, also the
    newest that could."""
    with context.db.read() as conn:
        of = [find_machine(conn, machine).id]
        newest = checks.newest(conn, of)
        known = {kept.id for kept in newest}
        could = [k for k in checks.newest(conn, of, could_look=True) if k.id not in known]
    return sorted([*newest, *could], key=lambda k: (k.checked.check, k.checked.target, -k.id))


@router.post("/checks/{number}/settle", responses=documented(403, 404, 409, 422))
def settle(
    number: int, edit: SettleFindings, change: TheChange, technician: Technician
) -> StoredCheck:
    """Say what was done about findings: they need nobody until a check finds them again."""
    with change.context.db.write() as conn:
        kept = checks.check(conn, number)
        if kept is None:
            raise not_found("check", number)
        if not kept.is_open:
            raise Problem(409, "nothing-open", "There is nothing to see to of this check.")
        checks.settle(conn, number, who=change.who, word=edit.comment, at=change.now)
        after = checks.check(conn, number)
        assert after is not None
        records.append(
            conn,
            Entry(
                machine_id=kept.machine_id,
                at=from_seconds(change.now),
                who=change.who,
                kind=RecordKind.NOTE,
                text=f"Seen to: {kept.checked.in_words}. {edit.comment}",
            ),
        )
        change.audit(conn, "settle findings", kept.checked.in_words, kept, after)
        change.tell(conn, EventKind.CHECK, kept.machine_id)
        return after
