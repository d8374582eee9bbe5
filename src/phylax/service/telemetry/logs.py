"""Logs: a line for each event, as JSON or as text, each with the request it belongs to.

A request's identifier comes with it (`X-Request-ID`) or is made here, and goes back with the
answer. Addresses are logged as the routes name them, so that no secret in a path gets into a log.
"""

from __future__ import annotations

import logging
import re
import sys
import time
import uuid
from contextvars import ContextVar
from typing import Literal

from pythonjsonlogger.json import JsonFormatter
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from phylax.service.telemetry.metrics import Measures

LogForm = Literal["json", "text"]
request_id: ContextVar[str] = ContextVar("request_id", default="")
_GIVEN = re.compile(rb"[A-Za-z0-9._-]{8,128}")
_SLOW = 1.0
_API = "/api/v2"
_log = logging.getLogger("phylax.requests")


class _WithRequest(logging.Filter):
    def filter(self, record: logging.LogRecord) -> bool:
        record.request_id = request_id.get()
        return True


class _NotTooOften(logging.Filter):
    """Each warning once a minute."""

    def __init__(self) -> None:
        super().__init__()
        self._said: dict[str, float] = {}

    def filter(self, record: logging.LogRecord) -> bool:
        if record.levelno > logging.WARNING or record.exc_info:
            return True
        now, text = time.monotonic(), str(record.msg)[:200]
        if now - self._said.get(text, -60.0) < 60:
            return False
        if len(self._said) > 100:
            self._said.clear()
        self._said[text] = now
        return True


class _OneLine(logging.Formatter):
    """What others named stays in its line, and moves no cursor of who reads the log."""

    def formatMessage(self, record: logging.LogRecord) -> str:
        line = super().formatMessage(record)
        return "".join(sign if sign.isprintable() else repr(sign)[1:-1] for sign in line)


def set_up(form: LogForm, level: str) -> None:
    """Everything that is logged goes to standard error, in one form."""
    handler = logging.StreamHandler(sys.stderr)
    handler.addFilter(_WithRequest())
    text: logging.Formatter
    if form == "json":
        text = JsonFormatter(
            ["asctime", "levelname", "name", "message", "request_id"],
            rename_fields={"asctime": "at", "levelname": "level", "name": "from"},
            datefmt="%Y-%m-%dT%H:%M:%SZ",
        )
    else:
        text = _OneLine("%(asctime)s %(levelname)s %(name)s: %(message)s", "%Y-%m-%dT%H:%M:%SZ")
    text.converter = time.gmtime
    handler.setFormatter(text)
    # strangers who send nonsense must not fill the disk with lines about it
    logging.getLogger("uvicorn.error").addFilter(_NotTooOften())
    root = logging.getLogger()
    root.handlers[:] = [handler]
    root.setLevel(level.upper())
    # these have their own ways to say every request
    for chatty in ("httpx", "httpcore", "uvicorn.access"):
        logging.getLogger(chatty).setLevel(logging.WARNING)


class Requests:
    """Middleware: gives each request its identifier, logs and measures it."""

    def __init__(self, app: ASGIApp, measures: Measures) -> None:
        self._app = app
        self._measures = measures

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        given = dict(scope["headers"]).get(b"x-request-id", b"")
        mine = given.decode() if _GIVEN.fullmatch(given) else uuid.uuid4().hex
        token = request_id.set(mine)
        began = time.perf_counter()
        status = 500

        async def send_logged(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                message["headers"] = [*message["headers"], (b"x-request-id", mine.encode())]
            await send(message)

        try:
            await self._app(scope, receive, send_logged)
        finally:
            took = time.perf_counter() - began
            self._note(scope, status, took)
            request_id.reset(token)

    def _note(self, scope: Scope, status: int, took: float) -> None:
        address = getattr(scope.get("route"), "path", "unknown")
        if scope["path"].startswith(_API) and not address.startswith(_API):
            # a route of a family knows its own part of the address only
            address = _API + address
        self._measures.request(scope["method"], address, status, took)
        waits = address.endswith(("/agent/order", "/events"))
        level = logging.DEBUG
        if status >= 500:
            level = logging.ERROR
        elif status >= 400 or (took > _SLOW and not waits):
            level = logging.INFO
        if _log.isEnabledFor(level):
            _log.log(
                level, "%s %s: %s", scope["method"], address, status,
                extra={"method": scope["method"], "route": address, "status": status,
                       "seconds": round(took, 4)},
            )  # fmt: skip
