"""The one way in which people change something: once, in one transaction, with an audit.

A request repeated with the same `Idempotency-Key` gets the answer of the first. What two people may
edit carries a version: `If-Match` must name the one that was read.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from hashlib import sha256
from sqlite3 import Connection
from typing import Annotated, Any

from fastapi import Depends, Request, Response
from pydantic import BaseModel

from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.service.context.context import Context, TheContext
from phylax.service.http.auth import Actor, Signed
from phylax.service.problems import Problem
from phylax.store.file import events, idempotency
from phylax.store.record import audit

_LONGEST_KEY = 200


@dataclass(frozen=True)
class Change:
    """One request that changes something."""

    context: Context
    actor: Actor
    request: Request
    now: int

    @property
    def who(self) -> str:
        return self.actor.name

    def audit(
        self,
        conn: Connection,
        what: str,
        subject: str,
        before: BaseModel | None = None,
        after: BaseModel | None = None,
    ) -> None:
        audit.record(
            conn,
            who=self.who,
            at=self.now,
            action=what,
            subject=subject,
            before=before.model_dump_json() if before else None,
            after=after.model_dump_json() if after else None,
        )

    def tell(
        self,
        conn: Connection,
        kind: EventKind,
        machine_id: int | None = None,
        run_id: int | None = None,
    ) -> None:
        events.publish(conn, kind, at=self.now, machine_id=machine_id, run_id=run_id)

    def once(
        self,
        body: BaseModel,
        act: Callable[[Connection], BaseModel],
        status: int = 201,
        *,
        secret: bool = False,
    ) -> Response:
        """Carry out a creation, or repeat the answer it got under the same key; one with a secret,
        which is kept nowhere, is not repeated."""
        key = self.request.headers.get("idempotency-key")
        if key and len(key) > _LONGEST_KEY:
            raise Problem(
                422, "not-allowed", f"An Idempotency-Key has up to {_LONGEST_KEY} characters."
            )
        asked = f"{self.request.method} {self.request.url.path}\n{body.model_dump_json()}"
        fingerprint = sha256(asked.encode()).hexdigest()
        actor = f"person:{self.actor.person.id}"
        with self.context.db.write() as conn:
            if key and (given := idempotency.answer(conn, actor, key)):
                if given.request != fingerprint:
                    raise Problem(
                        422, "key-used", "This Idempotency-Key was used for another request."
                    )
                if secret:
                    raise Problem(
                        409, "made-already", "This was made before, and its secret is shown once "
                        "only; withdraw it, and make another."
                    )  # fmt: skip
                return _json(given.body, given.status, _etag_in(given.body))
            made = act(conn)
            text = made.model_dump_json()
            if key:
                answer = idempotency.Answer(fingerprint, status, "" if secret else text)
                idempotency.keep(conn, actor, key, answer, at=self.now)
        return _json(text, status, etag_of(made))


def _change(request: Request, context: TheContext, actor: Signed) -> Change:
    return Change(context, actor, request, context.now())


TheChange = Annotated[Change, Depends(_change)]


def etag_of(model: Any) -> str | None:
    version = getattr(model, "version", None)
    return None if version is None else f'"{version}"'


def _etag_in(text: str) -> str | None:
    version = json.loads(text).get("version")
    return None if version is None else f'"{version}"'


def with_etag(model: BaseModel, response: Response) -> None:
    if etag := etag_of(model):
        response.headers["ETag"] = etag


def _json(text: str, status: int, etag: str | None = None) -> Response:
    headers = {"ETag": etag} if etag else None
    return Response(text, status, headers, "application/json")


def check_match(request: Request, current: BaseModel, changed: tuple[str, int]) -> None:
    """Refuse an edit of another version than the current one, showing the current one."""
    wanted = request.headers.get("if-match")
    if wanted is None:
        raise Problem(
            428, "if-match-missing", "Send If-Match with the ETag of the version you edited."
        )
    # a proxy that compresses may have weakened it
    if wanted.strip().removeprefix("W/") != etag_of(current):
        who, at = changed
        raise Problem(
            412,
            "changed-meanwhile",
            f"{who or 'Somebody'} changed this meanwhile; look at both versions.",
            changed_by=who,
            changed_at=from_seconds(at).isoformat(),
            current=current.model_dump(mode="json"),
        )
