"""What agents call: enrol, report, ask for an order, tell progress. They are never called."""

from __future__ import annotations

import re
import time
from typing import Annotated

import anyio.to_thread
from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.exceptions import RequestValidationError
from pydantic import ValidationError

from phylax.core.clients.facts import read_at_enrolment
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.core.protocol import (
    Enrolled,
    Enrolment,
    GoOn,
    LeasedProgress,
    Order,
    SurveyMessage,
    UnheldMessage,
)
from phylax.core.record.records import Entry, RecordKind
from phylax.service.context.context import Context, TheContext
from phylax.service.http.auth import AgentsMachine, hashed, new_secret
from phylax.service.problems import Problem, documented
from phylax.service.routes.lookup import find_machine
from phylax.service.runs import (
    availability,
    carry_forward,
    dispatch,
    ingest,
    reading_messages,
)
from phylax.store.clients import agents, facts
from phylax.store.file import events
from phylax.store.record import audit, records
from phylax.store.runs import runs
from phylax.store.scheduling import presence

router = APIRouter(prefix="/agent", tags=["agents"])
_SEEN_TO_WITHIN = 60
_AGENT = re.compile(r"phylax-agent/([0-9][0-9A-Za-z.+-]{0,30})")


@router.post("/enrolment", status_code=201, responses=documented(403, 409))
def enrol(new: Enrolment, context: TheContext) -> Enrolled:
    """Become a machine's agent by a one-time code."""
    now = context.now()
    key, key_hash = new_secret("agent")
    with context.db.write() as conn:
        machine_id = agents.use_code(conn, hashed(new.code.strip().lower()), at=now)
        if machine_id is None:
            raise Problem(
                403, "code-not-valid", "This code is no longer valid; make a new one.",
                pointer="/code",
            )  # fmt: skip
        machine = find_machine(conn, str(machine_id))
        if machine.system != new.facts.system:
            raise Problem(
                409,
                "wrong-system",
                f"{machine.tag} was added as {machine.system}; this is {new.facts.system}.",
            )
        agents.enrol(conn, machine_id, key_hash, new.facts, at=now)
        facts.note_read(
            conn, machine_id, read_at_enrolment(new.facts), "read when it was enrolled", at=now
        )
        presence.note(conn, machine_id, [now])
        records.append(
            conn,
            Entry(
                machine_id=machine_id,
                at=from_seconds(now),
                who=f"agent on {machine.tag}",
                kind=RecordKind.MACHINE,
                text=f"Agent {new.facts.agent_version} enrolled.",
            ),
        )
        # the name by which it appears is ours, what it calls itself stands beside
        who, subject = f"agent on {machine.tag}", f"{machine.tag}, calls itself {new.facts.host}"
        audit.record(conn, who=who, at=now, action="enrol agent", subject=subject)
        events.publish(conn, EventKind.MACHINE, at=now, machine_id=machine_id)
    return Enrolled(machine_id=machine_id, tag=machine.tag, key=key)


async def _body(request: Request) -> bytes:
    return await request.body()


@router.post("/messages", status_code=204, responses=documented(401, 410, 422, 429))
def take_message(
    body: Annotated[bytes, Depends(_body)],
    context: TheContext,
    machine_id: AgentsMachine,
    request: Request,
    age: Annotated[
        float | None,
        Query(ge=0, description="Seconds since it was written, by the machine's running time"),
    ] = None,
) -> None:
    """A report; applied once, however often it is sent."""
    if seconds := context.quota.take(machine_id, len(body)):
        raise Problem(
            429, "too-much", f"This machine sent very much; it goes on in {seconds} seconds.",
            headers={"Retry-After": str(seconds)},
        )  # fmt: skip
    try:
        # read from its bytes in one step: a machine that was out of reach sends thousands
        message = reading_messages.read(body)
    except ValidationError as error:
        errors = [{**detail, "loc": ("body", *detail["loc"])} for detail in error.errors()]
        raise RequestValidationError(errors) from error
    program = _AGENT.fullmatch(request.headers.get("user-agent", ""))
    ready = carried_over = None
    if isinstance(message, SurveyMessage):
        with context.db.read() as conn:
            carried_over = carry_forward.carried(conn, machine_id, message)
        message = carry_forward.completed(message, carried_over)
        ready = reading_messages.prepared(message)
    if isinstance(message, UnheldMessage):
        _end_holds(context, machine_id, message, age)
    with context.db.write() as conn:
        ingest.apply(
            conn,
            machine_id,
            message,
            at=context.now(),
            age=age,
            ready=ready,
            carried_over=carried_over,
        )
        if program:
            agents.note_version(conn, machine_id, program[1])


def _end_holds(
    context: Context, machine_id: int, message: UnheldMessage, age: float | None
) -> None:
    """What is held no longer, step by step, so that others can write between two; what is left
    belongs to the last step, with which the message counts as taken."""
    begin: int | None = 0
    while begin is not None:
        with context.db.write() as conn:
            begin = ingest.end_some(
                conn, machine_id, message, at=context.now(), age=age, begin=begin
            )


@router.get(
    "/order",
    response_model=Order,
    responses=documented(401, 410) | {204: {"description": "No work within the wait"}},
)
async def next_order(
    context: TheContext,
    machine_id: AgentsMachine,
    response: Response,
    wait: Annotated[float, Query(ge=0, le=55, description="Seconds to wait for work")] = 0,
) -> Order | Response:
    """The next order, leased; 204 when there is none within the wait."""
    deadline = time.monotonic() + wait
    while True:
        event = context.wakeups.event_for(machine_id)
        order = await anyio.to_thread.run_sync(_offer, context, machine_id)
        left = deadline - time.monotonic()
        if order is not None:
            return order
        if left <= 0 or context.wakeups.stopping.is_set():
            return Response(status_code=204, headers=dict(response.headers))
        await context.wakeups.wait_for(event, left)


def _offer(context: Context, machine_id: int) -> Order | None:
    now = context.now()
    with context.db.read() as conn:
        idle = not runs.has_due(conn, machine_id, at=now)
        fresh = now - agents.seen_at(conn, machine_id) < _SEEN_TO_WITHIN
    if idle and fresh:
        # thousands of machines ask all day; asking alone must not cost a write to the disk
        return None
    with context.db.write() as conn:
        availability.heard_of(conn, machine_id, at=now)
        return None if idle else dispatch.offer(conn, machine_id, at=now)


@router.post("/runs/{run_id}/progress", responses=documented(401, 410))
def take_progress(
    run_id: int, progress: LeasedProgress, context: TheContext, machine_id: AgentsMachine
) -> GoOn:
    """How far a run is; keeps the lease. The answer says whether to go on."""
    now = context.now()
    with context.db.write() as conn:
        return GoOn(go_on=ingest.take_progress(conn, machine_id, run_id, progress, at=now))
