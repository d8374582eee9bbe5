"""The application: routes, problems, the scheduler's life, the console's files."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from functools import cache, partial
from typing import Any

from fastapi import APIRouter, FastAPI
from fastapi.middleware.gzip import GZipMiddleware
from fastapi.openapi.utils import get_openapi
from starlette.routing import BaseRoute

from phylax import __version__
from phylax.core.ground.events import Event
from phylax.core.ground.values import build_all
from phylax.service import problems
from phylax.service.attention import monitor
from phylax.service.attention.notices import keep_posting
from phylax.service.backups.making import keep_backups
from phylax.service.context.context import Context
from phylax.service.context.secret_keys import close_all
from phylax.service.erasing.forgetting import forget_again, keep_forgetting
from phylax.service.http import former_version, static
from phylax.service.http.auth import known_by
from phylax.service.http.examples import EXAMPLES
from phylax.service.http.feed import Feed
from phylax.service.limits.requests import Limits
from phylax.service.record.archives.export_stream import clear_halves
from phylax.service.rounds import scheduler
from phylax.service.routes import (
    agent,
    archives,
    attachments,
    attention,
    backups,
    calendars,
    checks,
    clients,
    closing_days,
    desk,
    events,
    forgetting,
    holds,
    importing,
    keeping,
    labels,
    letterhead,
    machines,
    measures,
    notices,
    passkeys,
    people,
    protection,
    records,
    reports,
    retiring,
    rounds,
    routines,
    rules,
    runs,
    searching,
    shared_changes,
    shop,
    sign_ins,
    surveys,
    trends,
    tuning,
    upkeep,
    views,
    visits,
    waiting,
)
from phylax.service.runs import reading_messages
from phylax.service.telemetry.logs import Requests
from phylax.service.telemetry.metrics import Measures
from phylax.store.scheduling.routines import ship

API = "/api/v2"
_ANYWHERE = (400, 401, 403, 408, 413, 414, 503, 507)
"""Statuses that any request may get: by its shape, by who asks, by the disk."""


def create_app(context: Context) -> FastAPI:
    """The service for an open shop."""

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        context.wakeups.attach(asyncio.get_running_loop())
        context.db.on_commit(context.wakeups.changed)
        with context.db.write() as conn:
            ship(conn, at=context.now())
        close_all(context)
        clear_halves(context)
        forget_again(context)
        app.state.feed.begin()
        tasks = [
            asyncio.create_task(scheduler.keep_time(context)),
            asyncio.create_task(monitor.keep_watch(context)),
            asyncio.create_task(keep_posting(context)),
            asyncio.create_task(keep_backups(context)),
            asyncio.create_task(keep_forgetting(context)),
            asyncio.create_task(app.state.feed.run()),
        ]
        yield
        context.wakeups.stop()
        await asyncio.gather(*tasks)

    build_all()
    app = FastAPI(
        title="Phylax",
        version=__version__,
        summary="Recurring cleanup and upkeep of client computers, for a repair shop",
        lifespan=life,
        docs_url=None,
        redoc_url=None,
        separate_input_output_schemas=False,
        routes=list(_routes()),
    )
    app.state.context = context
    app.state.measures = Measures(context.db)
    app.state.feed = Feed(context)
    app.add_middleware(GZipMiddleware, minimum_size=1000, compresslevel=5)
    app.add_middleware(Limits, known=partial(known_by, context))
    app.add_middleware(Requests, measures=app.state.measures)
    problems.install(app)

    def openapi() -> dict[str, Any]:
        if app.openapi_schema is None:
            app.openapi_schema = _document(app)
        return app.openapi_schema

    app.openapi = openapi  # type: ignore[method-assign]
    former_version.install(app)
    static.install(app)
    return app


@cache
def _routes() -> tuple[BaseRoute, ...]:
    """All routes. They know nothing of a shop, and are worked out once in a process: that takes
    most of a second."""
    router = APIRouter(generate_unique_id_function=lambda route: route.name)
    for family in (
        archives,
        shop,
        sign_ins,
        people,
        passkeys,
        clients,
        machines,
        labels,
        importing,
        retiring,
        forgetting,
        keeping,
        trends,
        surveys,
        holds,
        rules,
        protection,
        runs,
        routines,
        rounds,
        closing_days,
        calendars,
        waiting,
        attention,
        notices,
        backups,
        records,
        attachments,
        tuning,
        shared_changes,
        checks,
        upkeep,
        visits,
        desk,
        reports,
        letterhead,
        searching,
        views,
    ):
        router.include_router(family.router, prefix=API, responses=problems.documented(*_ANYWHERE))
    router.include_router(events.router, prefix=API, responses=problems.documented(*_ANYWHERE))
    router.include_router(agent.router, prefix=API, responses=problems.documented(*_ANYWHERE))
    router.include_router(measures.router, prefix=API, responses=problems.documented(*_ANYWHERE))
    router.include_router(measures.public)
    router.include_router(calendars.public)
    return tuple(router.routes)


def _document(app: FastAPI) -> dict[str, Any]:
    """The OpenAPI document, with problems, both ways to sign in, and RFC 9457's media type."""
    document = get_openapi(
        title=app.title,
        version=app.version,
        summary=app.summary,
        routes=app.routes,
        separate_input_output_schemas=False,
    )
    schemas = document["components"]["schemas"]
    # a problem is raised, an event is the data of a server-sent event: no route returns them
    for kind in (problems.ProblemBody, Event):
        schema = kind.model_json_schema(ref_template="#/components/schemas/{model}")
        schemas |= schema.pop("$defs", {})
        schemas[kind.__name__] = schema
    # read from its bytes by its own route, which therefore does not declare it
    message = reading_messages.MESSAGE.json_schema(ref_template="#/components/schemas/{model}")
    schemas |= message.pop("$defs", {})
    document["paths"][f"{API}/agent/messages"]["post"]["requestBody"] = {
        "required": True,
        "content": {"application/json": {"schema": message}},
    }
    for body, example in EXAMPLES.items():
        schemas[body.__name__]["examples"] = [example]
    for name in ("HTTPValidationError", "ValidationError"):
        schemas.pop(name, None)
    refused = problems.documented(422)[422]
    for path in document["paths"].values():
        for operation in path.values():
            if "422" in operation["responses"]:
                operation["responses"]["422"] = refused
    document["components"]["securitySchemes"] = {
        "token": {"type": "http", "scheme": "bearer"},
        "session": {"type": "apiKey", "in": "cookie", "name": "phylax_session"},
    }
    document["security"] = [{"token": []}, {"session": []}]
    return document
