"""Wakes up waiting requests: watchers of events, and the long poll of a machine's agent."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from contextlib import suppress


class Wakeups:
    """Lives on the event loop; may be told from any thread."""

    def __init__(self) -> None:
        self._loop: asyncio.AbstractEventLoop | None = None
        self._change = asyncio.Event()
        self._machines: dict[int, asyncio.Event] = {}
        self.stopping = asyncio.Event()

    def attach(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop

    def changed(self) -> None:
        """Something was committed."""
        self._call(self._wake_watchers)

    def notify_machine(self, machine_id: int) -> None:
        """There is work for this machine."""
        self._call(lambda: self._wake_machine(machine_id))

    def stop(self) -> None:
        """Answer everyone who waits now, so that the service can stop."""
        self._call(self._wake_all)

    def _call(self, wake: Callable[[], None]) -> None:
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(wake)

    def _wake_watchers(self) -> None:
        woken, self._change = self._change, asyncio.Event()
        woken.set()

    def _wake_machine(self, machine_id: int) -> None:
        if event := self._machines.pop(machine_id, None):
            event.set()

    def _wake_all(self) -> None:
        self.stopping.set()
        self._wake_watchers()
        for machine_id in list(self._machines):
            self._wake_machine(machine_id)

    def change(self) -> asyncio.Event:
        """Set when something is committed after this call."""
        return self._change

    def event_for(self, machine_id: int) -> asyncio.Event:
        """Set when there is work for the machine after this call."""
        return self._machines.setdefault(machine_id, asyncio.Event())

    async def wait_for(self, event: asyncio.Event, seconds: float) -> None:
        await self._wait(event, seconds)

    async def wait_for_stop(self, seconds: float) -> None:
        await self._wait(self.stopping, seconds)

    async def _wait(self, event: asyncio.Event, seconds: float) -> None:
        if self.stopping.is_set():
            return
        with suppress(TimeoutError):
            await asyncio.wait_for(event.wait(), seconds)
