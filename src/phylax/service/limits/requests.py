"""What one request may ask for: its address, the size of its body, how deep it nests, how long it
takes to come. Told before anything of it is kept or looked up."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable
from contextlib import AsyncExitStack
from weakref import WeakValueDictionary

import anyio.to_thread
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from phylax.service.limits.backoff import give_way
from phylax.service.problems import Problem

LONGEST_ADDRESS = 8192
DEEPEST = 64
SMALL = 64 * 1024
"""Bytes that anybody may send; more only who is known."""
_USUAL = 2**20
_BODIES = {
    "/api/v2/sign-in": 4096,
    "/api/v2/command-line/sign-in": 4096,
    "/api/v2/agent/enrolment": 16 * 1024,
    "/api/v2/agent/messages": 16 * 2**20,
    "/api/v2/attachments": 8 * 2**20,
    "/api/v2/imports": 12 * 2**20,
    "/api/v2/imports/preview": 12 * 2**20,
}
_NO_JSON = ("/api/v2/attachments",)
"""What is not read as JSON may have as many brackets as it likes."""
_IDLE_SECONDS = 15.0
_SLOWEST = 32 * 1024
"""Bytes a second, over the whole body."""
_LARGE_AT_ONCE = 16
"""In all; of one who is known one."""
_ODD = re.compile(rb"%00|%0[ad]|[\x00-\x20\x7f]", re.IGNORECASE)
_OPENS = re.compile(rb'"(?:[^"\\]|\\.)*+(?:"|\\?\Z)|[\[{]|[\]}]', re.DOTALL)

Known = Callable[[Scope], Awaitable[bytes | None]]
"""By what somebody is known who sends a request; None: a stranger."""


def largest_body(path: str) -> int:
    """Bytes, of requests to an address."""
    return _BODIES.get(path.rstrip("/"), _USUAL)


def is_too_deep(body: bytes | bytearray) -> bool:
    """Whether arrays and objects of a JSON text are nested deeper than anything that is asked."""
    if body.count(b"[") + body.count(b"{") <= DEEPEST:
        return False
    depth = 0
    for number, match in enumerate(_OPENS.finditer(body)):
        if not number % 1000:
            give_way()
        sign = match[0]
        if sign in (b"[", b"{"):
            depth += 1
            if depth > DEEPEST:
                return True
        elif sign in (b"]", b"}"):
            depth -= 1
    return False


class Limits:
    """Middleware."""

    def __init__(self, app: ASGIApp, known: Known) -> None:
        self._app = app
        self._known = known
        self._large = asyncio.Semaphore(_LARGE_AT_ONCE)
        self._of: WeakValueDictionary[bytes, asyncio.Lock] = WeakValueDictionary()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        try:
            _check_address(scope)
            body = await self._body(scope, receive)
        except Problem as problem:
            # what is left of the body is not read: the connection ends with the answer
            problem.headers["Connection"] = "close"
            await problem.response()(scope, receive, send)
            return
        await self._app(scope, _body_first(body, receive), send)

    async def _body(self, scope: Scope, receive: Receive) -> bytes:
        """The whole body. Raises Problem, and whatever ends the request."""
        most = largest_body(scope["path"])
        declared = _declared(scope)
        if declared == 0:
            return b""
        if declared is not None and declared > most:
            raise _too_large(most)
        async with AsyncExitStack() as held:
            if most > SMALL and (declared is None or declared > SMALL):
                known = await self._known(scope)
                if known is None:
                    most = SMALL
                    if declared is not None:
                        raise _too_large(most)
                else:
                    # one who sends slowly keeps only themselves waiting
                    await held.enter_async_context(self._of.setdefault(known, asyncio.Lock()))
                    await held.enter_async_context(self._large)
            # so long as what is to come may take
            most = most if declared is None else declared
            is_json = scope["path"].rstrip("/") not in _NO_JSON
            try:
                async with asyncio.timeout(_IDLE_SECONDS + most / _SLOWEST):
                    body = await _read(receive, most, is_json)
            except TimeoutError:
                raise Problem(408, "too-slow", "The body took too long to come.") from None
            return body


def _body_first(body: bytes, receive: Receive) -> Receive:
    """The body at once; then what else the connection has to say."""
    was_given = False

    async def receive_body() -> Message:
        nonlocal was_given
        if was_given:
            return await receive()
        was_given = True
        return {"type": "http.request", "body": body, "more_body": False}

    return receive_body


async def _read(receive: Receive, most: int, is_json: bool) -> bytes:
    body = bytearray()
    while True:
        async with asyncio.timeout(_IDLE_SECONDS):
            message = await receive()
        if message["type"] != "http.request":
            raise Problem(400, "cut-off", "The request ended in the middle.")
        body += message.get("body", b"")
        if len(body) > most:
            raise _too_large(most)
        if not message.get("more_body", False):
            break
    too_deep = is_json and (
        is_too_deep(body)
        if len(body) <= SMALL
        # nobody else waits for a look at a large one
        else await anyio.to_thread.run_sync(is_too_deep, body)
    )
    if too_deep:
        raise Problem(
            400, "too-deep", f"Arrays and objects may be nested {DEEPEST} deep, not deeper."
        )
    return bytes(body)


def _declared(scope: Scope) -> int | None:
    """Bytes that are to come; None: it is not said beforehand."""
    headers = dict(scope["headers"])
    if b"transfer-encoding" in headers:
        return None
    length = headers.get(b"content-length", b"0")
    if not length.isdigit() or len(length) > 18:
        raise Problem(400, "not-understood", "Content-Length is a whole number of bytes.")
    return int(length)


def _check_address(scope: Scope) -> None:
    raw: bytes = scope.get("raw_path") or scope["path"].encode()
    if len(raw) + len(scope["query_string"]) > LONGEST_ADDRESS:
        raise Problem(
            414, "address-too-long", f"An address has up to {LONGEST_ADDRESS} characters."
        )
    if _ODD.search(raw) or b"%00" in scope["query_string"]:
        raise Problem(400, "not-understood", "The address has characters that none of ours has.")


def _too_large(most: int) -> Problem:
    return Problem(413, "too-large", f"The body may have up to {most} bytes.")
