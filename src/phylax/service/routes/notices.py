"""Notices: who is told what, by which server and hooks, and the log of each with its fate."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.attention.notices import (
    Hook,
    HookEdit,
    HookShown,
    MailServer,
    MailServerEdit,
    Notice,
    NoticeState,
    Wishes,
    WishesEdit,
)
from phylax.core.ground.events import EventKind
from phylax.core.people.accounts import Role
from phylax.service.attention.notices import compose_trial
from phylax.service.context.context import TheContext, the_shop
from phylax.service.http.auth import Actor, Owner, Signed, new_secret
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.http.paging import NEWEST, Before, Limit, page
from phylax.service.problems import Problem, documented, not_found
from phylax.store.attention import notices

router = APIRouter(tags=["notices"])


@router.get("/notices")
def list_notices(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    state: NoticeState | None = None,
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Notice]:
    """Every message and its fate, newest first; `given up` are those that nobody got."""
    with context.db.read() as conn:
        listed = notices.notices(conn, before=before, limit=limit + 1, state=state)
    return page(listed, limit, request, response, "before")


@router.post("/notices/{notice_id}/again", responses=documented(403, 404, 409))
def post_again(notice_id: int, change: TheChange, owner: Owner) -> Notice:
    """Send again what was given up."""
    with change.context.db.write() as conn:
        before = notices.notice(conn, notice_id)
        if before is None:
            raise not_found("notice", notice_id)
        if not notices.again(conn, notice_id, at=change.now):
            raise Problem(409, "not-given-up", f"Notice {notice_id} is {before.state}.")
        after = notices.notice(conn, notice_id)
        assert after is not None
        change.audit(conn, "post notice again", str(notice_id), before, after)
    return after


@router.get("/people/{person_id}/notices", responses=documented(403, 404))
def get_wishes(person_id: int, context: TheContext, actor: Signed, response: Response) -> Wishes:
    """What a person wants to be told by mail: their own, or anybody's for the owner."""
    with context.db.read() as conn:
        wishes = _wishes(conn, actor, person_id)
    with_etag(wishes, response)
    return wishes


@router.put("/people/{person_id}/notices", responses=documented(403, 404, 412, 422, 428))
def set_wishes(
    person_id: int, edit: WishesEdit, change: TheChange, request: Request, response: Response
) -> Wishes:
    with change.context.db.write() as conn:
        before = _wishes(conn, change.actor, person_id)
        check_match(request, before, ("", change.now))
        notices.put_wishes(conn, person_id, edit, who=change.who, at=change.now)
        after = _wishes(conn, change.actor, person_id)
        change.audit(conn, "set notices", after.person_name, before, after)
        change.tell(conn, EventKind.SHOP)
    with_etag(after, response)
    return after


@router.post(
    "/people/{person_id}/notices/trial", status_code=204, responses=documented(403, 404, 409)
)
def send_trial(person_id: int, change: TheChange) -> None:
    """Send a mail to see whether it comes."""
    with change.context.db.write() as conn:
        wishes = _wishes(conn, change.actor, person_id)
        if not compose_trial(conn, the_shop(conn), wishes, now=change.now):
            raise Problem(
                409, "no-mail", "There is no mail server yet, or no address for this person."
            )


def _wishes(conn: Connection, actor: Actor, person_id: int) -> Wishes:
    if actor.person.id != person_id and actor.role is not Role.OWNER:
        raise Problem(
            403,
            "not-yours",
            "These settings are somebody else's; only they and the owner may see them.",
        )
    wishes = notices.wishes(conn, person_id)
    if wishes is None:
        raise not_found("person", person_id)
    return wishes


@router.get("/mail-server", responses=documented(403, 404))
def get_mail_server(context: TheContext, owner: Owner, response: Response) -> MailServer:
    with context.db.read() as conn:
        mail_server = notices.mail_server(conn)
    if mail_server is None:
        raise Problem(404, "no-mail-server", "No mail server is set; nothing is sent by mail.")
    with_etag(mail_server, response)
    return mail_server


@router.put("/mail-server", responses=documented(403, 412, 422, 428))
def set_mail_server(
    edit: MailServerEdit, change: TheChange, owner: Owner, request: Request, response: Response
) -> MailServer:
    """Through which server mail goes. Once one is set, `If-Match` must name its version."""
    with change.context.db.write() as conn:
        before = notices.mail_server(conn)
        if before is not None:
            check_match(request, before, ("", change.now))
        notices.put_mail_server(conn, edit, who=change.who, at=change.now)
        after = notices.mail_server(conn)
        assert after is not None
        change.audit(conn, "set mail server", after.host, before, after)
    with_etag(after, response)
    return after


@router.get("/hooks", responses=documented(403))
def list_hooks(context: TheContext, owner: Owner) -> list[Hook]:
    with context.db.read() as conn:
        return notices.hooks(conn)


@router.post(
    "/hooks", status_code=201, response_model=HookShown, responses=documented(403, 409, 422)
)
def add_hook(edit: HookEdit, change: TheChange, owner: Owner) -> Response:
    """Another program is told from now on; the key of its signatures is shown this once."""

    def act(conn: Connection) -> HookShown:
        secret, _ = new_secret("hook")
        hook_id = notices.add_hook(
            conn, edit, change.context.vault.close(secret), who=change.who, at=change.now
        )
        made = notices.hook(conn, hook_id)
        assert made is not None
        change.audit(conn, "add hook", made.name, after=made)
        return HookShown(**made.model_dump(), secret=secret)

    return change.once(edit, act, secret=True)


@router.delete("/hooks/{hook_id}", status_code=204, responses=documented(403, 404))
def withdraw_hook(hook_id: int, change: TheChange, owner: Owner) -> None:
    with change.context.db.write() as conn:
        before = notices.hook(conn, hook_id)
        if before is None:
            raise not_found("hook", hook_id)
        notices.withdraw_hook(conn, hook_id, at=change.now)
        change.audit(conn, "withdraw hook", before.name, before)
