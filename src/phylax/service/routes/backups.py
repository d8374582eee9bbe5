"""Backups of the shop's file: how it stands, where they go, and one at once."""

from __future__ import annotations

from pathlib import Path

from fastapi import APIRouter, Request, Response

from phylax.core.backups.backups import Backup, BackupPlan, BackupPlanEdit, BackupState
from phylax.service.backups import making
from phylax.service.backups.encrypting import is_public_key
from phylax.service.backups.making import NoPlaceError
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Owner, Signed
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.problems import documented, invalid
from phylax.store.backups import backups

router = APIRouter(prefix="/backups", tags=["backups"])
_MOST = 100


@router.get("")
def list_backups(context: TheContext, owner: Owner) -> list[Backup]:
    """The newest backups, those that came to nothing too; the newest first."""
    with context.db.read() as conn:
        return backups.listed(conn, most=_MOST)


@router.get("/state")
def backup_state(context: TheContext, actor: Signed) -> BackupState:
    """How the shop is backed up, and what somebody has to see to."""
    return making.state(context)


@router.get("/plan")
def backup_plan(context: TheContext, owner: Owner, response: Response) -> BackupPlan:
    """Where backups go, and how many are kept."""
    with context.db.read() as conn:
        plan = backups.plan(conn)
    with_etag(plan, response)
    return plan


@router.put("/plan", responses=documented(403, 412, 422, 428))
def set_backup_plan(
    edit: BackupPlanEdit, change: TheChange, owner: Owner, request: Request, response: Response
) -> BackupPlan:
    """Say where backups go: a folder on the service's machine that is there, best on another
    disk. Those that were made stay where they are."""
    with change.context.db.write() as conn:
        before = backups.plan(conn)
        check_match(request, before, backups.plan_changed(conn))
        if edit.place:
            if not Path(edit.place).is_absolute():
                raise invalid("/place", "Name the whole path, from the top of the disk.")
            try:
                making.take_place(Path(edit.place))
            except NoPlaceError as error:
                raise invalid("/place", str(error)) from None
        if edit.public_key and not is_public_key(edit.public_key):
            raise invalid("/public_key", "This is no public key of age: one begins with age1.")
        backups.put_plan(conn, edit, who=change.who, at=change.now)
        after = backups.plan(conn)
        change.audit(conn, "change backups", "backups", before, after)
    with_etag(after, response)
    return after


@router.post("", status_code=201, responses=documented(403))
def back_up(change: TheChange, owner: Owner) -> Backup:
    """Make a backup now. Its `why` says where none could be made."""
    return making.make(change.context, who=change.who)
