"""Connections: how many there may be, and how long one may take to say what it wants.

Where all places are taken, the connection that has asked for nothing for longest gives way: who
only holds places keeps nobody out.
"""

from __future__ import annotations

import asyncio
import ipaddress
import logging
import time
from collections.abc import Iterable
from typing import Any

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

HEAD_SECONDS = 10.0
"""For the head of a request, from the first byte or from connecting."""
UNREAD_SECONDS = 30.0
"""That an answer may lie unread by who asked for it."""
LARGEST_HEAD = 64 * 1024
_log = logging.getLogger("phylax.service")


class ConnectionLimiter:
    """Who is connected, in all and from each address."""

    def __init__(self, most: int, most_of_address: int | None) -> None:
        """`most_of_address` is None where a proxy stands before the service: all come from it."""
        self._most = most
        self._most_of_address = most_of_address
        self._of: dict[str, set[Guarded]] = {}
        self._all = 0
        self._said_at = float("-inf")

    def enter(self, connection: Guarded) -> None:
        of_address = self._of.setdefault(connection.address, set())
        of_address.add(connection)
        self._all += 1
        if self._most_of_address is not None and len(of_address) > self._most_of_address:
            self._make_room(of_address, connection)
        elif self._all > self._most:
            self._make_room((c for some in self._of.values() for c in some), connection)

    def leave(self, connection: Guarded) -> None:
        of_address = self._of.get(connection.address, set())
        if connection in of_address:
            of_address.remove(connection)
            self._all -= 1
            if not of_address:
                del self._of[connection.address]

    def _make_room(self, among: Iterable[Guarded], newcomer: Guarded) -> None:
        idle = [c for c in among if not c.is_asking and c is not newcomer]
        ended = min(idle, key=lambda c: c.idle_since, default=newcomer)
        if time.monotonic() > self._said_at + 60:
            self._said_at = time.monotonic()
            _log.warning("all places are taken; %s gives way", ended.address)
        ended.end()

    def protocol(self) -> type[Guarded]:
        """What the server makes for each connection."""
        doors = self

        class _Guarded(Guarded):
            def __init__(self, *args: Any, **kwargs: Any) -> None:
                super().__init__(doors, *args, **kwargs)

        return _Guarded


class Guarded(HttpToolsProtocol):
    """One connection."""

    def __init__(self, doors: ConnectionLimiter, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._doors = doors
        self._head_bytes = 0
        self._head_timer: asyncio.TimerHandle | None = None
        self._unread_timer: asyncio.TimerHandle | None = None
        self.address = ""
        self.idle_since = 0.0

    @property
    def is_asking(self) -> bool:
        """Whether a request is under way."""
        return self.cycle is not None and not self.cycle.response_complete

    def end(self) -> None:
        """At once, whatever is under way."""
        self.transport.abort()

    # --- what the server calls -------------------------------------------------------------------

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self.address = network_of(self.client[0] if self.client else "")
        self.idle_since = self.loop.time()
        self._await_head()
        self._doors.enter(self)

    def connection_lost(self, exc: Exception | None) -> None:
        self._doors.leave(self)
        _cancel(self._head_timer)
        self._head_timer = None
        _cancel(self._unread_timer)
        self._unread_timer = None
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        if not self.is_asking:
            self._head_bytes += len(data)
            if self._head_timer is None:
                self._await_head()
        super().data_received(data)
        if not self.is_asking and self._head_bytes > LARGEST_HEAD:
            self.end()

    def on_headers_complete(self) -> None:
        _cancel(self._head_timer)
        self._head_timer = None
        self._head_bytes = 0
        super().on_headers_complete()

    def on_response_complete(self) -> None:
        self.idle_since = self.loop.time()
        super().on_response_complete()

    def pause_writing(self) -> None:
        self._unread_timer = self.loop.call_later(UNREAD_SECONDS, self.end)
        super().pause_writing()

    def resume_writing(self) -> None:
        _cancel(self._unread_timer)
        self._unread_timer = None
        super().resume_writing()

    def _await_head(self) -> None:
        self._head_timer = self.loop.call_later(HEAD_SECONDS, self.end)


def _cancel(timer: asyncio.TimerHandle | None) -> None:
    if timer is not None:
        timer.cancel()


def network_of(address: str) -> str:
    """What counts as one address: a household has a whole IPv6 network of 64 bits."""
    try:
        known = ipaddress.ip_address(address)
    except ValueError:
        return address
    if isinstance(known, ipaddress.IPv6Address):
        if known.ipv4_mapped is not None:
            return str(known.ipv4_mapped)
        return str(ipaddress.ip_network((int(known), 64), strict=False))
    return str(known)
